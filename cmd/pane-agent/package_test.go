package main

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"testing"

	"github.com/stretchr/testify/require"
)

// packed builds the agent's Debian package.
func packed(t *testing.T) string {
	t.Helper()
	program, deb := filepath.Join(t.TempDir(), "pane-agent"), filepath.Join(t.TempDir(), "pane-agent.deb")
	build := exec.CommandContext(t.Context(), "go", "build", "-trimpath", "-buildvcs=false", "-ldflags", "-s -w", "-o",
		program, ".")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	said(t, build)
	said(t, exec.CommandContext(t.Context(), "../../packaging/deb/build.sh", program, "0.1.0", deb))
	return deb
}

// said is what a program wrote, which has to go well.
func said(t *testing.T, cmd *exec.Cmd) string {
	t.Helper()
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)
	return string(out)
}

func TestThePackageIsAsDebianWantsIt(t *testing.T) {
	t.Parallel()
	deb := packed(t)
	require.Empty(t, said(t, exec.CommandContext(t.Context(), "lintian", "--allow-root", "--fail-on", "error,warning",
		"--no-cfg", deb)))
}

func TestPurgingThePackageDeletesTheCredential(t *testing.T) {
	t.Parallel()
	root, deb := t.TempDir(), packed(t)
	for _, folder := range []string{"var/lib/dpkg/updates", "var/lib/dpkg/info", "run"} {
		require.NoError(t, os.MkdirAll(filepath.Join(root, folder), 0o755))
	}
	for _, file := range []string{"status", "available"} {
		require.NoError(t, os.WriteFile(filepath.Join(root, "var/lib/dpkg", file), nil, 0o644))
	}
	dpkg := func(args ...string) {
		t.Helper()
		cmd := exec.CommandContext(t.Context(), "dpkg", append([]string{
			"--root=" + root, "--force-script-chrootless", "--force-not-root", "--force-architecture",
			"--force-depends",
		}, args...)...)
		said(t, cmd)
	}
	file := func(name string) string { return filepath.Join(root, name) }
	dpkg("--install", deb)
	require.FileExists(t, file("usr/bin/pane-agent"))
	enabled, err := os.Readlink(file("etc/systemd/system/multi-user.target.wants/pane-agent.service"))
	require.NoError(t, err)
	require.Contains(t, enabled, "/systemd/system/pane-agent.service")
	require.NoFileExists(t, file("etc/systemd/system/multi-user.target.wants/pane-agent-depot.service"))

	for _, name := range []string{
		"var/lib/nimblepane/credential", "etc/nimblepane/seed.yaml", "run/nologin", "etc/nimblepane/checks/30-own",
	} {
		require.NoError(t, os.MkdirAll(filepath.Dir(file(name)), 0o700))
		require.NoError(t, os.WriteFile(file(name), []byte("x"), 0o600))
	}
	dpkg("--install", deb)
	require.FileExists(t, file("var/lib/nimblepane/credential"), "an upgrade keeps it")
	dpkg("--remove", "pane-agent")
	require.NoFileExists(t, file("run/nologin"), "nothing else removes the file")
	require.FileExists(t, file("var/lib/nimblepane/credential"))
	dpkg("--purge", "pane-agent")
	require.NoDirExists(t, file("var/lib/nimblepane"))
	require.NoFileExists(t, file("etc/nimblepane/seed.yaml"))
	require.NoFileExists(t, file("etc/systemd/system/multi-user.target.wants/pane-agent.service"))
	require.FileExists(t, file("etc/nimblepane/checks/30-own"), "the organisation's own")
}

func TestTheUnitsAreHardened(t *testing.T) {
	t.Parallel()
	units, err := filepath.Glob("../../packaging/deb/*.service")
	require.NoError(t, err)
	require.Len(t, units, 3)
	for _, unit := range units {
		path, err := filepath.Abs(unit)
		require.NoError(t, err)
		out := said(t, exec.CommandContext(t.Context(), "systemd-analyze", "security", "--offline=true", path))
		m := regexp.MustCompile(`Overall exposure level for \S+: ([\d.]+)`).FindStringSubmatch(out)
		require.NotNil(t, m, out)
		exposure, err := strconv.ParseFloat(m[1], 64)
		require.NoError(t, err)
		require.Less(t, exposure, 5.0, unit)
	}
}
