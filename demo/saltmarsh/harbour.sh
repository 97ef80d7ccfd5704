#!/usr/bin/env bash
# Makes harbour-13.vmdk anew: a disk of 16 MiB that stands for the vendor's release of a made-up system,
# with just enough on it for the service to see what it is.
set -euo pipefail
cd "$(dirname "$0")"
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
mkdir -p "$work/root/usr/lib" "$work/root/usr/bin" "$work/root/usr/sbin" "$work/root/etc"
printf 'ID=harbour\nPRETTY_NAME="Harbour Linux 13 (Estuary)"\nVERSION_ID="13"\n' >"$work/root/usr/lib/os-release"
head -c 64 /usr/bin/env >"$work/root/usr/bin/env"
printf '#!/bin/sh\n' | tee "$work/root/usr/bin/cloud-init" >"$work/root/usr/sbin/qemu-ga"
truncate -s 16M "$work/disk"
# A partition from 1 MiB on, and a program that says where to go on: it is never run.
printf '\xeb\x3c' | dd of="$work/disk" conv=notrunc status=none
printf '\x80\0\0\0\x83\0\0\0\0\x08\0\0\0\x78\0\0' | dd of="$work/disk" bs=1 seek=446 conv=notrunc status=none
printf '\x55\xaa' | dd of="$work/disk" bs=1 seek=510 conv=notrunc status=none
PATH=$PATH:/usr/sbin mke2fs -q -t ext4 -d "$work/root" -E offset=1048576 -U clear "$work/disk" 15M
qemu-img convert -f raw -O vmdk -o subformat=streamOptimized "$work/disk" harbour-13.vmdk
