#!/bin/sh
# Runs every test. On Debian, as root, it first installs the servers that the
# tests use; elsewhere tests whose servers are missing are skipped, and named
# at the end. With TIVSET_TEST_REQUIRE_SERVERS set nothing may be skipped.
set -eu
cd "$(dirname "$0")/.."

packages="mariadb-server postgresql openssh-server proftpd-core proftpd-mod-crypto dovecot-imapd nginx apache2 jq
	php-fpm php-cli php-mysql php-pgsql php-sqlite3 php-mbstring php-intl php-xml php-curl php-gd php-zip chromium"

missing() {
	for p in $packages; do
		dpkg-query -W -f '${Status}\n' "$p" 2>/dev/null | grep -q '^install ok installed$' || echo "$p"
	done
}

# The lists of packages are needed to fetch the source package of a real app.
if command -v apt-get >/dev/null && [ "$(id -u)" = 0 ] && ! ls /var/lib/apt/lists/*Packages* >/dev/null 2>&1; then
	apt-get update -q >/dev/null
fi

if command -v dpkg-query >/dev/null && [ "$(id -u)" = 0 ] && [ -n "$(missing)" ]; then
	echo "Installing the servers that the tests use: $(missing | tr '\n' ' ')"
	# The instances of the packages themselves are neither started nor used.
	policy=/usr/sbin/policy-rc.d
	made=
	if [ ! -e "$policy" ]; then
		printf '#!/bin/sh\nexit 101\n' >"$policy"
		chmod 755 "$policy"
		made=yes
	fi
	apt-get update -q >/dev/null
	DEBIAN_FRONTEND=noninteractive apt-get install -qy --no-install-recommends $(missing) >/dev/null
	if [ -n "$made" ]; then rm -f "$policy"; fi
fi

# Most of what tests do is to write small files and to wait until they are on the disk: in memory that takes half the
# time, where there is enough of it.
room=$(df -Pk /dev/shm 2>/dev/null | awk 'NR == 2 {print $4}')
if [ -z "${TMPDIR:-}" ] && [ "${room:-0}" -gt 8000000 ]; then
	TMPDIR=$(mktemp -d /dev/shm/tvt.XXXXXX)
	chmod 1777 "$TMPDIR"
	trap 'rm -rf "$TMPDIR"' EXIT INT TERM
	printf '#!/bin/sh\n' >"$TMPDIR/x"
	chmod 755 "$TMPDIR/x"
	if "$TMPDIR/x" 2>/dev/null; then export TMPDIR; else unset TMPDIR; fi # programs are started there
fi

out=$(mktemp)
status=0
CGO_ENABLED=0 go vet ./...
# The longest come first, so that the short ones fill the gaps beside them.
CGO_ENABLED=0 go test -p 4 -count=1 -timeout 20m -v ./kits ./e2e ./internal/work/... ./... >"$out" 2>&1 || status=$?
# The whole of a failure, the closing line of everything else.
if [ "$status" != 0 ]; then
	grep -v -e '^=== ' -e '^    --- PASS' -e '^--- PASS' "$out" | cut -c1-400
fi
grep -E '^(ok|FAIL|---) ' "$out" | grep -v -e '^--- PASS' -e '^--- SKIP' | cut -c1-200
skipped=$(grep -c -e '--- SKIP' "$out" || true)
passed=$(grep -c -e '--- PASS' "$out" || true)
failed=$(grep -c -e '--- FAIL' "$out" || true)
if [ "$skipped" != 0 ]; then
	echo "Skipped, with the reason above each:"
	grep -B3 -e '--- SKIP' "$out" | grep -v '^=== '
	if [ -n "${TIVSET_TEST_REQUIRE_SERVERS:-}" ]; then status=1; fi
fi
rm -f "$out"
echo "$passed passed, $failed failed, $skipped skipped"
exit "$status"
