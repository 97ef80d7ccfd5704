#!/bin/bash
# Sets what new people find: settings.sh PATH... are files of a new home, which
# stand beside it by their numbers, from 0; what variables are set is in the
# file "variables", each NAME=VALUE.
folder=$(dirname "$0")
number=0
for path; do
	install -D --mode=0644 -- "$folder/file-$number" "/etc/skel/$path" || exit
	echo "wrote /etc/skel/$path"
	number=$((number + 1))
done
mapfile -d '' -t variables <"$folder/variables"
for variable in "${variables[@]}"; do
	name=${variable%%=*}
	touch /etc/environment &&
		{ grep --invert-match "^$name=" /etc/environment; printf '%s="%s"\n' "$name" "${variable#*=}"; } \
			>/etc/environment.new &&
		chmod 644 /etc/environment.new && mv /etc/environment.new /etc/environment || exit
	echo "set $name"
done
