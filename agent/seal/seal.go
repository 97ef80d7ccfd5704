//go:build linux

// Package seal strips a Linux machine of all that makes it this one machine,
// so that its disk can be captured and cloned.
//
// What two clones must not share: identities (machine-id, SSH host keys, the
// agent's credential), secrets that grow from one seed (the random seed), what
// the network gave to this machine (leases), what cloud-init has done for it,
// and what people left (logs, histories, caches).
package seal

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
)

// StampPath is where a version's stamp is, "IMAGE NUMBER" and a line feed.
const StampPath = "/etc/nimblepane/stamp"

// Machine is what is sealed.
type Machine struct {
	Root string // "/" but in tests
	// Run runs a program of the system and returns what it printed. One that is
	// not there prints nothing. Nil: none is run.
	Run func(ctx context.Context, name string, args ...string) (string, error)
}

// busTimeout lets systemctl wait for the service manager of a busy machine for
// longer than the 25 s of D-Bus (systemd, ENVIRONMENT.md).
const busTimeout = "SYSTEMD_BUS_TIMEOUT=120"

// Running is the machine that the process runs on.
func Running() Machine {
	return Machine{Root: "/", Run: func(ctx context.Context, name string, args ...string) (string, error) {
		cmd := exec.CommandContext(ctx, name, args...)
		cmd.Env = append(os.Environ(), busTimeout)
		out, err := cmd.CombinedOutput()
		if errors.Is(err, exec.ErrNotFound) {
			return "", nil
		}
		if err != nil {
			return "", fmt.Errorf("%s %s: %w: %s", name, strings.Join(args, " "), err, out)
		}
		return string(out), nil
	}}
}

// Do seals the machine and returns what was done, one sentence for each thing
// that there was to do. After an error the machine is not fit to be captured.
func Do(ctx context.Context, m Machine, stamp string) (done []string, err error) {
	if strings.TrimSpace(stamp) == "" || strings.ContainsAny(stamp, "\n\r") {
		return nil, fmt.Errorf("%q cannot be a version stamp: it has to be one line", stamp)
	}
	if mounted, err := m.mountedBelow(); err != nil {
		return nil, err
	} else if len(mounted) > 0 {
		return nil, fmt.Errorf("mounted below a folder that sealing empties: %s: unmount it first",
			strings.Join(mounted, ", "))
	}
	d := doer{Machine: m}
	// First what would write again later: each of these saves its state when it ends.
	d.run(ctx, "systemctl", "stop", "pane-agent.service")
	d.run(ctx, "systemctl", "stop", "systemd-random-seed.service")
	d.run(ctx, "journalctl", "--relinquish-var")

	d.empty("machine-id emptied: each clone makes its own", "/etc/machine-id")
	d.removeUnlessLink("D-Bus machine-id removed", "/var/lib/dbus/machine-id")
	d.remove("SSH host keys removed", "/etc/ssh/ssh_host_*_key", "/etc/ssh/ssh_host_*_key.pub")
	d.remove("DHCP leases removed", "/var/lib/dhcp/*", "/var/lib/dhclient/*", "/var/lib/NetworkManager/*lease*",
		"/run/systemd/netif/leases/*")
	d.remove("random seeds removed", "/var/lib/systemd/random-seed", "/var/lib/urandom/random-seed",
		"/var/lib/systemd/credential.secret", "/boot/efi/loader/random-seed")
	d.remove("cloud-init's state removed", "/var/lib/cloud/instance", "/var/lib/cloud/instances/*",
		"/var/lib/cloud/data/*", "/var/lib/cloud/sem/*")
	d.remove("agent's credential and seed removed", "/var/lib/nimblepane/*", "/var/lib/nimblepane/.state-*",
		"/etc/nimblepane/seed.yaml", "/run/nologin")
	d.remove("package caches removed", "/var/cache/apt/archives/*.deb", "/var/cache/apt/archives/partial/*",
		"/var/cache/apt/*.bin", "/var/lib/apt/lists/*", "/var/cache/dnf/*", "/var/cache/yum/*",
		"/var/cache/zypp/packages/*", "/var/cache/pacman/pkg/*")
	d.remove("shell and editor histories removed", histories("/root", "/home/*")...)
	d.remove("temporary files removed", "/tmp/*", "/tmp/.[!.]*", "/var/tmp/*", "/var/crash/*",
		"/var/lib/systemd/coredump/*")
	d.logs()
	d.write("version stamp written: "+stamp, StampPath, stamp+"\n")
	d.run(ctx, "sync")
	d.readBack(stamp)
	// The disk gets back what is free now, so that the captured one is small.
	if d.run(ctx, "fstrim", "--all") {
		d.done = append(d.done, "free blocks given back to the disk")
	}
	return d.done, d.err
}

// Leave has a machine that was a host be none: it forgets who it was to the
// service, and people can sign in. It returns what was done, as Do does.
func Leave(ctx context.Context, m Machine) (done []string, err error) {
	d := doer{Machine: m, done: []string{}}
	d.run(ctx, "systemctl", "stop", "pane-agent.service")
	d.remove("agent's credential and seed removed", "/var/lib/nimblepane/agent.json", "/var/lib/nimblepane/.state-*",
		"/etc/nimblepane/seed.yaml")
	d.remove("people can sign in", "/run/nologin")
	d.run(ctx, "systemctl", "start", "pane-agent.service")
	return d.done, d.err
}

