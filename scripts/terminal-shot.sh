#!/usr/bin/env bash
# Takes a picture of commands in a terminal window of 1280x800:
#   scripts/terminal-shot.sh OUT.png 'eastporch kind ::1' 'eastporch version'
# Wants Debian's xvfb, xterm and imagemagick, and eastporch in bin/.
set -euo pipefail
out=$1
shift
work=$(mktemp -d)
trap 'kill "${term:-}" "${server:-}" 2>/dev/null || true; rm -rf "$work"' EXIT
export PATH="$PWD/bin:$PATH"
Xvfb -displayfd 3 -screen 0 1280x800x24 -nolisten tcp 3>"$work/display" 2>/dev/null &
server=$!
for _ in $(seq 50); do [ -s "$work/display" ] && break; sleep 0.1; done
DISPLAY=:$(cat "$work/display")
export DISPLAY
for command in "$@"; do
  printf '\033[1m$ %s\033[0m\n' "$command"
  bash -c "$command" 2>&1 || true
  echo
done >"$work/text"
xterm -geometry 158x48+0+0 -fa 'DejaVu Sans Mono' -fs 10 -bg '#FCFCF9' -fg '#15262C' -b 12 +sb -e "tput civis; cat '$work/text'; touch '$work/drawn'; sleep 30" &
term=$!
for _ in $(seq 50); do [ -e "$work/drawn" ] && break; sleep 0.1; done
sleep 0.5
import -window root "$out"
