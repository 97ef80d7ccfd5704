//go:build linux

package seal

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"
)

// Sealing deletes files on the machine's own disk only. A mount, such as a share
// with installers below /tmp, belongs to others.

// emptiedFolders are the folders of which sealing deletes everything.
var emptiedFolders = []string{
	"/tmp", "/var/tmp", "/var/log", "/var/crash", "/var/lib/systemd/coredump", "/var/lib/nimblepane",
	"/var/lib/cloud/instances", "/var/lib/cloud/data", "/var/lib/cloud/sem", "/var/lib/dhcp", "/var/lib/dhclient",
	"/var/cache/apt", "/var/lib/apt/lists", "/var/cache/dnf", "/var/cache/yum", "/var/cache/zypp/packages",
	"/var/cache/pacman/pkg", "/run/systemd/netif/leases",
}

// mount is one line of /proc/PID/mountinfo (proc(5)).
type mount struct{ at, kind, source string }

func (m mount) String() string { return fmt.Sprintf("%s (%s, %s)", m.at, m.kind, m.source) }

// ownKinds are file systems that are on the machine's disk, or in its memory.
var ownKinds = []string{"btrfs", "ext2", "ext3", "ext4", "f2fs", "jfs", "ramfs", "tmpfs", "vfat", "xfs"}

// mounts are the machine's mounts.
func (m Machine) mounts() (list []mount, err error) {
	text, err := m.read("/proc/self/mountinfo")
	if err != nil {
		return nil, fmt.Errorf("read the mounts: %w", err)
	}
	for line := range strings.Lines(text) {
		before, after, _ := strings.Cut(strings.TrimSpace(line), " - ")
		place, kind := strings.Fields(before), strings.Fields(after)
		if len(place) < 5 || len(kind) < 2 {
			return nil, fmt.Errorf("read the mounts: the line %.80q is not in the form of mountinfo", line)
		}
		list = append(list, mount{plainName(place[4]), kind[0], plainName(kind[1])})
	}
	return list, nil
}

// plainName is a name without the escapes of mountinfo, which are \ and three octal digits.
func plainName(text string) string {
	var out strings.Builder
	for i := 0; i < len(text); i++ {
		if text[i] == '\\' && i+3 < len(text) {
			if n, err := strconv.ParseUint(text[i+1:i+4], 8, 8); err == nil {
				out.WriteByte(byte(n))
				i += 3
				continue
			}
		}
		out.WriteByte(text[i])
	}
	return out.String()
}

func below(path, folder string) bool { return strings.HasPrefix(path, folder+"/") }

// mountedBelow names the mounts that sealing would empty: those below a folder that it empties, and a mount
// as such a folder that is not on the machine's own disk.
func (m Machine) mountedBelow() (found []string, err error) {
	list, err := m.mounts()
	if err != nil {
		return nil, err
	}
	for _, at := range list {
		for _, folder := range emptiedFolders {
			// A folder that is emptied can have another one in it.
			own := slices.Contains(ownKinds, at.kind)
			if below(at.at, folder) && !(own && slices.Contains(emptiedFolders, at.at)) ||
				at.at == folder && !own || below(folder, at.at) && !own && at.at != "/" {
				found = append(found, at.String())
				break
			}
		}
	}
	return found, nil
}

// elsewhere says which mount a path is on if that is not the machine's own.
func elsewhere(list []mount, path string) (on mount, is bool) {
	for _, m := range list {
		if (m.at == "/" || m.at == path || below(path, m.at)) && len(m.at) >= len(on.at) {
			on = m
		}
	}
	return on, on.at != "" && on.at != "/" && !slices.Contains(ownKinds, on.kind)
}

// errMounted is the error of a folder that is not deleted because of a mount there.
var errMounted = errors.New("something is mounted there, which sealing does not delete: unmount it")

// isMount says whether something is mounted as a folder.
func isMount(path string) bool {
	parent, err := unix.Open(filepath.Dir(path), unix.O_PATH|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	if err != nil {
		return false
	}
	defer unix.Close(parent)
	fd, err := unix.Openat2(parent, filepath.Base(path), &unix.OpenHow{
		Flags: unix.O_PATH | unix.O_CLOEXEC, Resolve: unix.RESOLVE_NO_XDEV | unix.RESOLVE_NO_SYMLINKS,
	})
	if err == nil {
		unix.Close(fd)
	}
	return errors.Is(err, unix.EXDEV)
}

// removeAll deletes a file, or a folder with all that is in it. It deletes nothing behind a mount, and returns
// errMounted if there is one. Links are deleted and not followed.
func removeAll(path string) error {
	parent, err := unix.Open(filepath.Dir(path), unix.O_PATH|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	if err != nil {
		return &os.PathError{Op: "open", Path: filepath.Dir(path), Err: err}
	}
	defer unix.Close(parent)
	return removeIn(parent, path)
}

// removeIn is removeAll for an entry of an open folder.
func removeIn(parent int, path string) error {
	name := filepath.Base(path)
	err := unix.Unlinkat(parent, name, 0)
	switch {
	case err == nil, errors.Is(err, unix.ENOENT):
		return nil
	case errors.Is(err, unix.EBUSY):
		return fmt.Errorf("%s: %w", path, errMounted)
	case !errors.Is(err, unix.EISDIR) && !errors.Is(err, unix.EPERM):
		return &os.PathError{Op: "unlink", Path: path, Err: err}
	}
	fd, err := unix.Openat2(parent, name, &unix.OpenHow{
		Flags:   unix.O_RDONLY | unix.O_DIRECTORY | unix.O_NOFOLLOW | unix.O_CLOEXEC,
		Resolve: unix.RESOLVE_NO_XDEV | unix.RESOLVE_NO_SYMLINKS,
	})
	switch {
	case errors.Is(err, unix.EXDEV):
		return fmt.Errorf("%s: %w", path, errMounted)
	case errors.Is(err, unix.ENOENT):
		return nil
	case err != nil:
		return &os.PathError{Op: "open", Path: path, Err: err}
	}
	folder := os.NewFile(uintptr(fd), path)
	defer folder.Close()
	for {
		names, err := folder.Readdirnames(1000)
		for _, n := range names {
			if err := removeIn(fd, filepath.Join(path, n)); err != nil {
				return err
			}
		}
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return err
		}
		if _, err := folder.Seek(0, io.SeekStart); err != nil { // entries can be passed over while others are deleted
			return err
		}
	}
	if err := unix.Unlinkat(parent, name, unix.AT_REMOVEDIR); err != nil && !errors.Is(err, unix.ENOENT) {
		if errors.Is(err, unix.EBUSY) {
			return fmt.Errorf("%s: %w", path, errMounted)
		}
		return &os.PathError{Op: "rmdir", Path: path, Err: err}
	}
	return nil
}
