#!/bin/sh
# Makes the charts of an estuary ready to be drawn: index-charts.sh north|south|both
set -eu
berth-planner --index-charts "$1" --to /var/lib/berth-planner/charts
