#!/usr/bin/env bash
# Builds a small Debian desktop host as a qcow2 disk that boots by itself, from
# BIOS and UEFI: systemd, logind, an SSH server, QEMU's guest agent and
# pane-agent. Nothing is mounted from the disk and no machine is started.
#
#   guest/build.sh PANE_AGENT_DEB OUTPUT.qcow2
#
# Partitions: 1 GRUB's core for BIOS, 2 the EFI system partition, 3 the root.
set -euo pipefail

export PATH=$PATH:/usr/sbin:/sbin
deb=$(realpath "$1")
out=$(realpath -m "$2")
size_mib=1536

# Identities and times are fixed, so that two builds from the same packages
# differ only in the inode change times that no one can set.
export SOURCE_DATE_EPOCH=1767225600 E2FSPROGS_FAKE_TIME=1767225600 LC_ALL=C TZ=UTC
disk_id=6e696d62-6c65-7061-6e65-000000000001
esp_id=6e696d62-6c65-7061-6e65-000000000002
root_id=6e696d62-6c65-7061-6e65-000000000003

work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT

# The root's files ------------------------------------------------------------
cat >"$work/customize" <<'HOOK'
set -eu
root=$1
mkdir -p "$root/etc/initramfs-tools/conf.d"
# Only what a virtual machine needs to find its disk: it halves the time to start.
printf 'MODULES=list\nCOMPRESS=lz4\n' >"$root/etc/initramfs-tools/conf.d/small"
printf '%s\n' virtio_pci virtio_blk virtio_scsi ext4 crc32c_generic >"$root/etc/initramfs-tools/modules"
chroot "$root" update-initramfs -u -k all >/dev/null
printf 'LABEL=desk / ext4 errors=remount-ro,discard 0 1\n' >"$root/etc/fstab"
printf '[Match]\nName=e*\n[Network]\nDHCP=ipv4\n[DHCPv4]\nClientIdentifier=mac\n' >"$root/etc/systemd/network/desk.network"
chroot "$root" systemctl enable --quiet systemd-networkd ssh qemu-guest-agent.service 2>/dev/null || true
# What nobody waits for in such a machine.
chroot "$root" systemctl mask --quiet systemd-networkd-wait-online.service apt-daily.timer apt-daily-upgrade.timer e2scrub_all.timer fstrim.timer dpkg-db-backup.timer getty@tty1.service \
  modprobe@.service dev-mqueue.mount dev-hugepages.mount sys-kernel-debug.mount sys-kernel-tracing.mount systemd-pstore.service e2scrub_reap.service
