<?php
mysqli_report(MYSQLI_REPORT_ERROR | MYSQLI_REPORT_STRICT);
require __DIR__ . '/../config.php';
require __DIR__ . '/release.php';
[$host, $port] = explode(':', $settings['server'] . ':3306');
$db = new mysqli($host, $settings['user'], $settings['password'], $settings['name'], (int) $port);
$db->set_charset('utf8mb4');
