//go:build linux

package seal_test

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"nimblepane/agent/seal"
)

// used makes the files of a machine that has been in use.
func used(t *testing.T, files map[string]string) string {
	root := t.TempDir()
	for name, content := range files {
		path := filepath.Join(root, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(content), 0o644))
	}
	return root
}

func TestNothingOfThisOneMachineIsLeft(t *testing.T) {
	t.Parallel()
	gone := []string{
		"etc/ssh/ssh_host_ed25519_key", "etc/ssh/ssh_host_ed25519_key.pub", "var/lib/dhcp/dhclient.ens3.leases",
		"var/lib/NetworkManager/internal-1.lease",
		"var/lib/systemd/random-seed", "var/lib/cloud/instances/i-1/user-data.txt", "var/lib/cloud/sem/config.done",
		"var/lib/nimblepane/agent.json",
		"etc/nimblepane/seed.yaml", "run/nologin", "root/.bash_history", "home/wilma/.bash_history",
		"home/wilma/.python_history", "var/cache/apt/archives/tide_1_amd64.deb",
		"var/cache/apt/pkgcache.bin", "var/lib/apt/lists/packages", "var/log/journal/0123/system.journal",
		"var/log/syslog.1", "var/log/apt/history.log.2.gz", "tmp/left", "var/lib/dbus/machine-id",
	}
	emptied := []string{"etc/machine-id", "var/log/syslog", "var/log/wtmp", "var/log/apt/history.log"}
	stays := []string{"etc/ssh/sshd_config", "home/wilma/Tides.ods", "etc/hostname", "root/.bashrc"}
	files := map[string]string{}
	for _, list := range [][]string{gone, emptied, stays} {
		for _, f := range list {
			files[f] = "of this machine"
		}
	}
	root := used(t, files)
	var ran []string
	m := seal.Machine{Root: root, Run: func(_ context.Context, name string, args ...string) (string, error) {
		ran = append(ran, strings.Join(append([]string{name}, args...), " "))
		return "", nil
	}}
	done, err := seal.Do(t.Context(), m, "counter-desk 2026.11.1")
	require.NoError(t, err)
	for _, f := range gone {
		require.NoFileExists(t, filepath.Join(root, f))
	}
	for _, f := range emptied {
		content, err := os.ReadFile(filepath.Join(root, f))
		require.NoError(t, err, f)
		require.Empty(t, content, f)
	}
	for _, f := range stays {
		require.FileExists(t, filepath.Join(root, f))
	}
	stamp, err := os.ReadFile(filepath.Join(root, seal.StampPath))
	require.NoError(t, err)
	require.Equal(t, "counter-desk 2026.11.1\n", string(stamp))
	require.Contains(t, done, "SSH host keys removed (2)")
	require.Contains(t, done, "logs emptied (3) and old ones removed (3)")
	require.Contains(t, done, "version stamp written: counter-desk 2026.11.1")
	require.Equal(t, "systemctl stop pane-agent.service", ran[0], "what would write again is stopped first")

	again, err := seal.Do(t.Context(), m, "counter-desk 2026.11.1")
	require.NoError(t, err)
	require.Contains(t, again, "machine-id emptied: each clone makes its own")
	require.NotContains(t, again, "SSH host keys removed (2)")
}

func TestWhatIsMadeAnewWhileTheMachineIsSealedIsFound(t *testing.T) {
	t.Parallel()
	root := used(t, map[string]string{"etc/machine-id": "x", "etc/ssh/ssh_host_rsa_key": "x"})
	m := seal.Machine{Root: root, Run: func(_ context.Context, name string, _ ...string) (string, error) {
		if name == "sync" { // somebody was faster
			require.NoError(t, os.WriteFile(filepath.Join(root, "etc/ssh/ssh_host_rsa_key"), []byte("new"), 0o600))
			require.NoError(t, os.WriteFile(filepath.Join(root, "etc/machine-id"), []byte("new"), 0o600))
		}
		return "", nil
	}}
	_, err := seal.Do(t.Context(), m, "a 1")
	require.ErrorContains(t, err, `/etc/machine-id on the disk holds "new", and not ""`)
	require.ErrorContains(t, err, "ssh_host_rsa_key is on the disk still")
}

func TestAMachineWithoutServicesIsSealedToo(t *testing.T) {
	t.Parallel()
	m := seal.Machine{
		Root: used(t, map[string]string{"etc/machine-id": "x"}),
		Run: func(context.Context, string, ...string) (string, error) {
			return "", errors.New("there is no such program")
		},
	}
	done, err := seal.Do(t.Context(), m, "a 1")
	require.NoError(t, err)
	require.NotContains(t, done, "free blocks given back to the disk")
}

func TestAStampIsOneLine(t *testing.T) {
	t.Parallel()
	for _, stamp := range []string{"", "  ", "two\nlines"} {
		_, err := seal.Do(t.Context(), seal.Machine{Root: t.TempDir()}, stamp)
		require.ErrorContains(t, err, "one line", stamp)
	}
}

func TestAMachineThatWasAHostForgetsIt(t *testing.T) {
	t.Parallel()
	root := used(t, map[string]string{
		"var/lib/nimblepane/agent.json": "{}", "etc/nimblepane/seed.yaml": "a", "run/nologin": "not now",
		"var/lib/nimblepane/steps/one/run.sh": "a step", "etc/machine-id": "7",
	})
	var ran []string
	m := seal.Machine{Root: root, Run: func(_ context.Context, name string, args ...string) (string, error) {
		ran = append(ran, strings.Join(append([]string{name}, args...), " "))
		return "", nil
	}}
	done, err := seal.Leave(t.Context(), m)
	require.NoError(t, err)
	require.Equal(t, []string{"agent's credential and seed removed (2)", "people can sign in (1)"}, done)
	require.Equal(t, []string{"systemctl stop pane-agent.service", "systemctl start pane-agent.service"}, ran)
	for _, f := range []string{"var/lib/nimblepane/agent.json", "etc/nimblepane/seed.yaml", "run/nologin"} {
		require.NoFileExists(t, filepath.Join(root, f))
	}
	require.FileExists(t, filepath.Join(root, "var/lib/nimblepane/steps/one/run.sh"), "work goes on")
	require.FileExists(t, filepath.Join(root, "etc/machine-id"))
	again, err := seal.Leave(t.Context(), m)
	require.NoError(t, err)
	require.Empty(t, again)
}
