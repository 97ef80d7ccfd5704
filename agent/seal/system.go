//go:build linux

package seal

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"syscall"

	"github.com/goccy/go-yaml"

	"nimblepane/core/seal"
)

// personal is where software is that somebody installed for themselves.
var personal = inHomes(".local/bin/*", ".local/lib/python*/site-packages/*", ".local/share/flatpak/app/*", "bin/*",
	".npm-global/lib/node_modules/*", ".cargo/bin/*", "snap/*")

func inHomes(patterns ...string) (all []string) {
	for _, home := range []string{"/root", "/home/*"} {
		for _, p := range patterns {
			all = append(all, filepath.Join(home, p))
		}
	}
	return all
}

// matching returns the machine's paths that are like the patterns, in order.
func (m Machine) matching(patterns ...string) (found []string) {
	for _, p := range patterns {
		paths, err := filepath.Glob(m.path(p))
		if err != nil {
			panic(err) // the patterns are ours
		}
		for _, path := range paths {
			found = append(found, m.name(path))
		}
	}
	slices.Sort(found)
	return found
}

// name is what the machine calls a file.
func (m Machine) name(file string) string {
	return "/" + strings.Trim(strings.TrimPrefix(file, m.Root), "/")
}

// read reads a file of the machine; one that is not there is empty.
func (m Machine) read(file string) (string, error) {
	text, err := os.ReadFile(m.path(file))
	if errors.Is(err, fs.ErrNotExist) {
		err = nil
	}
	return string(text), err
}

var provider = regexp.MustCompile(`(?mi)^\s*id_provider\s*=\s*(ad|ipa|ldap)\b`)

// joined names what a machine has that is joined to a domain: the keys and
// secrets of its account there, or the settings by which it looks people up.
func (m Machine) joined() (found []string, err error) {
	found = m.matching("/etc/krb5.keytab", "/var/lib/samba/private/secrets.tdb")
	for _, file := range m.matching("/etc/sssd/sssd.conf", "/etc/sssd/conf.d/*.conf") {
		text, err := m.read(file)
		if err != nil {
			return nil, err
		}
		if provider.MatchString(text) {
			found = append(found, file)
		}
	}
	return found, nil
}

// block is a disk, or a part of one, as lsblk lists it.
type block struct {
	Path        string   `json:"path"`
	Type        string   `json:"type"`
	FSType      string   `json:"fstype"`
	ReadOnly    bool     `json:"ro"`
	Mountpoints []string `json:"mountpoints"`
	Children    []block  `json:"children"`
}

// walk calls fn for the block and all that is in it.
func (b block) walk(fn func(block)) {
	fn(b)
	for _, c := range b.Children {
		c.walk(fn)
	}
}

func (m Machine) blocks(ctx context.Context) ([]block, error) {
	out, err := m.run(ctx, "lsblk", "--json", "--output", "PATH,TYPE,FSTYPE,RO,MOUNTPOINTS")
	if err != nil || out == "" {
		return nil, err
	}
	var listed struct {
		Devices []block `json:"blockdevices"`
	}
	if err := json.Unmarshal([]byte(out), &listed); err != nil {
		return nil, fmt.Errorf("read what lsblk prints: %w", err)
	}
	return listed.Devices, nil
}

// encrypted names the disks and parts that are.
func (m Machine) encrypted(ctx context.Context) (found []string, err error) {
	disks, err := m.blocks(ctx)
	for _, d := range disks {
		d.walk(func(b block) {
			if b.Type == "crypt" || b.FSType == "crypto_LUKS" || b.FSType == "BitLocker" {
				found = append(found, b.Path)
			}
		})
	}
	return found, err
}

// otherDisks names disks that are mounted or used for swap beside the one that the system is on.
func (m Machine) otherDisks(ctx context.Context) (found []string, err error) {
	disks, err := m.blocks(ctx)
	for _, d := range disks {
		var used []string
		system := false
		d.walk(func(b block) {
			for _, at := range b.Mountpoints {
				system = system || at == "/"
				if at != "" {
					used = append(used, at)
				}
			}
		})
		if d.Type == "disk" && !strings.HasPrefix(d.Path, "/dev/zram") && !system && len(used) > 0 {
			found = append(found, d.Path+" (at "+strings.Join(used, ", ")+")")
		}
	}
	return found, err
}

// damage is what a kernel says of file systems and disks that are damaged.
var damage = regexp.MustCompile(`(?i)EXT4-fs error|XFS .*corrupt|BTRFS.* (error|corrupt)|I/O error, dev (vd|sd|nvme|xvd)`)

// fileSystems says what is wrong with them: errors that ext4 has counted, and what the kernel has said since its start.
func (m Machine) fileSystems(ctx context.Context) (found []string, err error) {
	for _, file := range m.matching("/sys/fs/ext4/*/errors_count") {
		text, err := m.read(file)
		if err != nil {
			return nil, err
		}
		if n, err := strconv.Atoi(strings.TrimSpace(text)); err == nil && n > 0 {
			found = append(found, fmt.Sprintf("%s has %d errors", filepath.Base(filepath.Dir(file)), n))
		}
	}
	said, err := m.run(ctx, "journalctl", "--dmesg", "--boot", "--no-pager", "--output", "cat", "--priority", "err")
	for line := range strings.Lines(said) {
		if damage.MatchString(line) {
			found = append(found, strings.TrimSpace(line))
		}
	}
	return slices.Compact(found), err
}

