#!/bin/sh
# Measures what the README states. Needs MariaDB (make test installs it).
set -eu
cd "$(dirname "$0")/.."
CGO_ENABLED=0 go test -tags bench -count=1 -timeout 20m ./bench -v | grep -v -e '^=== ' -e '^--- PASS' -e '^PASS'
