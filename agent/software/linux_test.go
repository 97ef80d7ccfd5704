//go:build linux

package software_test

import (
	"bytes"
	"compress/gzip"
	"context"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"nimblepane/agent/seal"
	"nimblepane/agent/software"
	core "nimblepane/core/software"
)

// tree is a machine's files in a folder, with the programs that it has.
func tree(t *testing.T, files map[string]string, programs map[string]string) seal.Machine {
	t.Helper()
	root := t.TempDir()
	for name, content := range files {
		file := filepath.Join(root, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
		if strings.HasSuffix(name, ".gz") {
			var packed bytes.Buffer
			w := gzip.NewWriter(&packed)
			_, err := w.Write([]byte(content))
			require.NoError(t, err)
			require.NoError(t, w.Close())
			content = packed.String()
		}
		require.NoError(t, os.WriteFile(file, []byte(content), 0o644))
	}
	return seal.Machine{Root: root, Run: func(_ context.Context, name string, args ...string) (string, error) {
		line := strings.Join(append([]string{name}, args...), " ")
		for begins, out := range programs {
			if strings.HasPrefix(line, begins) {
				return out, nil
			}
		}
		return "", nil
	}}
}

func named(t *testing.T, l core.List, name string) core.Entry {
	t.Helper()
	i := slices.IndexFunc(l.Entries, func(e core.Entry) bool { return e.Name == name })
	require.GreaterOrEqual(t, i, 0, "%s is not in %v", name, l.Entries)
	return l.Entries[i]
}

const release = "ID=debian\nVERSION_ID=\"12\"\nPRETTY_NAME=\"Debian GNU/Linux 12 (bookworm)\"\nVARIANT=\"Quay\"\n"

func TestADebianMachineIsListed(t *testing.T) {
	t.Parallel()
	m := tree(t, map[string]string{
		"etc/os-release": release,
		"var/lib/dpkg/status": `Package: fare-desk
Status: install ok installed
Architecture: amd64
Source: fares (6.2)
Version: 6.2-1
Section: misc
Description: sells tickets
 at the counter, and on
 board
Conffiles:
 /etc/fare-desk.conf 0123

Package: gone
Status: deinstall ok config-files
Version: 1

Package: qemu-guest-agent
Status: install ok installed
Architecture: amd64
Version: 1:7.2-1

Package: fonts-quay
Status: install ok installed
Section: fonts
Version: 1-1`,
		"var/lib/dpkg/info/fare-desk.list": "/usr\n/bin/fare-desk\n" +
			"/usr/share/applications/fares.desktop\n/opt/fares\n",
		"usr/share/applications/fares.desktop":    "[Desktop Entry]\nName=Fares\n",
		"usr/share/applications/hidden.desktop":   "NoDisplay=true\n",
		"var/lib/dpkg/info/qemu-guest-agent.list": "/usr/share/applications/hidden.desktop\n",
		"usr/share/doc/fare-desk/copyright": "Format: https://x\n\nFiles: " +
			"*\nLicense: Apache-2.0\n\nLicense: MIT\n words\n",
		"usr/share/doc/fare-desk/changelog.gz": "fare-desk (6.2-1) unstable; " +
			"urgency=low\n",
		"usr/share/doc/qemu-guest-agent/copyright": "This is free.\nLicense: it is\n",
		"usr/share/doc/qemu-guest-agent/changelog.Debian.gz": "qemu (1:7.2-1) " +
			"bookworm-security; urgency=high\n",
		"usr/share/doc/fonts-quay/changelog.gz": "",
		"opt/fares/VERSION":                     "1",
		"opt/tide-tables-2.9/bin/tides":         "",
		"opt/berths/VERSION":                    "Berths 5.0.1 of summer\n",
		"usr/local/bin/mend":                    "",
		"usr/local/lib/python3.11/dist-packages/tidepy-1.2.dist-info/METADATA": "Name: tidepy\nVersion: " +
			"1.2\nLicense: MIT\n\ntext",
		"usr/local/lib/python3.11/dist-packages/tidepy-1.2.dist-info/INSTALLER": "pip\n",
		"usr/lib/python3.11/site-packages/owned-1.dist-info/METADATA":           "Name: owned\nVersion: 1\n",
		"usr/lib/python3.11/site-packages/owned-1.dist-info/INSTALLER":          "rpm",
		"usr/local/lib/python3.11/dist-packages/broken-1.dist-info/METADATA":    "nothing",
		"usr/lib/node_modules/@quay/board/package.json":                         `{"name": "@quay/board", "version": "1.9.0", "license": {"type": "MIT"}}`,
		"usr/lib/node_modules/broken/package.json":                              `{`,
		"etc/passwd":          "root:x:0:0::/root:/bin/bash\ndaemon:x:1:1::/:/usr/sbin/nologin\nbroken\n",
		"etc/timezone":        "Europe/Paris\n",
		"etc/default/locale":  "LANG=\"fr_FR.UTF-8\"\n",
		"usr/lib/big/library": strings.Repeat("x", 100_000),
	}, map[string]string{
		"uname -r": "6.1.0-13-amd64\n", "uname -m": "x86_64\n",
		"systemctl list-unit-files": "ssh.service enabled enabled\ncron.service enabled enabled\n",
		"flatpak list":              "org.quay.Map\t1.4\tx86_64\tquay\tMap\n",
	})
	l, err := software.Of(t.Context(), m, []string{"/usr/bin/fare-desk", "/opt/tide-tables-2.9/bin/tides"})
	require.NoError(t, err)
	require.Equal(t, core.Entry{
		Origin: core.Deb, Name: "fare-desk", Version: "6.2-1", Arch: "amd64", Source: "fares", SourceVersion: "6.2",
		Licence: "Apache-2.0, MIT", Summary: "sells tickets", Noticed: true, Opens: []string{"/usr/bin/fare-desk"},
	}, named(t, l, "fare-desk"))
	agent := named(t, l, "qemu-guest-agent")
	require.True(t, agent.Security)
	require.False(t, agent.Noticed, "its menu entry is hidden")
	require.Empty(t, agent.Licence, "its copyright file is for people")
	require.True(t, named(t, l, "fonts-quay").Noticed)
	require.Equal(t, core.Entry{
		Origin: core.Folder, Name: "tide-tables", Version: "2.9", Path: "/opt/tide-tables-2.9", Noticed: true,
		Opens: []string{"/opt/tide-tables-2.9/bin/tides"},
	}, named(t, l, "tide-tables"))
	require.Equal(t, "5.0.1", named(t, l, "berths").Version)
	require.Equal(t, core.Folder, named(t, l, "mend").Origin)
	require.Equal(t, core.Python, named(t, l, "tidepy").Origin)
	require.Equal(t, "1.9.0", named(t, l, "@quay/board").Version)
	require.Equal(t, core.Flatpak, named(t, l, "org.quay.Map").Origin)
	require.Equal(t, "12", named(t, l, "debian").Version)
	for _, e := range l.Entries {
		require.NotContains(t, []string{"gone", "fares", "owned", "broken"}, e.Name)
	}
	f := l.Facts
	require.Equal(t, "Debian GNU/Linux 12 (bookworm) Quay 6.1.0-13-amd64 x86_64 Europe/Paris fr_FR.UTF-8",
		strings.Join([]string{f.System, f.Edition, f.Kernel, f.Arch, f.TimeZone, f.Language}, " "))
	require.Equal(t, []string{"cron.service", "ssh.service"}, f.Services)
	require.Equal(t, []core.Agent{{Name: "qemu-guest-agent", Version: "1:7.2-1"}}, f.Agents)
	require.Equal(t, "daemon", f.Accounts[0].Name)
	require.False(t, f.Accounts[0].Signs)
	require.True(t, f.Accounts[1].Signs)
	require.Equal(t, "/usr/lib", f.Disk.Folders[0].Path)
	require.Positive(t, f.Disk.Used)
}

func TestAMachineWithRPMIsListed(t *testing.T) {
	t.Parallel()
	m := tree(t, map[string]string{
		"etc/os-release": release, "usr/share/applications/a.desktop": "", "usr/bin/fare-desk": "",
	}, map[string]string{
		"rpm --query --all": "bash\x1f5.2-1\x1fx86_64\x1fbash-5.2-1.src.rpm\x1fGPL\x1fQuay\x1fa shell\x1f- mends " +
			"CVE-2026-1\x1e" +
			"fare-desk\x1f1:6.2-1\x1fnoarch\x1ffares-6.2-1.src.rpm\x1f(none)\x1f(none)\x1ftickets\x1f(none)\x1e" +
			"gpg-pubkey\x1f1\x1f(none)\x1f(none)\x1f(none)\x1f(none)\x1f(none)\x1f(none)\x1e",
		"rpm --query --file": "fare-desk\n",
	})
	l, err := software.Of(t.Context(), m, []string{"/usr/bin/fare-desk", "/usr/bin/none"})
	require.NoError(t, err)
	require.Len(t, l.Entries, 3)
	require.Equal(t, core.Entry{
		Origin: core.RPM, Name: "bash", Version: "5.2-1", Arch: "x86_64", Licence: "GPL", Publisher: "Quay",
		Summary: "a shell", Security: true,
	}, named(t, l, "bash"))
	require.Equal(t, core.Entry{
		Origin: core.RPM, Name: "fare-desk", Version: "1:6.2-1", Arch: "noarch", Source: "fares", Summary: "tickets",
		Noticed: true, Opens: []string{"/usr/bin/fare-desk"},
	}, named(t, l, "fare-desk"))
	m.Run = func(context.Context, string, ...string) (string, error) { return "odd", nil }
	_, err = software.Of(t.Context(), m, nil)
	require.ErrorContains(t, err, "has not the fields that were asked for")
}

func TestWhatListensIsListedWithItsProgram(t *testing.T) {
	t.Parallel()
	var on net.ListenConfig
	listener, err := on.Listen(t.Context(), "tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer listener.Close()
	m := tree(t, map[string]string{"etc/os-release": release}, nil)
	require.NoError(t, os.Symlink("/proc", filepath.Join(m.Root, "proc")))
	l, err := software.Of(t.Context(), m, nil)
	require.NoError(t, err)
	i := slices.IndexFunc(l.Facts.Ports, func(p core.Port) bool {
		return p.Protocol == "tcp" && p.Address == "127.0.0.1" && p.Port == listener.Addr().(*net.TCPAddr).Port
	})
	require.GreaterOrEqual(t, i, 0, "%v", l.Facts.Ports)
	require.Contains(t, l.Facts.Ports[i].Program, "software", "it is the test's own")
}
