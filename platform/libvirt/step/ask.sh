# What the service asks of a machine about a step. It travels on the standard
# input of a shell, with the arguments VERB FOLDER UNIT [SECONDS].
verb=$1 folder=$2 unit=$3
boot=$(cat /proc/sys/kernel/random/boot_id)
case $verb in
look) # how far the step has come
	# The unit is asked first: when it is over, whatever it left is there.
	state=$(systemctl is-active "$unit")
	if [ -e "$folder/ended" ]; then
		# With the processors and the memory that there are, in KiB, and what of them was used.
		echo "ended $(cat "$folder/ended") $(nproc) $(sed -n 's/^MemTotal: *\([0-9]*\).*/\1/p' /proc/meminfo)" \
			"$(cat "$folder/memory" 2>/dev/null || echo 0) $(tail -n 1 "$folder/cpu" 2>/dev/null)"
	elif [ "$state" != inactive ] && [ "$state" != failed ]; then
		echo goes-on
	elif [ ! -e "$folder/begun" ]; then
		echo new
	elif [ "$(cat "$folder/begun")" != "$boot" ]; then
		echo restarted
	else
		echo "cut $(systemctl show --property Result --value "$unit")"
	fi
	;;
prepare)
	mkdir -p "$folder" /run/nimblepane && chmod 700 "$folder" /run/nimblepane
	;;
begin)
	chmod 700 "$folder/program" || exit
	systemctl reset-failed "$unit" 2>/dev/null
	exec systemd-run --quiet --unit="$unit" --property=RuntimeMaxSec="$4" --property=TimeoutStopSec=10 \
		/bin/bash "$folder/run" "$folder" "/run/nimblepane/$unit"
	;;
restart) # once, and then whether the machine is back
	if [ ! -e "$folder/from" ]; then
		echo "$boot" >"$folder/from.new" && sync "$folder/from.new" && mv "$folder/from.new" "$folder/from" &&
			sync "$folder" || exit
	fi
	if [ "$(cat "$folder/from")" = "$boot" ]; then
		systemctl --no-block reboot
	else
		systemctl is-system-running
		exit 0
	fi
	;;
esac
