#!/usr/bin/env bash
# Installs from Debian's packages what the demo and the tests need and this machine lacks;
# with the argument "real" also what real machines need: libvirt, QEMU, a way to build a guest;
# with "bench" what is measured beside ours.
set -euo pipefail

missing=()
ls /usr/lib/postgresql/*/bin/postgres >/dev/null 2>&1 || missing+=(postgresql)
command -v chromium >/dev/null || missing+=(chromium fonts-dejavu-core)
command -v node >/dev/null || missing+=(nodejs npm)
command -v gcc >/dev/null || missing+=(gcc libc6-dev) # for the race detector
command -v git >/dev/null || missing+=(git) # sheets in repositories
command -v qemu-img >/dev/null || missing+=(qemu-utils) # bases
command -v mke2fs >/dev/null || [ -x /usr/sbin/mke2fs ] || missing+=(e2fsprogs)
command -v mkfs.xfs >/dev/null || [ -x /usr/sbin/mkfs.xfs ] || missing+=(xfsprogs) # storage that shares blocks
ls /usr/lib/*/libical.so.3 >/dev/null 2>&1 || missing+=(libical3) # recurrence rules are compared with its own
/usr/bin/python3 -c 'import ctypes' 2>/dev/null || missing+=(python3)
command -v promtool >/dev/null || missing+=(prometheus) # checks the alert rules
command -v lintian >/dev/null || missing+=(lintian) # checks the agent's package
command -v systemd-analyze >/dev/null || missing+=(systemd) # judges its units
command -v column >/dev/null || missing+=(bsdextrautils)
if [ "${1:-}" = real ]; then
  { command -v libvirtd || [ -x /usr/sbin/libvirtd ]; } >/dev/null || missing+=(libvirt-daemon-system libvirt-daemon-driver-qemu libvirt-clients)
  command -v qemu-system-x86_64 >/dev/null || missing+=(qemu-system-x86 ovmf)
  command -v mmdebstrap >/dev/null || missing+=(mmdebstrap)
  [ -d /usr/lib/grub/i386-pc ] || missing+=(grub-pc-bin)
  [ -d /usr/lib/grub/x86_64-efi ] || missing+=(grub-efi-amd64-bin)
  command -v grub-mkimage >/dev/null || missing+=(grub-common)
  command -v mcopy >/dev/null || missing+=(mtools)
  command -v mkfs.vfat >/dev/null || [ -x /usr/sbin/mkfs.vfat ] || missing+=(dosfstools)
  command -v sfdisk >/dev/null || [ -x /usr/sbin/sfdisk ] || missing+=(fdisk)
  command -v ssh >/dev/null || missing+=(openssh-client)
fi

if [ "${1:-}" = bench ]; then
  command -v rsync >/dev/null || missing+=(rsync)
  command -v openssl >/dev/null || missing+=(openssl)
fi

if ! command -v go >/dev/null; then
  echo "Go is missing: install the version that go.mod names." >&2
  exit 1
fi
if [ ${#missing[@]} -gt 0 ]; then
  run=()
  [ "$(id -u)" -eq 0 ] || run=(sudo)
  echo "Installing ${missing[*]} ..."
  # Debian's PostgreSQL would start a server of its own; the demo and the tests start theirs.
  "${run[@]}" apt-get update -qq
  "${run[@]}" env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends "${missing[@]}" >/dev/null
fi
