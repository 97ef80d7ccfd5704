package software

import (
	"cmp"
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"

	"github.com/prometheus/procfs"

	"nimblepane/core/software"
)

// facts are what there is to be known of the machine beside its software.
func (m *machine) facts(ctx context.Context, release map[string]string, entries []software.Entry) (f software.Facts,
	err error,
) {
	f = software.Facts{
		System: release["PRETTY_NAME"], Edition: cmp.Or(release["VARIANT"], release["VARIANT_ID"]),
		Agents: agents(entries),
	}
	for _, ask := range []struct {
		into *string
		flag string
	}{{&f.Kernel, "-r"}, {&f.Arch, "-m"}} {
		out, err := m.run(ctx, "uname", ask.flag)
		if err != nil {
			return f, err
		}
		*ask.into = strings.TrimSpace(out)
	}
	if f.TimeZone, err = m.timeZone(); err != nil {
		return f, err
	}
	if f.Language, err = m.language(); err != nil {
		return f, err
	}
	if f.Services, err = m.services(ctx); err != nil {
		return f, err
	}
	if f.Accounts, err = m.accounts(); err != nil {
		return f, err
	}
	if f.Ports, err = m.ports(); err != nil {
		return f, err
	}
	f.Disk, err = m.disk(ctx)
	return f, err
}

func (m *machine) timeZone() (string, error) {
	if to, err := os.Readlink(m.path("/etc/localtime")); err == nil {
		if _, zone, ok := strings.Cut(to, "/zoneinfo/"); ok {
			return zone, nil
		}
	}
	text, err := m.read("/etc/timezone")
	return strings.TrimSpace(string(text)), err
}

func (m *machine) language() (string, error) {
	for _, file := range []string{"/etc/locale.conf", "/etc/default/locale"} {
		text, err := m.read(file)
		if err != nil {
			return "", err
		}
		for line := range strings.Lines(string(text)) {
			if value, ok := strings.CutPrefix(strings.TrimSpace(line), "LANG="); ok {
				return strings.Trim(value, `"'`), nil
			}
		}
	}
	return "", nil
}

// services are the units that are enabled. systemctl reads their files: a machine
// that has just started is often too busy for its service manager to answer.
func (m *machine) services(ctx context.Context) (names []string, err error) {
	out, err := m.run(ctx, "systemctl", "list-unit-files", "--root="+m.Root, "--state=enabled", "--type=service,socket",
		"--plain", "--no-legend", "--no-pager")
	for line := range strings.Lines(out) {
		if f := strings.Fields(line); len(f) > 0 {
			names = append(names, f[0])
		}
	}
	slices.Sort(names)
	return names, err
}

// closed are the shells with which nobody signs in.
var closed = []string{"nologin", "false", "sync", "halt", "shutdown"}

// accounts reads passwd(5), and from shadow(5) whether there is a way to sign in.
func (m *machine) accounts() (list []software.Account, err error) {
	text, err := m.read("/etc/passwd")
	if err != nil {
		return nil, err
	}
	for line := range strings.Lines(string(text)) {
		f := strings.Split(strings.TrimSpace(line), ":")
		if len(f) != 7 {
			continue
		}
		list = append(list, software.Account{
			Name: f[0], ID: f[2], Home: f[5], Shell: f[6], Signs: !slices.Contains(closed, filepath.Base(f[6])),
		})
	}
	slices.SortFunc(list, func(a, b software.Account) int { return strings.Compare(a.Name, b.Name) })
	return list, nil
}

// States of sockets, as Linux counts them (include/net/tcp_states.h).
const tcpListens, udpUnconnected = 10, 7

