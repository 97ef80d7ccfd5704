#!/bin/bash
# Runs the program in the folder $1 and leaves there how it ended. The service,
# which may be stopped meanwhile, finds by that how far the step has come:
#
#   begun    the start of the machine in which the program was begun
#   output   what it has written so far
#   ended    its exit code, once it has one
folder=$1
cp /proc/sys/kernel/random/boot_id "$folder/begun"
sync "$folder/begun" "$folder"
mapfile -d '' -t arguments <"$folder/arguments"
mapfile -d '' -t environment <"$folder/environment"
export HOME=/root
cd /
env -- "${environment[@]}" "$folder/program" "${arguments[@]}" >"$folder/output" 2>&1 </dev/null
echo $? >"$folder/ended.new"
sync "$folder/ended.new" "$folder/output"
mv "$folder/ended.new" "$folder/ended"
