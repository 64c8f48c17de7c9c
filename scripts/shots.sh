#!/bin/sh
# Makes docs/screenshots from the demo: terminals in a window under Xvfb, pages
# in headless Chromium. Needs xvfb, xterm, xdotool, imagemagick, chromium, fonts-dejavu.
set -eu
cd "$(dirname "$0")/.."
for tool in Xvfb xterm xdotool import chromium; do
	command -v "$tool" >/dev/null || { echo "$tool is missing; on Debian: apt-get install xvfb xterm xdotool imagemagick chromium fonts-dejavu"; exit 1; }
done

out=$PWD/docs/screenshots
work=$(mktemp -d)
mkdir -p "$out"
rm -rf /tmp/tivset-demo
export TIVSET_HOME=/tmp/tivset-demo PATH="$PWD/bin:$PATH" DISPLAY=:97
tivset demo --json >"$work/ready" &
demo=$!
Xvfb :97 -screen 0 1280x800x24 -nolisten tcp >/dev/null 2>&1 &
screen=$!
trap 'kill $demo $screen 2>/dev/null || true; rm -rf "$work" /tmp/tivset-demo' EXIT
while [ ! -s "$work/ready" ]; do sleep 0.1; done
sleep 1
url() { sed 's/.*"name":"'"$1"'","url":"\([^"]*\)".*/\1/' "$work/ready"; }

# shot NAME SECONDS COMMAND...: what a terminal shows after the commands.
shot() {
	name=$1 wait=$2
	shift 2
	{
		echo 'export PS1='
		for line in "$@"; do
			printf 'printf "\\033[1;34m$\\033[0m %%s\\n" %s\n' "'$(printf %s "$line" | sed "s/'/'\\\\''/g")'"
			printf '%s\necho\n' "$line"
		done
		echo 'sleep 60'
	} >"$work/run.sh"
	xterm -fa 'DejaVu Sans Mono' -fs "10" -geometry "152x46+0+0" -b 14 -bg '#101418' -fg '#dfe5ea' +sb -title tivset -e sh "$work/run.sh" &
	terminal=$!
	sleep "$wait"
	import -window "$(xdotool search --name "^tivset$" | tail -1)" "$out/$name.png"
	kill $terminal 2>/dev/null || true
	wait $terminal 2>/dev/null || true
}

# talk NAME COMMAND LINE...: a conversation; each line is typed and entered.
talk() {
	name=$1 command=$2
	shift 2
	printf 'printf "\\033[1;34m$\\033[0m %%s\\n" "%s"\n%s\nsleep 60\n' "$command" "$command" >"$work/run.sh"
	xterm -fa 'DejaVu Sans Mono' -fs "10" -geometry "152x46+0+0" -b 14 -bg '#101418' -fg '#dfe5ea' +sb -title tivset -e sh "$work/run.sh" &
	terminal=$!
	sleep 1.5
	for line in "$@"; do
		xdotool type --delay 15 "$line"
		xdotool key Return
		sleep 0.4
	done
	sleep 1
	import -window "$(xdotool search --name "^tivset$" | tail -1)" "$out/$name.png"
	kill $terminal 2>/dev/null || true
	wait $terminal 2>/dev/null || true
}

page() {
	chromium --headless --no-sandbox --disable-gpu --disable-quic --no-first-run --disable-background-networking --disable-component-update \
		--disable-sync --hide-scrollbars --user-data-dir="$work/chromium" --window-size=1280,800 --screenshot="$out/$1.png" ${3:-} "$2" >/dev/null 2>&1
}

forum='tivset install willowbench --at lockside.localhost/forum -a title="Lockside Talk" \
    -a subtitle="For those who keep the locks" -a admin.name=wharfinger \
    -a admin.email=wharfinger@lockside.localhost --accept-licence'

shot browse 2 'tivset' 'tivset browse' 'tivset about willowbench'
shot refused 2 'tivset install willowbenc --at lockside.localhots/Forum --yes' \
	'tivset install willowbench --at lockside.localhost/forum -a titel=Talk -a admin.name=admin -a admin.password=secret12 --yes' \
	'tivset install inkreach --at quillmere.localhost -a title="Front page" -a admin.email=editor@quillmere.localhost --yes'