// ports are those that are listened on, as /proc/net lists them.
func (m *machine) ports() (list []software.Port, err error) {
	if _, err := os.Stat(m.path("/proc/net/tcp")); err != nil {
		return nil, nil //nolint:nilerr // a tree of files, and no machine that runs
	}
	proc, err := procfs.NewFS(m.path("/proc"))
	if err != nil {
		return nil, err
	}
	programs := holders(proc)
	add := func(protocol, address string, port, inode uint64) {
		list = append(list, software.Port{
			Protocol: protocol, Address: address, Port: int(port), Program: programs[inode],
		})
	}
	// What follows the library's advice, netlink, wants a part of the kernel that small guests lack.
	//lint:ignore SA1019 these tables are in every kernel, and are read once
	for _, read := range []func() (procfs.NetTCP, error){proc.NetTCP, proc.NetTCP6} {
		sockets, err := read()
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return nil, err
		}
		for _, s := range sockets {
			if s.St == tcpListens {
				add("tcp", s.LocalAddr.String(), s.LocalPort, s.Inode)
			}
		}
	}
	for _, read := range []func() (procfs.NetUDP, error){proc.NetUDP, proc.NetUDP6} {
		sockets, err := read()
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return nil, err
		}
		for _, s := range sockets {
			if s.St == udpUnconnected {
				add("udp", s.LocalAddr.String(), s.LocalPort, s.Inode)
			}
		}
	}
	slices.SortFunc(list, func(a, b software.Port) int {
		return cmp.Or(strings.Compare(a.Protocol, b.Protocol), cmp.Compare(a.Port, b.Port),
			strings.Compare(a.Address, b.Address))
	})
	return slices.Compact(list), nil
}

// holders names the program that holds a socket, by the socket's inode. A
// process that ends meanwhile holds none.
func holders(proc procfs.FS) map[uint64]string {
	programs := map[uint64]string{}
	processes, err := proc.AllProcs()
	if err != nil {
		return programs
	}
	for _, p := range processes {
		name, err := p.Comm()
		if err != nil {
			continue
		}
		targets, err := p.FileDescriptorTargets()
		if err != nil {
			continue
		}
		for _, t := range targets {
			var inode uint64
			if number, ok := strings.CutPrefix(t, "socket:["); ok {
				for _, c := range []byte(strings.TrimSuffix(number, "]")) {
					inode = inode*10 + uint64(c-'0')
				}
				programs[inode] = name
			}
		}
	}
	return programs
}

// disk says what the file system of the root is used for. Others are not looked at.
func (m *machine) disk(ctx context.Context) (d software.Disk, err error) {
	var at syscall.Statfs_t
	if err := syscall.Statfs(m.path("/"), &at); err != nil {
		return d, err
	}
	d.Size = int64(at.Blocks) * at.Bsize
	d.Used = d.Size - int64(at.Bfree)*at.Bsize
	device := func(info fs.FileInfo) uint64 { return info.Sys().(*syscall.Stat_t).Dev }
	top, err := os.Stat(m.path("/"))
	if err != nil {
		return d, err
	}
	sizes := map[string]int64{}
	type file struct{ device, inode uint64 }
	seen := map[file]bool{} // of several names one is counted
	err = filepath.WalkDir(m.path("/"), func(p string, e fs.DirEntry, err error) error {
		if err != nil {
			return skipGone(err)
		}
		if err := ctx.Err(); err != nil {
			return err
		}
		if !e.IsDir() && !e.Type().IsRegular() {
			return nil
		}
		info, err := e.Info()
		if err != nil {
			return skipGone(err)
		}
		switch {
		case e.IsDir() && device(info) != device(top):
			return fs.SkipDir
		case e.IsDir():
			return nil
		}
		st := info.Sys().(*syscall.Stat_t)
		if st.Nlink > 1 {
			if seen[file{st.Dev, st.Ino}] {
				return nil
			}
			seen[file{st.Dev, st.Ino}] = true
		}
		sizes[above(m.name(p))] += st.Blocks * 512
		return nil
	})
	d.Folders = largest(sizes)
	return d, err
}

// skipGone passes over what went away while it was looked for, or may not be seen.
func skipGone(err error) error {
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, fs.ErrPermission) {
		return nil
	}
	return err
}
