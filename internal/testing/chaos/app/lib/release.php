<?php const RELEASE = 'RELEASE-HERE';