// room says how much is free where sealing and first starts write.
func (m Machine) room() (list []seal.Room, err error) {
	seen := map[syscall.Fsid]bool{}
	for _, path := range []string{"/", "/etc", "/tmp", "/var", "/var/tmp"} {
		var at syscall.Statfs_t
		err := syscall.Statfs(m.path(path), &at)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return nil, err
		}
		if !seen[at.Fsid] {
			list = append(list, seal.Room{Path: path, Free: int64(at.Bavail) * at.Bsize})
		}
		seen[at.Fsid] = true
	}
	return list, nil
}

// agent says which pane-agent this is, and whether it starts with the machine.
func (m Machine) agent(ctx context.Context, version string) (*seal.Agent, error) {
	state, err := m.run(ctx, "systemctl", "show", "pane-agent.service", "--property", "UnitFileState", "--value")
	a := &seal.Agent{Version: version}
	switch state = strings.TrimSpace(state); {
	case state == "" && m.Run != nil:
		a.Off = "there is no service of it"
	case state != "" && state != "enabled":
		a.Off = "its service is " + state
	}
	return a, err
}

// firmware is what started the machine.
func (m Machine) firmware() string {
	if _, err := os.Stat(m.path("/sys/firmware/efi")); err == nil {
		return "uefi"
	}
	return "bios"
}

var (
	staticInterface = regexp.MustCompile(`(?m)^\s*iface\s+\S+\s+inet6?\s+static\b`)
	staticLink      = regexp.MustCompile(`(?m)^\s*Address\s*=`)
	staticProfile   = regexp.MustCompile(`(?m)^\s*method\s*=\s*manual\b`)
)

// staticNetwork names the files in which an address is set, for each of the
// usual ways: ifupdown, systemd-networkd, NetworkManager and netplan.
func (m Machine) staticNetwork() (found []string, err error) {
	for _, kind := range []struct {
		patterns []string
		static   func(text string) bool
	}{
		{[]string{"/etc/network/interfaces", "/etc/network/interfaces.d/*"}, staticInterface.MatchString},
		{[]string{"/etc/systemd/network/*.network", "/etc/systemd/network/*.network.d/*.conf"}, staticLink.MatchString},
		{[]string{"/etc/NetworkManager/system-connections/*"}, staticProfile.MatchString},
		{[]string{"/etc/netplan/*.yaml"}, staticPlan},
	} {
		for _, file := range m.matching(kind.patterns...) {
			text, err := m.read(file)
			if err != nil {
				return nil, err
			}
			if kind.static(text) {
				found = append(found, file)
			}
		}
	}
	return found, nil
}

// staticPlan says whether a file of netplan gives an interface addresses.
func staticPlan(text string) bool {
	var plan struct {
		Network map[string]any `yaml:"network"`
	}
	if yaml.Unmarshal([]byte(text), &plan) != nil {
		return false // netplan does not take it either
	}
	for _, kind := range plan.Network {
		interfaces, _ := kind.(map[string]any)
		for _, i := range interfaces {
			settings, _ := i.(map[string]any)
			if list, _ := settings["addresses"].([]any); len(list) > 0 {
				return true
			}
		}
	}
	return false
}

// refused names the installed software that a pattern refuses, with its version.
func (m Machine) refused(ctx context.Context, patterns []string) (found []string, err error) {
	if len(patterns) == 0 {
		return nil, nil
	}
	installed, err := m.installed(ctx)
	for _, software := range installed {
		if slices.ContainsFunc(patterns, func(p string) bool { return seal.RefusedBy(p, software) }) {
			found = append(found, software)
		}
	}
	return found, err
}

// installed lists packages with their versions, "fare-desk 1.0", from the databases of dpkg, rpm and flatpak.
func (m Machine) installed(ctx context.Context) (list []string, err error) {
	text, err := m.read("/var/lib/dpkg/status")
	if err != nil {
		return nil, err
	}
	name, there := "", false
	lines := bufio.NewScanner(strings.NewReader(text))
	lines.Buffer(nil, 1<<20)
	for lines.Scan() {
		key, value, _ := strings.Cut(lines.Text(), ": ")
		switch key {
		case "Package":
			name, there = value, false
		case "Status":
			there = strings.HasSuffix(value, " installed")
		case "Version":
			if there {
				list = append(list, name+" "+value)
			}
		}
	}
	if err := lines.Err(); err != nil {
		return nil, fmt.Errorf("read the package database: %w", err)
	}
	for _, ask := range [][]string{
		{"rpm", "--query", "--all", "--queryformat", "%{NAME} %{VERSION}-%{RELEASE}\\n"},
		{"flatpak", "list", "--columns=application,version"},
	} {
		out, err := m.run(ctx, ask[0], ask[1:]...)
		if err != nil {
			return nil, err
		}
		for line := range strings.Lines(out) {
			if fields := strings.Fields(line); len(fields) > 0 {
				list = append(list, strings.Join(fields, " "))
			}
		}
	}
	return list, nil
}

// servicesFailed names the services that systemd says have failed.
func (m Machine) servicesFailed(ctx context.Context) (names []string, err error) {
	out, err := m.run(ctx, "systemctl", "list-units", "--state=failed", "--plain", "--no-legend", "--no-pager")
	for line := range strings.Lines(out) {
		if fields := strings.Fields(line); len(fields) > 0 {
			names = append(names, fields[0])
		}
	}
	return names, err
}
