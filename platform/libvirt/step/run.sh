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
as=$(cat "$folder/as")
if [ -z "$as" ]; then
	export HOME=/root
	cd /
	env -- "${environment[@]}" "$folder/program" "${arguments[@]}"
elif ! home=$(getent passwd "$as" | cut -d : -f 6) || [ -z "$home" ]; then
	echo "there is no account $as on this machine: have a step before make it"
	false
else
	# The folder is closed to all but root, so the program gets one that is theirs.
	theirs=$(mktemp -d /var/tmp/nimblepane-step-XXXXXXXX) &&
		trap 'rm -rf "$theirs"' EXIT &&
		trap 'exit 143' TERM &&
		chown "$as" "$theirs" &&
		install --owner="$as" --mode=0700 "$folder/program" "$theirs/program" &&
		cd "$home" &&
		runuser -u "$as" -- env -- HOME="$home" USER="$as" LOGNAME="$as" "${environment[@]}" "$theirs/program" \
			"${arguments[@]}"
fi >"$folder/output" 2>&1 </dev/null
echo $? >"$folder/ended.new"
sync "$folder/ended.new" "$folder/output"
mv "$folder/ended.new" "$folder/ended"
