#!/bin/bash
# Writes the file beside it: put.sh MODE OWNER PATH
install -D --mode="$1" --owner="$2" -- "$(dirname "$0")/content" "$3" &&
	echo "wrote $(stat --format=%s -- "$3") bytes to $3"
