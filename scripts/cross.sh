#!/bin/sh
# Compiles the program and its tests for every system, and vets them; nothing is run.
set -eu
cd "$(dirname "$0")/.."
status=0
for target in ${*:-linux/arm64 linux/386 darwin/amd64 darwin/arm64 windows/amd64 windows/arm64 freebsd/amd64}; do
	echo "== $target"
	GOOS="${target%/*}" GOARCH="${target#*/}" CGO_ENABLED=0 go vet ./... || status=1
done
exit "$status"
