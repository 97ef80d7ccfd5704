#!/bin/bash
# Removes the files and folders that are its arguments up to "packages:", and
# the packages behind that, with what only they needed.
while [ "$1" != packages: ]; do
	if [ -e "$1" ] || [ -L "$1" ]; then
		rm --recursive --force --one-file-system -- "$1" || exit
		echo "removed $1"
	else
		echo "there is no $1"
	fi
	shift
done
shift
[ $# -gt 0 ] || exit 0
if command -v apt-get >/dev/null; then
	export DEBIAN_FRONTEND=noninteractive
	exec apt-get --quiet --yes --option DPkg::Lock::Timeout=300 purge --auto-remove -- "$@"
elif command -v dnf >/dev/null; then
	exec dnf --quiet --assumeyes remove -- "$@"
fi
echo "there is no package manager on this machine that is known: apt or dnf"
exit 127
