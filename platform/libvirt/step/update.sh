#!/bin/bash
# Applies the updates that are pending: update.sh all|security. Exits with 11 if some still are.
which=$1
if command -v apt-get >/dev/null; then
	export DEBIAN_FRONTEND=noninteractive
	apply() {
		apt-get --quiet --yes --option DPkg::Lock::Timeout=300 --option DPkg::Options::=--force-confold "$@"
	}
	# What is to be installed and where it comes from, as in (3.0.15 Debian-Security:12/stable-security [amd64]).
	pending() {
		apt-get --simulate --quiet dist-upgrade | grep '^Inst ' |
			if [ "$which" = security ]; then grep -e '-security[ ,)]'; else cat; fi | cut -d ' ' -f 2
	}
	apt-get --quiet update || exit
	if [ "$which" = security ]; then
		mapfile -t names < <(pending)
		[ ${#names[@]} = 0 ] || apply install --only-upgrade -- "${names[@]}" || exit
	else
		apply dist-upgrade || exit
	fi
elif command -v dnf >/dev/null; then
	only=()
	[ "$which" = all ] || only=(--security)
	pending() { dnf --quiet "${only[@]}" check-update | cut -d ' ' -f 1; }
	dnf --quiet --assumeyes "${only[@]}" upgrade || exit
else
	echo "there is no package manager on this machine that is known: apt or dnf"
	exit 127
fi
mapfile -t left < <(pending)
[ ${#left[@]} = 0 ] && echo "no updates are pending" && exit
echo "pending still: ${left[*]}"
exit 11
