#!/bin/bash
# Fetches a file and writes it: fetch.sh MODE OWNER PATH ADDRESS SHA256
content=$(dirname "$0")/fetched
pane-agent fetch "$4" "$5" "$content" &&
	install -D --mode="$1" --owner="$2" -- "$content" "$3" &&
	rm "$content" &&
	echo "wrote $(stat --format=%s -- "$3") bytes to $3"
