//go:build linux

package seal

import (
	"context"
	"crypto/md5" // what the package manager writes down
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"nimblepane/core/seal"
)

// What is looked through for secrets, and what is not: the host keys go when the machine is sealed.
var (
	searched    = []string{"etc", "home", "opt", "root", "srv", "tmp", "usr/local", "var/tmp"}
	notSearched = "/etc/ssh/ssh_host_*_key"
)

// What a system has in its temporary folders by itself.
var ownTemporary = []string{"systemd-private-*", ".X11-unix", ".ICE-unix", ".XIM-unix", ".font-unix", ".Test-unix"}

// Look says what is looked for.
type Look struct {
	Only     []string // seal checks; all if there are none
	Refuse   []string // patterns of software that is refused
	Version  string   // of this pane-agent
	SignedIn func(context.Context) ([]string, error)
}

// Inspect finds out what there is to be known of a machine before it is sealed.
// It changes nothing. What cannot be found out is an error, so that nothing is
// sealed that was not looked at.
func Inspect(ctx context.Context, m Machine, look Look) (f seal.Facts, err error) {
	for _, check := range look.Only {
		if !slices.Contains(seal.Checks(), check) {
			return f, fmt.Errorf("there is no seal check %q: use %s", check, strings.Join(seal.Checks(), ", "))
		}
	}
	agent := func() (err error) {
		f.Agent, err = m.agent(ctx, look.Version)
		return err
	}
	for _, part := range []struct {
		check, doing string
		find         func() error
	}{
		{seal.PeopleSignedIn, "see who is signed in", func() (err error) {
			f.SignedIn, err = look.SignedIn(ctx)
			return err
		}},
		{seal.RestartPending, "see whether a restart is pending", func() (err error) {
			f.RestartPending, err = m.restartPending(ctx)
			return err
		}},
		{seal.UpdatesPending, "see which updates are pending", func() (err error) {
			f.UpdatesPending, err = m.updatesPending(ctx)
			return err
		}},
		{seal.SecretsLeft, "look for secrets", func() (err error) {
			f.Secrets, err = m.secrets(ctx)
			return err
		}},
		{seal.Leftovers, "look for what steps left", func() (err error) {
			f.Leftovers, err = m.leftovers()
			return err
		}},
		{seal.MountedBelow, "list the mounts", func() (err error) {
			f.MountedBelow, err = m.mountedBelow()
			return err
		}},
		{seal.DomainJoined, "see whether it is joined to a domain", func() (err error) {
			f.Joined, err = m.joined()
			return err
		}},
		{seal.DiskEncrypted, "look at its disks", func() (err error) {
			f.Encrypted, err = m.encrypted(ctx)
			return err
		}},
		{seal.OtherDisks, "look at its disks", func() (err error) {
			f.OtherDisks, err = m.otherDisks(ctx)
			return err
		}},
		{seal.FileSystems, "look at its file systems", func() (err error) {
			f.FileSystems, err = m.fileSystems(ctx)
			return err
		}},
		{seal.LittleRoom, "see how much room there is", func() (err error) {
			f.Room, err = m.room()
			return err
		}},
		{seal.AgentUnfit, "look at pane-agent", agent},
		{seal.AgentVersion, "look at pane-agent", agent},
		{seal.MachineUnfit, "see what started it", func() error {
			f.Firmware = m.firmware()
			return nil
		}},
		{seal.StaticNetwork, "look at the network's settings", func() (err error) {
			f.StaticNetwork, err = m.staticNetwork()
			return err
		}},
		{seal.SoftwareRefused, "look at its software", func() (err error) {
			f.Refused, err = m.refused(ctx, look.Refuse)
			return err
		}},
		{seal.PersonalSoft, "look for software in homes", func() (err error) {
			f.PersonalSoftware = m.matching(personal...)
			return nil
		}},
		{seal.ServicesFailed, "look at its services", func() (err error) {
			f.ServicesFailed, err = m.servicesFailed(ctx)
			return err
		}},
	} {
		if len(look.Only) > 0 && !slices.Contains(look.Only, part.check) {
			continue
		}
		if err := part.find(); err != nil {
			return f, fmt.Errorf("%s: %w", part.doing, err)
		}
	}
	return f, nil
}

func (m Machine) path(p string) string { return filepath.Join(m.Root, p) }

// run runs a program and returns what it printed, "" if none are run.
func (m Machine) run(ctx context.Context, name string, args ...string) (string, error) {
	if m.Run == nil {
		return "", nil
	}
	return m.Run(ctx, name, args...)
}

