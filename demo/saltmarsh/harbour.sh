#!/usr/bin/env bash
# Makes the disks in harbour/ anew, of 16 MiB each: they stand for releases of a made-up vendor's system, with just
# enough on them for the service to see what they are.
set -euo pipefail
cd "$(dirname "$0")/harbour"
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
mkdir -p "$work/root/usr/lib" "$work/root/usr/bin" "$work/root/usr/sbin" "$work/root/etc"
head -c 64 /usr/bin/env >"$work/root/usr/bin/env"
printf '#!/bin/sh\n' | tee "$work/root/usr/bin/cloud-init" >"$work/root/usr/sbin/qemu-ga"
for serial in 20260602 20260804 20261103; do
	printf 'ID=harbour\nPRETTY_NAME="Harbour Linux 13 (Estuary), %s"\nVERSION_ID="13"\n' "$serial" \
		>"$work/root/usr/lib/os-release"
	rm -f "$work/disk"
	truncate -s 16M "$work/disk"
	# A partition from 1 MiB on, and a program that says where to go on: it is never run.
	printf '\xeb\x3c' | dd of="$work/disk" conv=notrunc status=none
	printf '\x80\0\0\0\x83\0\0\0\0\x08\0\0\0\x78\0\0' | dd of="$work/disk" bs=1 seek=446 conv=notrunc status=none
	printf '\x55\xaa' | dd of="$work/disk" bs=1 seek=510 conv=notrunc status=none
	PATH=$PATH:/usr/sbin mke2fs -q -t ext4 -d "$work/root" -E offset=1048576 -U clear "$work/disk" 15M
	qemu-img convert -f raw -O vmdk -o subformat=streamOptimized "$work/disk" "harbour-13-$serial.vmdk"
done
