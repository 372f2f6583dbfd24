#!/usr/bin/env bash
# Makes the pictures in docs/screenshots/: each main command in a terminal window of 1280x800, on the demo application.
# Needs xvfb, xterm, imagemagick, x11-utils, fonts-dejavu-core, faketime and chromium.
set -eu
cd "$(dirname "$0")/.."
for program in Xvfb xterm import xdpyinfo; do
  command -v "$program" >/dev/null || { echo "missing: $program (xvfb xterm imagemagick x11-utils)" >&2; exit 1; }
done
cargo build --release --quiet
out=$PWD/docs/screenshots
mkdir -p "$out"
bin=$PWD/target/release
# The pictures show the paths an administrator would use, not those of a temporary folder.
place=/srv/skerry-line
[ ! -e "$place" ] || { echo "$place is there already" >&2; exit 1; }
work=$place
mkdir -p "$work/desk"
ln -s "$bin/gullet" "$work/quaybook"
export DISPLAY=:91 PATH="$bin:$place:$PATH" TZ=UTC
Xvfb :91 -screen 0 1280x800x24 -nolisten tcp >/dev/null 2>&1 & xvfb=$!
quaybook --desk "$place/desk" serve --operators 6 & desk=$!
cleanup() {
  kill $xvfb $desk 2>/dev/null || true
  "$place/quaybook" --desk "$place/desk" stop >/dev/null 2>&1 || true
  rm -rf "$work"
}
trap cleanup EXIT
until xdpyinfo >/dev/null 2>&1; do sleep 0.05; done
sleep 2
sed -e "s|@QUAYBOOK@|$place/quaybook|g; s|@STATE@|$place/state|; s|@DEPOT@|$place/depot|; s|@DESK@|$place/desk|g" crates/gullet/src/demo.toml > "$work/gullet.toml"
cd "$place"

# shot NAME COMMAND [FONT COLUMNS ROWS]: runs the command in a terminal and takes its picture.
shot() {
  local font=${3:-11} columns=${4:-140} rows=${5:-41}
  printf '%s\n' "printf '\$ %s\n' \"$2\"; $2; touch $work/done; sleep 30" > "$work/script"
  rm -f "$work/done"
  xterm -b 4 -bw 0 -geometry ${columns}x${rows}+0+0 +sb -fa 'DejaVu Sans Mono' -fs $font -bg '#101418' -fg '#d8dee4' -e bash "$work/script" & local term=$!
  for _ in $(seq 600); do [ -e "$work/done" ] && break; sleep 0.05; done
  sleep 0.5
  import -window root "$out/$1.png"
  kill $term; wait $term 2>/dev/null || true
}

