#!/bin/bash
# Removes the packages that are its arguments, and what only they needed.
if command -v apt-get >/dev/null; then
	export DEBIAN_FRONTEND=noninteractive
	exec apt-get --quiet --yes --option DPkg::Lock::Timeout=300 purge --auto-remove -- "$@"
elif command -v dnf >/dev/null; then
	exec dnf --quiet --assumeyes remove -- "$@"
fi
echo "there is no package manager on this machine that is known: apt or dnf"
exit 127