talk conversation 'tivset install' forum 2/forum wharfinger@lockside wharfinger@lockside.localhost 'Lockside Talk' yes '?8'
rm -f "$TIVSET_HOME/state/begun.yaml"
talk agree 'tivset install slateroom --at slate-school.localhost/classes' head@slate-school.localhost 'Slate School' more
talk set-aside 'tivset install lampshelf' 1/ yes quillmere.localhost editor@quillmere.localhost 'Quillmere in Pictures' 2 keeper-of-light
rm -f "$TIVSET_HOME/state/begun.yaml"
shot install 5 "$forum --yes"
tivset install inkreach --release 1.3.2 --at quillmere.localhost/journal -a title="The Quillmere Journal" -a subtitle="News from the cut" \
	-a admin.email=editor@quillmere.localhost --yes --quiet >/dev/null
shot rehearsal 6 'tivset update journal --rehearse --yes'
tivset install pennywharf --at chandlery.localhost -a title="Rope & Paint" -a subtitle="All that a boat wants" -a extra.sample=yes \
	-a currency=GBP -a admin.email=clerk@chandlery.localhost --accept-licence --yes --quiet >/dev/null
tivset install slateroom --at slate-school.localhost -a title="Slate School" -a subtitle="Evening classes by the lock" -a extra.languages="de, nl" \
	-a admin.email=head@slate-school.localhost -a support.email=desk@slate-school.localhost --yes --quiet >/dev/null
shot sites 2 'tivset sites' 'tivset show forum' 'tivset jobs'
tivset install towline --release 2.0.1 --at lockside.localhost/help -a title="Help Afloat" -a admin.email=w@lockside.localhost --accept-licence --yes --quiet >/dev/null
shot put-back 4 'tivset update help --yes'
tivset care help --accepts features --after 0d --rehearse from-fixes --quiet >/dev/null
shot maintain 8 'tivset care help' 'tivset maintain --now --dry-run' 'tivset maintain --now' 'tivset maintain --now' 'tivset sites'
journal=/tmp/tivset-demo/demo/account/web/quillmere/journal
echo '<!-- a word of mine -->' >>$journal/post.page
echo '<?php // a stranger' >$journal/parts/cache.php
shot check 3 'tivset check journal' 'tivset check journal --repair'
rm $journal/parts/cache.php
tivset copy journal --at chandlery.localhost/try --yes --quiet >/dev/null
shot remove 4 'tivset sites --sort app' 'tivset remove try --yes'
tivset copy journal --at chandlery.localhost/try --yes --quiet >/dev/null
tivset remove try --yes --quiet >/dev/null
state() { sed 's/.*"'"$1"'":"\{0,1\}\([^",}]*\).*/\1/' /tmp/tivset-demo/demo/state.json; }
word=$(state password)
cat >"$work/welcome.txt" <<MAIL
Welcome to your new web space!

Your domain: lockside.localhost

SFTP access
Server: 127.0.0.1:$(state SSH)
User: quill
Password: $word

MySQL database
Host: 127.0.0.1:$(state Database)
User: root
Password: $word

Outgoing mail (SMTP): 127.0.0.1:$(state Mail)
MAIL
cd "$work"
talk account-add 'tivset account add laptop --from-mail welcome.txt' y "$(url lockside.localhost)" "127.0.0.1:$(state Web)"
cd - >/dev/null
# An app that does not show what its kit looks for: the install is undone.
kit=/tmp/tivset-demo/demo/catalogue/inkreach/kit.yaml
cp "$kit" "$work/kit.yaml"
sed -i 's/written with Inkreach/nothing of the kind/' "$kit"
shot undone 12 'tivset install inkreach --at lockside.localhost/news -a title="News" -a admin.email=editor@quillmere.localhost --yes'
cp "$work/kit.yaml" "$kit"
tivset handover forum --into "$work/handover.html" >/dev/null
page handover "file://$work/handover.html"
page forum "$(url lockside.localhost)/forum/"
{ printf 'number;at;seats\n'; for n in 1 2 3 4 5 6; do printf '%s;slate-school.localhost/class-{number};%s\n' $n $((n == 4 ? 4000 : 12 + n)); done; } >"$work/course.csv"
cd "$work"
shot course 11 "tivset install slateroom --table course.csv -a title='Class {number}' -a admin.email=head@slate-school.localhost --yes" 'tivset find'
cd - >/dev/null
tivset report --into "$work/report.html" >/dev/null
page report "file://$work/report.html"
page report-dark "file://$work/report.html" --blink-settings=preferredColorScheme=0
