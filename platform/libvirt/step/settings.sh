#!/bin/bash
# Sets what new people find: settings.sh PATH... are files of a new home, which
# stand beside it by their numbers, from 0; what variables are set is in the
# file "variables", each NAME=VALUE; whose settings are taken over is in
# "person", and which of them in "paths", all if there are none.
folder=$(dirname "$0")
number=0
for path; do
	install -D --mode=0644 -- "$folder/file-$number" "/etc/skel/$path" || exit
	echo "wrote /etc/skel/$path"
	number=$((number + 1))
done

# What is somebody's own and not for others: keys, passwords, tokens, histories,
# and what programs can make again.
own=(.ssh .gnupg .pki .netrc .password-store .dbus .cache .Xauthority .ICEauthority .local/share/keyrings
	.local/share/Trash .local/state .lesshst .viminfo .wget-hsts .sudo_as_admin_successful)
leave=(--exclude='*_history' --exclude='*.lock' --exclude='*credential*' --exclude='*secret*' --exclude='*token*'
	--exclude='*password*')
person=$(cat "$folder/person")
if [ -n "$person" ]; then
	if ! home=$(getent passwd "$person" | cut -d : -f 6) || ! cd "${home:-/nowhere}" 2>/dev/null; then
		echo "there is no account $person with a home on this machine"
		exit 1
	fi
	mapfile -d '' -t paths <"$folder/paths"
	shopt -s nullglob dotglob
	[ ${#paths[@]} = 0 ] && for path in .*; do [ "$path" = . ] || [ "$path" = .. ] || paths+=("$path"); done
	for path in "${own[@]}"; do leave+=(--exclude="./$path"); done
	take=()
	for path in "${paths[@]}"; do
		for not in "${own[@]}"; do
			case $path/ in
			"$not"/*)
				[ -s "$folder/paths" ] || continue 2
				echo "$path is somebody's own, and is not taken over"
				exit 1
				;;
			esac
		done
		if [ ! -e "$path" ]; then
			echo "there is no $path in the home of $person"
			exit 1
		fi
		take+=("./$path")
	done
	if [ ${#take[@]} = 0 ]; then
		echo "$person has no settings"
		exit 1
	fi
	tar --create --anchored "${leave[@]}" -- "${take[@]}" | tar --extract --directory /etc/skel --no-same-owner &&
		[ "${PIPESTATUS[0]}" = 0 ] || exit 1
	for path in "${take[@]}"; do
		if [ ! -e "/etc/skel/$path" ]; then # it was left
			[ -s "$folder/paths" ] || continue
			echo "${path#./} is somebody's own, and is not taken over"
			exit 1
		fi
		chown --recursive --no-dereference root:root -- "/etc/skel/$path" && chmod --recursive go-w,u+r -- "/etc/skel/$path" || exit
		echo "took over ${path#./}"
		grep --recursive --files-with-matches --fixed-strings -- "$home" "/etc/skel/${path#./}" |
			sed 's/^/it names the home of '"$person"', which new people do not have: /'
	done
fi

mapfile -d '' -t variables <"$folder/variables"
for variable in "${variables[@]}"; do
	name=${variable%%=*}
	touch /etc/environment &&
		{ grep --invert-match "^$name=" /etc/environment; printf '%s="%s"\n' "$name" "${variable#*=}"; } \
			>/etc/environment.new &&
		chmod 644 /etc/environment.new && mv /etc/environment.new /etc/environment || exit
	echo "set $name"
done
