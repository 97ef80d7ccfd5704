#!/bin/bash
# Runs the program in the folder $1, with the secrets in the file $2, and leaves
# in the folder how it ended. The service, which may be stopped meanwhile, finds
# by that how far the step has come:
#
#   begun    the start of the machine in which the program was begun
#   output   what it has written so far
#   ended    its exit code, once it has one
#   memory   the most that was in use on the machine while it ran, in KiB
#   cpu      what it took of the processors, as bash writes times: two lines,
#            of this shell and of what it ran
folder=$1 secrets=$2
cp /proc/sys/kernel/random/boot_id "$folder/begun"
sync "$folder/begun" "$folder"
mapfile -d '' -t arguments <"$folder/arguments"
mapfile -d '' -t environment <"$folder/environment"
as=$(cat "$folder/as")
hidden=()
if [ -e "$folder/secret" ]; then
	mapfile -d '' -t hidden <"$secrets" 2>/dev/null
	rm -f "$secrets"
	# It may print them, so what it writes is not on the disk either.
	ln -s "$secrets.output" "$folder/output"
fi
# They are exported and not given to env, whose arguments everybody on the machine can see.
run() (
	for variable in "${environment[@]}" "${hidden[@]}"; do export "${variable?}"; done
	exec "$@"
)
watch() {
	local most=0 total key value _
	while :; do
		while read -r key value _; do
			case $key in
			MemTotal:) total=$value ;;
			MemAvailable:) [ $((total - value)) -le "$most" ] || echo $((most = total - value)) >"$folder/memory" ;;
			esac
		done </proc/meminfo
		sleep 1
	done
}
watch >/dev/null 2>&1 </dev/null &
watcher=$!
if [ -e "$folder/secret" ] && [ ${#hidden[@]} = 0 ]; then
	echo "its secrets were lost before it began: the machine went down"
	false
elif [ -z "$as" ]; then
	export HOME=/root
	cd /
	run "$folder/program" "${arguments[@]}"
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
		export HOME="$home" USER="$as" LOGNAME="$as" &&
		run runuser -u "$as" -- "$theirs/program" "${arguments[@]}"
fi >"$folder/output" 2>&1 </dev/null
ended=$?
kill "$watcher"
LC_ALL=C # so that times has a point
times >"$folder/cpu"
echo "$ended" >"$folder/ended.new"
sync "$folder/ended.new" "$folder/output"
mv "$folder/ended.new" "$folder/ended"
