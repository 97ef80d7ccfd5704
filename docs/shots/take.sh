#!/usr/bin/env bash
# Takes the pictures of docs/screenshots from the running demo, a fresh one
# (make demo-reset, make demo). It activates a version and rolls a pool over.
# Wants xvfb, xterm and imagemagick.
set -euo pipefail
cd "$(dirname "${BASH_SOURCE[0]}")/../.."
out=${1:-docs/screenshots}
url=http://127.0.0.1:7700
export NIMBLEPANE_CONFIG=$(mktemp -d)/pane.yaml
pane() { bin/pane "$@"; }
as() { echo saltmarsh-demo | pane sign-in $url --name "$1" >/dev/null; }

# terminal NAME SECONDS COMMAND...: a picture of a terminal window in which the commands ran.
terminal() {
  local name=$1 seconds=$2 script
  shift 2
  script=$(mktemp)
  {
    echo "PATH=$PWD/bin:\$PATH"
    for c in "$@"; do printf 'echo -e "\\e[1m\$ %s\\e[0m"\n%s\necho\n' "$c" "$c"; done
    echo 'sleep 60'
  } >"$script"
  PICTURE=$out/$name.png SCRIPT=$script SECONDS_SHOWN=$seconds xvfb-run -a -s '-screen 0 1280x800x24' bash -c '
    xterm -geometry 140x42+0+0 -fa "DejaVu Sans Mono" -fs 11 -bg "#12181a" -fg "#e6eeee" -e bash "$SCRIPT" &
    sleep "$SECONDS_SHOWN"
    import -window root "$PICTURE"
    kill $! 2>/dev/null || true'
  rm -f "$script"
}

as mira
go run ./docs/shots -out "$out" today=/ image=/images/counter-desk version=/images/counter-desk/versions/2026.11.3 hosts=/hosts pools=/pools bases=/bases build=/builds/6 builds=/builds sheet=/sheets/counter-desk compare=/images/counter-desk/compare/2026.11.3 build-machine=/build-machines/south-quay/build-8
terminal terminal-today 3 "pane today"
as anton; pane trial sign counter-desk 2026.11.3 --pass --comment 'berth plans open' >/dev/null
as tove; pane activate counter-desk 2026.11.3 --yes --reason 'trial passed' >/dev/null
as jonas
id=$(pane rollover start --yes --pool ticket-counters --batch 25% --floor 10% --log-off warn --grace 15m -o json | sed -n 's/.*"id": \([0-9]*\).*/\1/p' | head -1)
pane rollover watch "$id" --until done=12 >/dev/null
terminal terminal-watch 4 "pane rollover watch $id" &
go run ./docs/shots -out "$out" rollover="/rollovers/$id"
wait
go run ./docs/shots -dark -out "$out" pool-dark=/pools/ticket-counters
go run ./docs/shots -out "$out" trail=/trail
