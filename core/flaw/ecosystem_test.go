package flaw

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"nimblepane/core/software"
)

// release is the operating system that the lines of a real os-release file name.
func release(text string) software.Entry {
	e := software.Entry{Origin: software.System}
	for line := range strings.Lines(text) {
		key, value, _ := strings.Cut(strings.TrimSpace(line), "=")
		value = strings.Trim(value, `"`)
		switch key {
		case "ID":
			e.Name = value
		case "ID_LIKE":
			e.Source = strings.Join(strings.Fields(value), ",")
		case "VERSION_ID":
			e.Version = value
		}
	}
	return e
}

func TestSystemsHaveTheirEcosystems(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		file, name string
		has, not   []string
	}{
		{
			"ID=debian\nVERSION_ID=\"12\"\n", "Debian:12",
			[]string{"Debian:12", "Debian", "debian:12"},
			[]string{"Debian:11", "Debian:1", "Ubuntu:12", "Rocky Linux:12"},
		},
		{
			"ID=raspbian\nID_LIKE=debian\nVERSION_ID=\"12\"\n", "Debian:12",
			[]string{"Debian:12"},
			[]string{"Debian:13"},
		},
		{"ID=kali\nVERSION_ID=\"2026.1\"\nID_LIKE=debian\n", "kali:2026.1", nil, []string{"Debian:12", "Debian"}},
		{
			"ID=ubuntu\nID_LIKE=debian\nVERSION_ID=\"22.04\"\n", "Ubuntu:22.04",
			[]string{"Ubuntu:22.04", "Ubuntu:22.04:LTS", "Ubuntu:Pro:22.04:LTS"},
			[]string{"Ubuntu:20.04:LTS", "Ubuntu:Pro:FIPS:22.04:LTS", "Debian:12"},
		},
		{
			"ID=pop\nID_LIKE=\"ubuntu debian\"\nVERSION_ID=\"22.04\"\n", "Ubuntu:22.04",
			[]string{"Ubuntu:22.04:LTS"},
			nil,
		},
		{
			"ID=\"rocky\"\nID_LIKE=\"rhel centos fedora\"\nVERSION_ID=\"9.4\"\n", "Rocky Linux:9",
			[]string{"Rocky Linux:9"},
			[]string{"Rocky Linux:8", "Red Hat:enterprise_linux:9::baseos", "AlmaLinux:9"},
		},
		{
			"ID=\"almalinux\"\nID_LIKE=\"rhel centos fedora\"\nVERSION_ID=\"8.10\"\n", "AlmaLinux:8",
			[]string{"AlmaLinux:8"},
			[]string{"AlmaLinux:9"},
		},
		{
			"ID=\"rhel\"\nID_LIKE=\"fedora\"\nVERSION_ID=\"9.2\"\n", "Red Hat:enterprise_linux:9",
			[]string{"Red Hat:enterprise_linux:9::baseos", "Red Hat:rhel_eus:9.2::baseos"},
			[]string{
				"Red Hat:enterprise_linux:8::baseos", "Red Hat:rhel_eus:9.4::baseos",
				"Red Hat:openshift:4.12::el9",
			},
		},
		{
			"ID=\"centos\"\nID_LIKE=\"rhel fedora\"\nVERSION_ID=\"9\"\n", "centos:9", nil,
			[]string{"Red Hat:enterprise_linux:9::baseos"},
		},
		{"ID=fedora\nVERSION_ID=42\n", "fedora:42", nil, []string{"Red Hat:enterprise_linux:42::x"}},
		{
			"ID=\"sles\"\nID_LIKE=\"suse\"\nVERSION_ID=\"15.5\"\n", "SUSE:Linux Enterprise Server 15 SP5",
			[]string{
				"SUSE:Linux Enterprise Server 15 SP5", "SUSE:Linux Enterprise Module for Basesystem 15 SP5",
				"SUSE:Linux Enterprise Server 15 SP5-LTSS",
			},
			[]string{"SUSE:Linux Enterprise Server 15 SP4", "openSUSE:Leap 15.5"},
		},
		{
			"ID=\"opensuse-leap\"\nID_LIKE=\"suse opensuse\"\nVERSION_ID=\"15.6\"\n", "openSUSE:Leap 15.6",
			[]string{"openSUSE:Leap 15.6"},
			[]string{"openSUSE:Leap 15.5", "openSUSE:Tumbleweed"},
		},
		{
			"ID=\"opensuse-tumbleweed\"\nID_LIKE=\"opensuse suse\"\nVERSION_ID=\"20261101\"\n", "openSUSE:Tumbleweed",
			[]string{"openSUSE:Tumbleweed"},
			[]string{"openSUSE:Leap 15.6"},
		},
		{"ID=harbour\nVERSION_ID=13\n", "harbour:13", []string{"Harbour:13", "harbour"}, []string{"Harbour:12"}},
		{"", "unknown system", nil, []string{"Debian:12"}},
	} {
		s := systemOf(software.List{Entries: []software.Entry{release(c.file)}})
		require.Equal(t, c.name, s.name(), c.file)
		for _, e := range c.has {
			require.True(t, s.has(e, ""), "%s %s", c.file, e)
		}
		for _, e := range c.not {
			require.False(t, s.has(e, ""), "%s %s", c.file, e)
		}
	}
}

