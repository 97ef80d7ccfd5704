#!/bin/bash
# Installs the packages that are its arguments.
if command -v apt-get >/dev/null; then
	export DEBIAN_FRONTEND=noninteractive
	# A sealed image has no lists. A source that cannot be reached is not needed if what is to be installed is found.
	apt-get --quiet --option DPkg::Lock::Timeout=300 update
	exec apt-get --quiet --yes --option DPkg::Lock::Timeout=300 --option DPkg::Options::=--force-confold install -- "$@"
elif command -v dnf >/dev/null; then
	exec dnf --quiet --assumeyes install -- "$@"
fi
echo "there is no package manager on this machine that is known: apt or dnf"
exit 127