printf 'desk\n' >"$root/etc/hostname"
printf '127.0.0.1 localhost\n127.0.1.1 desk\n' >"$root/etc/hosts"
printf 'nameserver 10.0.2.3\n' >"$root/etc/resolv.conf"
mkdir -p "$root/etc/ssh/sshd_config.d"
printf 'HostKey /etc/ssh/ssh_host_ed25519_key\nPasswordAuthentication no\nUseDNS no\n' >"$root/etc/ssh/sshd_config.d/desk.conf"
# Every machine makes its own identity; pane-agent's package sees to the host keys.
rm -f "$root"/etc/ssh/ssh_host_*_key*
: >"$root/etc/machine-id"
rm -rf "$root"/var/cache/apt/*.bin "$root"/var/log/*.log "$root"/var/log/apt "$root"/var/cache/ldconfig/aux-cache "$root"/var/lib/dbus/machine-id
HOOK
chmod +x "$work/customize"
mmdebstrap --quiet --variant=minbase --dpkgopt='path-exclude=/usr/share/doc/*' --dpkgopt='path-exclude=/usr/share/man/*' --dpkgopt='path-exclude=/usr/share/locale/*' \
  --aptopt='Apt::Install-Recommends "false"' \
  --include=systemd-sysv,dbus,libpam-systemd,udev,qemu-guest-agent,openssh-server,linux-image-cloud-amd64,iproute2,lz4,ca-certificates,"$deb" \
  --hook-dir=/usr/share/mmdebstrap/hooks/file-mirror-automount \
  --customize-hook="$work/customize \"\$1\"" \
  bookworm "$work/root" >&2
kernel=$(basename "$work"/root/boot/vmlinuz-*) initrd=$(basename "$work"/root/boot/initrd.img-*)
mkdir -p "$work/root/boot/grub"
cat >"$work/root/boot/grub/grub.cfg" <<CFG
set timeout=0
search --no-floppy --set=root --label desk
linux /boot/$kernel root=LABEL=desk rw quiet console=ttyS0 fsck.mode=skip mitigations=off apparmor=0 audit=0
initrd /boot/$initrd
boot
CFG
find "$work/root" -newermt "@$SOURCE_DATE_EPOCH" -print0 | xargs -0 touch --no-dereference --date="@$SOURCE_DATE_EPOCH"

# The disk -------------------------------------------------------------------
disk=$work/disk.raw
truncate -s "${size_mib}M" "$disk"
sfdisk --quiet "$disk" <<PARTS
label: gpt
label-id: $disk_id
start=2048, size=2048, type=21686148-6449-6E6F-744E-656564454649, uuid=6e696d62-6c65-7061-6e65-000000000010
start=4096, size=32768, type=C12A7328-F81F-11D2-BA4B-00A0C93EC93B, uuid=$esp_id
start=36864, size=$(((size_mib - 19) * 2048)), type=0FC63DAF-8483-4772-8E79-3D69D8477DE4, uuid=6e696d62-6c65-7061-6e65-000000000030
PARTS
truncate -s "$((size_mib - 19))M" "$work/root.ext4"
mke2fs -q -t ext4 -L desk -U $root_id -E hash_seed=$root_id,lazy_itable_init=0 -O ^metadata_csum_seed -d "$work/root" "$work/root.ext4"
dd if="$work/root.ext4" of="$disk" bs=1M seek=18 conv=notrunc,sparse status=none

printf 'search --no-floppy --set=root --label desk\nset prefix=($root)/boot/grub\nconfigfile $prefix/grub.cfg\n' >"$work/early.cfg"
modules=(part_gpt ext2 search search_label configfile linux normal echo)
grub-mkimage -O x86_64-efi -c "$work/early.cfg" -p /boot/grub -o "$work/bootx64.efi" "${modules[@]}"
truncate -s 16M "$work/esp"
mkfs.vfat -F 16 -n ESP -i 6e696d62 --invariant "$work/esp" >/dev/null
touch --date="@$SOURCE_DATE_EPOCH" "$work/bootx64.efi"
mmd -i "$work/esp" ::EFI ::EFI/BOOT
mcopy -m -i "$work/esp" "$work/bootx64.efi" ::EFI/BOOT/BOOTX64.EFI
dd if="$work/esp" of="$disk" bs=512 seek=4096 conv=notrunc,sparse status=none

grub-mkimage -O i386-pc -c "$work/early.cfg" -p /boot/grub -o "$work/core.img" biosdisk "${modules[@]}"
[ "$(stat -c %s "$work/core.img")" -le $((2048 * 512)) ] || { echo "GRUB's core is larger than its partition" >&2; exit 1; }
dd if="$work/core.img" of="$disk" bs=512 seek=2048 conv=notrunc status=none
# The first sector's program, without the partition table behind it; it is told
# that the core begins at sector 2048, and the core that it goes on at 2049.
dd if=/usr/lib/grub/i386-pc/boot.img of="$disk" bs=1 count=440 conv=notrunc status=none
le64() { printf "$(printf '%016x' "$1" | sed -E 's/(..)(..)(..)(..)(..)(..)(..)(..)/\\x\8\\x\7\\x\6\\x\5\\x\4\\x\3\\x\2\\x\1/')"; }
le64 2048 | dd of="$disk" bs=1 seek=$((0x5c)) conv=notrunc status=none
# Its jump past the check of the drive number, as GRUB's own installer writes it.
printf '\x90\x90' | dd of="$disk" bs=1 seek=$((0x66)) conv=notrunc status=none
le64 2049 | dd of="$disk" bs=1 seek=$((2048 * 512 + 0x1f4)) conv=notrunc status=none

mkdir -p "$(dirname "$out")"
qemu-img convert -O qcow2 -o compat=1.1,lazy_refcounts=off "$disk" "$out.part"
mv "$out.part" "$out"
echo "$out: $(du -h --apparent-size "$out" | cut -f1)"