func affecting(id, ecosystem, name, fixed string) Record {
	return Record{ID: id, Severity: High, Affected: []Affected{{
		Ecosystem: ecosystem, Name: name,
		Ranges: []Range{{[]Event{{Introduced: "0"}, {Fixed: fixed}}}},
	}}}
}

func TestKernelsAndBinaryPackagesAreLookedUp(t *testing.T) {
	t.Parallel()
	debian := software.List{Entries: []software.Entry{
		release("ID=debian\nVERSION_ID=\"12\"\n"),
		{
			Origin: software.Deb, Name: "linux-image-6.1.0-18-amd64", Version: "6.1.76-1",
			Source: "linux-signed-amd64", SourceVersion: "6.1.76+1",
		},
	}}
	require.Contains(t, Names(debian), "linux")
	found := Find(debian, []Record{affecting("DEB-1", "Debian:12", "linux", "6.1.80-1"), affecting("DEB-2",
		"Debian:12", "linux", "6.1.70-1")})
	require.Len(t, found, 1)
	require.Equal(t, "DEB-1", found[0].ID)

	rocky := software.List{Entries: []software.Entry{
		release("ID=rocky\nVERSION_ID=9.4\n"),
		{
			Origin: software.RPM, Name: "openssl-libs", Version: "1:3.0.7-24.el9", Source: "openssl",
			SourceVersion: "1:3.0.7-24.el9",
		},
	}}
	require.Equal(t, []string{"openssl", "openssl-libs"}, Names(rocky))
	found = Find(rocky, []Record{
		affecting("RLSA-1", "Rocky Linux:9", "openssl-libs", "1:3.0.7-25.el9"),
		affecting("RLSA-2", "Rocky Linux:9", "openssl", "1:3.0.7-25.el9"),
		affecting("RLSA-3", "Rocky Linux:8", "openssl", "1:3.0.7-25.el9"),
	})
	require.Len(t, found, 2)
}

func TestWhatNoListCoversIsNotChecked(t *testing.T) {
	t.Parallel()
	l := software.List{Entries: []software.Entry{
		release("ID=rocky\nVERSION_ID=9.4\n"),
		{Origin: software.RPM, Name: "bash", Version: "5.1"},
		{Origin: software.RPM, Name: "glibc", Version: "2.34"},
		{Origin: software.Python, Name: "tides", Version: "1"},
		{Origin: software.Folder, Name: "fare-desk", Version: "6"},
		{Origin: software.Application, Name: "Fare Desk", Version: "6"},
	}}
	require.Equal(t, []Gap{
		{"PyPI", 1, []string{"tides 1"}},
		{"Rocky Linux:9", 2, []string{"bash 5.1", "glibc 2.34"}},
		{"folder", 1, []string{"fare-desk 6"}},
	}, NotChecked(l, []string{"Debian:12", "npm"}))
	require.Equal(t, []Gap{{"folder", 1, []string{"fare-desk 6"}}}, NotChecked(l, []string{"Rocky Linux:9", "PyPI"}))
}
