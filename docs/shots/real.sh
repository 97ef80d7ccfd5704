#!/usr/bin/env bash
# Takes the pictures of real machines from a story that stays up:
#   bin/demo real --stay | tee story.log      and, when it stays:
#   docs/shots/real.sh http://127.0.0.1:PORT story.log
# Wants xvfb, xterm and imagemagick.
set -euo pipefail
cd "$(dirname "${BASH_SOURCE[0]}")/../.."
out=docs/screenshots
go run ./docs/shots -url "$1" -out "$out" site-real=/sites/dry-dock host-real=/hosts/do-001
STORY=$2 PICTURE=$out/terminal-real.png xvfb-run -a -s '-screen 0 1280x800x24' bash -c '
  xterm -geometry 140x42+0+0 -fa "DejaVu Sans Mono" -fs 11 -bg "#12181a" -fg "#e6eeee" -e bash -c "sed -n \"/^6\\. /,\\\$p\" \"$STORY\" | cut -c1-139 | head -41; sleep 60" &
  sleep 4
  import -window root "$PICTURE"
  kill $! 2>/dev/null || true'
