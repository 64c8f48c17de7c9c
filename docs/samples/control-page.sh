#!/bin/sh
# What a host's control page calls: orders an install for a customer, waits until it has ended, and
# prints one JSON document for the page. Needs jq.
#
#   control-page.sh APP ADDRESS TITLE E-MAIL
set -eu
app=$1 address=$2 title=$3 email=$4

# What is wrong with the request is said at once, before anything is on the queue.
if ! refused=$(tivset install "$app" --at "$address" -a title="$title" -a admin.email="$email" --accept-licence \
	--dry-run --json); then
	printf '%s\n' "$refused" | jq -c '{ok: false, problems: ([.problems[]? | .id + ": " + .what] + [.error.what])}'
	exit 2
fi

number=$(tivset install "$app" --at "$address" -a title="$title" -a admin.email="$email" --accept-licence \
	--yes --queue --json | jq .number)

# The exit code is that of the order: 0 done, 1 failed and undone, 4 something is left.
code=0
order=$(tivset jobs --follow "$number" --json) || code=$?
printf '%s\n' "$order" | jq -c --argjson code "$code" '{ok: ($code == 0), number: .number, url: .result.document.site.url,
	admin_url: .result.document.site.admin_url, problem: .result.document.error.what}'
exit "$code"