gullet store new depot >/dev/null
shot preflight "gullet preflight"
shot hold "gullet hold quaybook --limit 2m; gullet release; gullet release quaybook; gullet release"
shot plan "gullet plan quaybook --part bookings" 9 178 53
shot run "gullet run quaybook --reason 'before the 4.2 upgrade'"
quaybook --desk desk misbehave lie
shot run-failed "gullet run quaybook"
quaybook --desk desk misbehave refuse-resume
shot run-not-released "gullet run quaybook --unattended"
quaybook --desk desk misbehave none; quaybook --desk desk resume >/dev/null
# Its guard tries again at growing intervals, and lets go when it finds the desk serving.
for _ in $(seq 150); do gullet release | grep -q "nothing is held" && break; sleep 0.2; done
gullet run quaybook --quiet >/dev/null
gullet run quaybook --part bookings --reason 'a look at the bookings' --quiet >/dev/null
shot runs "gullet runs"
shot show "gullet show quaybook@latest --color always | head -50" 9 178 53
# A second copy, in a definition of its own so that the other pictures stay without.
sed "s|^location *= *\"$place/depot\"|&\ncopies = [\"far\"]|" gullet.toml > copies.toml
printf '\n[store.far]\nlocation = "%s/far"\n' "$place" >> copies.toml
export GULLET_DEFINITION=$place/copies.toml
shot restore "gullet verify; gullet store copy depot; gullet verify --store far --quick; gullet restore quaybook@latest --store far --into restored"
unset GULLET_DEFINITION
shot drill "gullet drill quaybook; gullet compare $(gullet runs --json | grep -o '"run": *"[^"]*"' | head -1 | cut -d'"' -f4) quaybook@latest --part till --part ledger-inner-isles; gullet trace $place/desk/manifests/index.json; gullet status" 8 180 57
touch desk/manifests/draft.tmp; echo 'new' > desk/manifests/late.list
shot place "gullet restore quaybook --in-place --yes" 8 180 57
gullet restore quaybook --discard-old --yes >/dev/null 2>&1
# A second definition, encrypted to a key of its own.
gullet key new other.key >/dev/null 2>&1
key=$(gullet key show other.key --json | grep -o 'age1[0-9a-z]*')
sed "s|^location = .*|location = \"$place/sealed\"\nencrypt_to = [\"$key\"]|; s|^state = .*|state = \"$place/other\"|" gullet.toml > sealed.toml
gullet --definition sealed.toml store new depot --quiet >/dev/null
gullet --definition sealed.toml run quaybook --quiet >/dev/null
shot keys "gullet key new safe.key; gullet key show safe.key; gullet key test --store sealed --identity other.key; gullet key test --store sealed --identity safe.key"
first=$(gullet runs --json | grep -o '"run": *"[^"]*"' | head -1 | cut -d'"' -f4)
shot thin "gullet thin --run $first --reason 'before the upgrade'; gullet thin --run $first --reason 'before the upgrade' --yes; gullet store sweep depot; gullet runs"
# Every night by itself: three applications, one of them late.
cat gullet.toml - > nightly.toml <<NIGHTLY
[[app.quaybook.schedule]]
name = "nightly"
every = "day"
at = "01:30"
zone = "Europe/Lisbon"
not_on = ["01-01"]
finish_by = "05:00"
[[app.quaybook.schedule]]
name = "bookings"
cron = "0 8-18/2 * * mon-fri"
zone = "Europe/Lisbon"
parts = ["bookings"]
[app.quaybook.keep]
newest = 2
one_a_week_for = "3m"
[app.archive]
title = "Skerry Line archive"
no_hold = "nothing writes to it"
[[app.archive.part]]
name = "papers"
files = ["$place/desk/manifests"]
[[app.archive.schedule]]
name = "weekly"
every = "week"
on = "sun"
at = ["01:15", "01:45"]
zone = "Europe/Lisbon"
[[report]]
name = "morning"
every = "day"
at = "07:00"
zone = "Europe/Lisbon"
to = ["office"]
[notify.office]
run = ["tee", "-a", "$place/office"]
[app.charts]
title = "Skerry Line charts"
no_hold = "nothing writes to it"
[[app.charts.part]]
name = "charts"
files = ["$place/desk/manifests"]
NIGHTLY
gullet --definition nightly.toml run archive --quiet >/dev/null
export GULLET_DEFINITION=$place/nightly.toml
faketime -f "-2d" gullet due
shot agenda "gullet agenda --from 2027-03-26T12:00:00Z --until 2027-03-29T12:00:00Z; gullet due; gullet status; gullet thin quaybook; gullet agenda quaybook --simulate 1y" 8 180 57
shot status "gullet status; gullet notify --report morning --preview | head -42" 8 180 57
unset GULLET_DEFINITION
sed -e 's/^entered  = /enterd   = /; s/limit = "10s", tries/limit = "10 sec", tries/; s/required = true/required = "yes"/' gullet.toml > wrong.toml
shot definition-errors "gullet plan quaybook --definition wrong.toml"
# Six weeks of nights, some of them bad, for the report.
sed "s|^state = .*|state = \"$place/days-state\"|; s|^location *=.*|location = \"$place/days\"|" gullet.toml > days.toml
gullet --definition days.toml store new depot --quiet >/dev/null
for day in $(seq 42 -1 1); do
  case $day in 30 | 17) quaybook --desk desk misbehave lie ;; esac
  case $day in 23) ;; *) faketime -f "-${day}d" gullet --definition days.toml run quaybook --quiet --unattended >/dev/null 2>&1 || true ;; esac
  quaybook --desk desk misbehave none
done
gullet --definition days.toml verify --quiet >/dev/null
gullet --definition days.toml drill quaybook --quiet >/dev/null
gullet --definition days.toml report --from "$(date -d '-90 days' +%F)" --out report.html --quiet
chromium --headless=new --no-sandbox --disable-gpu --hide-scrollbars --user-data-dir="$place/chromium" --window-size=1280,1250 --screenshot="$out/report.png" "file://$place/report.html" >/dev/null 2>&1
shot new "gullet new --recipes; gullet new orders --recipe mariadb; head -34 orders.toml" 8 180 57
shot tour "gullet tour" 8 180 57
