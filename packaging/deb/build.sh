#!/usr/bin/env bash
# Packs pane-agent as a Debian package.
#
#   packaging/deb/build.sh PROGRAM VERSION OUTPUT.deb
set -euo pipefail
here=$(dirname "$(realpath "$0")")
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
chmod 755 "$work"
umask 022
# Fixed times: the same program makes the same package.
export SOURCE_DATE_EPOCH=1767225600

install -D -m 755 "$1" "$work/usr/bin/pane-agent"
install -D -m 644 -t "$work/lib/systemd/system" "$here"/*.service
install -d -m 755 "$work/etc/nimblepane/checks"
install -D -m 755 "$here/checks/"* -t "$work/etc/nimblepane/checks"
install -D -m 755 -t "$work/DEBIAN" "$here/postinst" "$here/prerm" "$here/postrm"
install -D -m 644 "$here/copyright" "$work/usr/share/doc/pane-agent/copyright"
install -D -m 644 "$here/overrides" "$work/usr/share/lintian/overrides/pane-agent"
install -d -m 755 "$work/usr/share/man/man8"
gzip -9nc "$here/pane-agent.8" >"$work/usr/share/man/man8/pane-agent.8.gz"
cat <<CHANGES | gzip -9nc >"$work/usr/share/doc/pane-agent/changelog.gz"
pane-agent ($2) stable; urgency=medium

  * The agent of Nimble Pane $2.

 -- Nimble Pane <packages@nimblepane.example>  $(date --utc --date="@$SOURCE_DATE_EPOCH" --rfc-email)
CHANGES
find "$work/etc" -type f -printf '/%P\n' | sed 's,^/,/etc/,' >"$work/DEBIAN/conffiles"
cat >"$work/DEBIAN/control" <<CONTROL
Package: pane-agent
Version: $2
Architecture: amd64
Section: admin
Priority: optional
Maintainer: Nimble Pane <packages@nimblepane.example>
Installed-Size: $(du -sk "$work/usr" | cut -f1)
Description: Nimble Pane agent of a desktop host
 Reports who is signed in, lets nobody new in while the host is drained, tells
 people what is about to happen, and seals a machine before its disk becomes a
 golden image.
CONTROL
mkdir -p "$(dirname "$3")"
find "$work" -print0 | xargs -0 touch --no-dereference --date="@$SOURCE_DATE_EPOCH"
dpkg-deb --build --root-owner-group "$work" "$3" >/dev/null