// restartPending says what waits for a restart: what the package manager notes
// down in /run/reboot-required, or a kernel that is installed and does not run.
func (m Machine) restartPending(ctx context.Context) (string, error) {
	text, err := os.ReadFile(m.path("/run/reboot-required.pkgs"))
	switch {
	case err == nil:
		names := strings.Fields(string(text))
		slices.Sort(names)
		return strings.Join(slices.Compact(names), ", "), nil
	case !errors.Is(err, fs.ErrNotExist):
		return "", err
	}
	if _, err := os.Stat(m.path("/run/reboot-required")); err == nil {
		return "an update", nil
	}
	release, err := m.run(ctx, "uname", "-r")
	running := strings.TrimSpace(release)
	if err != nil || running == "" {
		return "", err
	}
	kernels, err := filepath.Glob(m.path("/boot/vmlinuz-*"))
	if err != nil {
		return "", err
	}
	newest, made, runs := "", time.Time{}, time.Time{} // made: when it was, as its package says
	for _, k := range kernels {
		info, err := os.Stat(k)
		if err != nil {
			return "", err
		}
		name := strings.TrimPrefix(filepath.Base(k), "vmlinuz-")
		if name == running {
			runs = info.ModTime()
		}
		if info.ModTime().After(made) {
			newest, made = name, info.ModTime()
		}
	}
	if made.After(runs) {
		return "the kernel " + newest + " (" + running + " runs)", nil
	}
	return "", nil
}

// updatesPending names the packages of which there are newer ones, by what the
// package manager last heard.
func (m Machine) updatesPending(ctx context.Context) (names []string, err error) {
	out, err := m.run(ctx, "apt-get", "--simulate", "--quiet", "dist-upgrade")
	for line := range strings.Lines(out) {
		if rest, ok := strings.CutPrefix(line, "Inst "); ok {
			names = append(names, strings.Fields(rest)[0])
		}
	}
	return names, err
}

// secrets looks through the files in which people and steps leave things.
func (m Machine) secrets(ctx context.Context) (found []string, err error) {
	packaged, err := m.packaged()
	if err != nil {
		return nil, err
	}
	for _, top := range searched {
		err := filepath.WalkDir(m.path(top), func(file string, e fs.DirEntry, err error) error {
			switch {
			case errors.Is(err, fs.ErrNotExist):
				return nil // it went away meanwhile
			case err != nil:
				return err
			case ctx.Err() != nil:
				return ctx.Err()
			case !e.Type().IsRegular():
				return nil
			}
			content, err := beginning(file)
			if err != nil {
				return err
			}
			name, err := filepath.Rel(m.Root, file)
			if err != nil {
				return err
			}
			name = "/" + name
			if ok, _ := filepath.Match(notSearched, name); ok {
				return nil
			}
			if what := seal.Secret(name, content); what != "" && packaged[name] != sum(content) {
				found = append(found, name+" ("+what+")")
			}
			return nil
		})
		if err != nil {
			return nil, err
		}
	}
	return found, nil
}

// packaged returns the digests of settings as their packages brought them, by
// path, from the database of Debian's package manager: examples of passwords in
// them are nobody's.
func (m Machine) packaged() (map[string]string, error) {
	digests := map[string]string{}
	text, err := os.ReadFile(m.path("/var/lib/dpkg/status"))
	if errors.Is(err, fs.ErrNotExist) {
		return digests, nil
	}
	listing := false
	for line := range strings.Lines(string(text)) {
		if !strings.HasPrefix(line, " ") {
			listing = strings.HasPrefix(line, "Conffiles:")
		} else if f := strings.Fields(line); listing && len(f) >= 2 {
			digests[f[0]] = f[1]
		}
	}
	return digests, err
}

// sum is the digest by which the package manager knows a file.
func sum(content []byte) string {
	s := md5.Sum(content)
	return hex.EncodeToString(s[:])
}

// beginning reads what is looked at of a file.
func beginning(file string) ([]byte, error) {
	f, err := os.Open(file)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return io.ReadAll(io.LimitReader(f, seal.MostOfFile))
}

// leftovers names the files in the temporary folders that the system did not put there. A folder with a mount in it is
// left out: mountedBelow names it, and it must not be deleted.
func (m Machine) leftovers() (found []string, err error) {
	mounted, err := m.mounts()
	if err != nil {
		return nil, err
	}
	for _, folder := range []string{"/tmp", "/var/tmp"} {
		entries, err := os.ReadDir(m.path(folder))
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return nil, err
		}
		for _, e := range entries {
			own := slices.ContainsFunc(ownTemporary, func(p string) bool {
				ok, _ := filepath.Match(p, e.Name())
				return ok
			})
			path := folder + "/" + e.Name()
			if !own && !slices.ContainsFunc(mounted, func(m mount) bool { return m.at == path || below(m.at, path) }) {
				found = append(found, path)
			}
		}
	}
	return found, nil
}