// readBack reads from the disk whether it is as it was to become: what is
// written behind our back, or does not reach the disk, must not be captured.
func (d *doer) readBack(stamp string) {
	if d.err != nil {
		return
	}
	if d.Run != nil { // else nothing of it is a disk
		// What is in memory is let go of, so that the disk is what is read.
		_ = os.WriteFile(filepath.Join(d.Root, "/proc/sys/vm/drop_caches"), []byte("3"), 0)
	}
	holds := func(path, want string) {
		if got, err := os.ReadFile(filepath.Join(d.Root, path)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			d.err = errors.Join(d.err, err)
		} else if string(got) != want {
			d.err = errors.Join(d.err, fmt.Errorf("%s on the disk holds %.40q, and not %q: something writes to it "+
				"while the machine is sealed", path, got, want))
		}
	}
	holds("/etc/machine-id", "")
	holds(StampPath, stamp+"\n")
	if left := d.matches(identities...); len(left) > 0 {
		d.err = errors.Join(d.err, fmt.Errorf("%s is on the disk still: something made it anew while the machine was "+
			"sealed", strings.Join(left, ", ")))
	}
	if d.err == nil {
		d.done = append(d.done, "read back from the disk: no identity is left, and the stamp is there")
	}
}

// identities are what no two machines may share.
var identities = []string{
	"/etc/ssh/ssh_host_*_key", "/etc/ssh/ssh_host_*_key.pub", "/var/lib/dhcp/*", "/var/lib/dhclient/*",
	"/var/lib/NetworkManager/*lease*", "/var/lib/systemd/random-seed", "/var/lib/urandom/random-seed",
	"/var/lib/systemd/credential.secret", "/var/lib/nimblepane/agent.json", "/etc/nimblepane/seed.yaml",
}

func histories(homes ...string) (patterns []string) {
	for _, h := range homes {
		for _, f := range []string{
			".*_history", ".histfile", ".lesshst", ".viminfo", ".wget-hsts",
			".local/share/recently-used.xbel",
		} {
			patterns = append(patterns, filepath.Join(h, f))
		}
	}
	return patterns
}

// doer does one thing after the other until one fails.
type doer struct {
	Machine
	done []string
	err  error
}

// run runs a program and says whether it went well. What cannot be run is left
// out: a machine without systemd has no such services.
func (d *doer) run(ctx context.Context, name string, args ...string) bool {
	if d.err != nil || d.Run == nil {
		return false
	}
	_, err := d.Run(ctx, name, args...)
	return err == nil
}

func (d *doer) matches(patterns ...string) (paths []string) {
	for _, p := range patterns {
		found, err := filepath.Glob(filepath.Join(d.Root, p))
		if err != nil {
			panic(err) // the patterns are ours
		}
		paths = append(paths, found...)
	}
	return paths
}

func (d *doer) remove(what string, patterns ...string) {
	if d.err != nil {
		return
	}
	mounted, err := d.mounts() // it can have changed since
	if err != nil {
		d.err = err
		return
	}
	removed := 0
	for _, p := range d.matches(patterns...) {
		// Homes can be on a file server. They are not captured.
		if _, is := elsewhere(mounted, d.name(p)); !is && d.err == nil {
			d.err = removeAll(p)
			removed++
		}
	}
	if d.err == nil && removed > 0 {
		d.done = append(d.done, fmt.Sprintf("%s (%d)", what, removed))
	}
}

func (d *doer) removeUnlessLink(what, path string) {
	if st, err := os.Lstat(filepath.Join(d.Root, path)); err == nil && st.Mode().IsRegular() {
		d.remove(what, path)
	}
}

func (d *doer) empty(what, path string) {
	if _, err := os.Stat(filepath.Join(d.Root, path)); d.err == nil && err == nil {
		if d.err = os.Truncate(filepath.Join(d.Root, path), 0); d.err == nil {
			d.done = append(d.done, what)
		}
	}
}

func (d *doer) write(what, path, content string) {
	if d.err != nil {
		return
	}
	path = filepath.Join(d.Root, path)
	if d.err = os.MkdirAll(filepath.Dir(path), 0o755); d.err == nil {
		d.err = os.WriteFile(path, []byte(content), 0o644)
	}
	if d.err == nil {
		d.done = append(d.done, what)
	}
}

// logs removes rotated logs and the journal, and empties the others: programs
// expect to find their own file with its owner.
func (d *doer) logs() {
	if d.err != nil {
		return
	}
	emptied, removed := 0, 0
	top := filepath.Join(d.Root, "/var/log")
	d.err = filepath.WalkDir(top, func(path string, e fs.DirEntry, err error) error {
		switch {
		case errors.Is(err, fs.ErrNotExist):
			return nil
		case err != nil:
			return err
		case e.IsDir() && path == filepath.Join(top, "journal"):
			journals, err := filepath.Glob(filepath.Join(path, "*"))
			for _, j := range journals {
				err = errors.Join(err, removeAll(j))
			}
			removed += len(journals)
			if err != nil {
				return err
			}
			return fs.SkipDir
		case e.IsDir() && path != top && isMount(path):
			return fmt.Errorf("%s: %w", path, errMounted)
		case !e.Type().IsRegular():
			return nil
		case rotated(e.Name()):
			removed++
			return os.Remove(path)
		}
		st, err := e.Info()
		if err != nil || st.Size() == 0 {
			return err
		}
		emptied++
		return os.Truncate(path, 0)
	})
	if d.err == nil && emptied+removed > 0 {
		d.done = append(d.done, fmt.Sprintf("logs emptied (%d) and old ones removed (%d)", emptied, removed))
	}
}

func rotated(name string) bool {
	ext := filepath.Ext(name)
	switch ext {
	case ".gz", ".xz", ".zst", ".bz2", ".old":
		return true
	}
	return len(ext) > 1 && strings.Trim(ext[1:], "0123456789") == ""
}
