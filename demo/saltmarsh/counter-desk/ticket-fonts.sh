#!/bin/sh
# Has the fonts of the tickets found by everything that prints: ticket-fonts.sh FOLDER
set -eu
fc-cache --force "$1"
