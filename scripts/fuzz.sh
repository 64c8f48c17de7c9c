#!/bin/sh
# Runs every fuzz test for a while, one after the other.
set -eu
cd "$(dirname "$0")/.."
status=0
for file in $(git ls-files '*_test.go' | xargs grep -l '^func Fuzz'); do
	for test in $(sed -n 's/^func \(Fuzz[A-Za-z0-9_]*\)(.*/\1/p' "$file"); do
		echo "== $test in $(dirname "$file")"
		go test -run '^$' -fuzz "^$test\$" -fuzztime "${1:-30s}" "./$(dirname "$file")" || status=1
	done
done
exit "$status"
