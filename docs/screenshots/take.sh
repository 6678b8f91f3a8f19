#!/bin/sh
# Take one picture of a command's output in a terminal window of 1280x800:
#   docs/screenshots/take.sh OUT.png FIRST_LINE COMMAND...
# Needs xvfb, xterm, imagemagick and fonts-dejavu from Debian.
set -eu
out=$1; first=$2; shift 2
text=$(mktemp)
FORCE_COLOR=1 COLUMNS=${COLUMNS:-104} "$@" > "$text" 2>/dev/null || true
display=:$((90 + $$ % 100))
Xvfb "$display" -screen 0 1280x800x24 >/dev/null 2>&1 & server=$!
sleep 1
DISPLAY=$display xterm -fa 'DejaVu Sans Mono' -fs 11 -geometry 140x45+0+0 -bg '#101418' -fg '#d8dee4' -b 12 +sb \
    -e sh -c "printf '\033[?25l'; tail -n +$first '$text' | head -n 42; sleep 20" & window=$!
sleep 2
import -display "$display" -window root "$out"
kill "$window" "$server"
rm -f "$text"
