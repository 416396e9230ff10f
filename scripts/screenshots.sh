#!/usr/bin/env bash
# Takes the pictures in docs/screenshots: every main command on the demo's machine, in a real
# terminal of 1280x800, and the ticket in a browser. Needs xvfb, xterm, imagemagick, chromium.
set -euo pipefail
cd "$(dirname "$0")/.."
cargo build --release --quiet
stubble=$PWD/target/release/stubble
shots=$PWD/docs/screenshots
work=$(mktemp -d)
trap 'kill "${xvfb:-}" 2>/dev/null || true; rm -rf "$work"' EXIT
cd "$work"

Xvfb :97 -screen 0 1280x800x24 -nolisten tcp >/dev/null 2>&1 &
xvfb=$!
export DISPLAY=:97
sleep 1

# shot NAME COMMAND: runs the command as typed at a prompt and takes a picture of the terminal.
shot() {
  local name=$1
  shift
  printf '#!/bin/bash\nexport COLUMNS=112\nprintf "\\033[?25l\\033[1;36m$ %s\\033[0m\\n"\n{ %s; } 2>&1 | head -n %s\ntouch %s/ready\nsleep 30\n' \
    "${*//\"/\\\"}" "$*" "40" "$work" > shot.sh
  chmod +x shot.sh
  rm -f ready
  PATH="$(dirname "$stubble"):$PATH" CLICOLOR_FORCE=1 xterm -fa "DejaVu Sans Mono" -fs 11 -geometry 142x42+0+0 \
    -bg "#1b1e19" -fg "#dddccd" -e ./shot.sh &
  local terminal=$!
  for _ in $(seq 100); do [ -f ready ] && break; sleep 0.1; done
  sleep 0.7
  import -window root "$shots/$name.png"
  kill "$terminal" 2>/dev/null || true
  wait "$terminal" 2>/dev/null || true
}

"$stubble" demo --broken-only --keep . >/dev/null
shot open 'stubble open "scale desk" --on bench:bench'
shot install-refused 'stubble install --yes'
shot diagnose 'stubble diagnose'
shot check 'stubble check'
shot payload 'stubble payload'
shot trace 'stubble trace'
shot why 'stubble why "{B4E8F6D2-1A3C-4957-8E0D-6F2B7A9C4D13}"'
shot plan 'stubble plan'
shot capture 'stubble capture; stubble open "scale desk" --on capture:WEIGH-03.capture --case picture; stubble --case picture trace'
shot loans 'stubble borrow network startup --yes; stubble loans; stubble giveback --yes'
shot restart 'stubble clear --yes | tail -n 14; stubble restart --yes; stubble resume --yes | tail -n 14'
"$stubble" putback --yes >/dev/null
rm -rf bench stubble-case && "$stubble" demo --broken-only --keep . >/dev/null
"$stubble" open "scale desk" --on bench:bench >/dev/null
"$stubble" plan >/dev/null
"$stubble" plan --take s01 >/dev/null
shot clear 'stubble clear --yes'
shot compare 'stubble compare before-clear'
shot putback 'stubble putback --yes'
"$stubble" clear --yes >/dev/null
shot install 'stubble install --yes'
shot confirm 'stubble confirm --start'
"$stubble" footprint record before-install now --out desk.toml >/dev/null
shot footprint 'stubble footprint show desk.toml; echo; stubble footprint compare desk.toml'
"$stubble" report >/dev/null
chromium --headless --no-sandbox --disable-gpu --hide-scrollbars --no-first-run --disable-background-networking \
  --user-data-dir="$work/browser" --window-size=1280,800 --screenshot="$shots/ticket.png" \
  "file://$work/stubble-case/report.html" >/dev/null 2>&1
shot demo 'stubble demo --keep demo'
ls -l "$shots"
