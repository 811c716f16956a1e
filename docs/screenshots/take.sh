#!/bin/sh
# Takes the pictures of docs/screenshots anew from the demo's data. Needs
# Chromium for the console, and for the terminal Xvfb, xterm and ImageMagick
# (Debian: apt-get install chromium xvfb xterm imagemagick).
set -eu
cd "$(dirname "$0")/../.."
bin=$PWD/bin/agonometer
data=${AGONOMETER_SHOTS_DATA:-$(mktemp -d)}
[ -f "$data/records.sqlite" ] || "$bin" demo --once --listen 127.0.0.1:0 --data "$data"
"$bin" serve --data "$data" --listen 127.0.0.1:0 > "$data/serve.log" 2>&1 &
service=$!
trap 'kill $service 2>/dev/null; wait $service 2>/dev/null || true' EXIT
while ! grep -q sign-in "$data/serve.log"; do sleep 0.1; done
"$bin" task prove "$data"/demo/tasks/*.md --data "$data" > "$data/proving.txt" 2>/dev/null
for c in dunlin knot ruff; do "$bin" contender check $c --no-trial --data "$data" > /dev/null 2>&1 || true; done
# A bout by hand in the middle of its work.
sed '/^guidance:/d' "$data/demo/ways/ruff.yaml" > "$data/panel.yaml"
hand=$("$bin" hand start --task "$data/demo/tasks/ledger.md" --contender "$data/panel.yaml" --worker 'the lamp warden' --familiarity 'first week' --only-prepare --format json --data "$data")
hand_id=$(printf '%s' "$hand" | grep -o '"id": *"[0-9A-Z]*"' | head -n 1 | cut -d'"' -f4)
folder=$(printf '%s' "$hand" | grep -o '"workspace": *"[^"]*"' | cut -d'"' -f4)
"$bin" hand begin "$hand_id" --data "$data" > /dev/null
git -C "$folder" apply "$PWD/demo/playbooks/ledger/hasty.patch"
"$bin" hand mark "$hand_id" permission --data "$data" > /dev/null
"$bin" hand mark "$hand_id" correction hint --words 'Look at how old logs grow' --data "$data" > /dev/null
"$bin" hand show "$hand_id" --data "$data" > "$data/hand.txt"
go run ./internal/shots -link "$(grep -o 'http.*sign-in#.*' "$data/serve.log")" -out docs/screenshots

export AGONOMETER_DATA=$data
if command -v Xvfb >/dev/null && command -v xterm >/dev/null && command -v import >/dev/null; then
  Xvfb :97 -screen 0 1280x800x24 >/dev/null 2>&1 &
  screen=$!
  trap 'kill $screen $service 2>/dev/null; wait $service 2>/dev/null || true' EXIT
  sleep 1
  shoot() { # name, command, what to show for it (default: the command)
    DISPLAY=:97 xterm -geometry 159x46+0+0 -fa 'DejaVu Sans Mono' -fs 10 -bg '#0e181c' -fg '#e6eceb' -e sh -c "printf '\$ %s\n' \"${3:-$2}\"; $2; sleep 30" &
    term=$!
    sleep 2.5
    for _ in 1 2 3 4 5; do # a busy machine takes its time to open the first window
      DISPLAY=:97 import -window root "docs/screenshots/$1.png"
      [ "$(wc -c < "docs/screenshots/$1.png")" -lt 10000 ] || break
      sleep 2
    done
    kill $term; wait $term 2>/dev/null || true
  }
  PATH=$(dirname "$bin"):$PATH
  export PATH
  shoot terminal-standings 'agonometer contest standings port-averil; agonometer contest standings ways | head -n 24'
  shoot terminal-ledger 'agonometer contest ledger port-averil; echo; agonometer bout ledger $(agonometer bout list --task ledger --contender whimbrel --contest port-averil --format csv | tail -n 1 | cut -d, -f1)' 'agonometer contest ledger port-averil; agonometer bout ledger BOUT'
  shoot terminal-proving "cat $data/proving.txt" "agonometer task prove demo/tasks/*.md"
  shoot terminal-hand "agonometer contest settings ways; echo; cat $data/hand.txt" "agonometer contest settings ways; agonometer hand show BOUT"
  bout=$("$bin" bout list --task squat --contender sanderling --format csv | grep failed | head -n 1 | cut -d, -f1)
  shoot terminal-bout "agonometer bout show $bout | head -n 44"
  bout=$("$bin" bout list --task ledger --contender sanderling --contest port-averil --format csv | tail -n 1 | cut -d, -f1)
  shoot terminal-measures "agonometer bout measures $bout; echo; agonometer contest standings port-averil --columns edits | tail -n 7" "agonometer bout measures BOUT; agonometer contest standings port-averil --columns edits"
else
  echo "Xvfb, xterm or ImageMagick is missing: the pictures of the terminal were not taken." >&2
fi
