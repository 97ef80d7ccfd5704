//go:build linux

package linux

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/coreos/go-systemd/v22/login1"
	"github.com/godbus/dbus/v5"
	"github.com/stretchr/testify/require"

	"nimblepane/agent"
)

// machine is a root folder of a system without logind.
func machine(t *testing.T, files map[string]string) *System {
	root := t.TempDir()
	for name, content := range files {
		path := filepath.Join(root, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(content), 0o644))
	}
	return &System{
		root: root, logind: func() (*login1.Conn, error) { return nil, errors.New("there is no bus") },
		patience: usualPatience,
	}
}

func utmp(t *testing.T, records ...record) string {
	var b bytes.Buffer
	for _, r := range records {
		require.NoError(t, binary.Write(&b, binary.LittleEndian, r))
	}
	return b.String()
}

func signedIn(line, user string, pid int32) (r record) {
	r.Type, r.PID, r.Seconds = userProcess, pid, 1_795_000_000
	copy(r.Line[:], line)
	copy(r.User[:], user)
	return r
}

func signedInAt(line, user string, pid int32, at time.Time) record {
	r := signedIn(line, user, pid)
	r.Seconds = int32(at.Unix())
	return r
}

func TestWithoutLogindSessionsComeFromUtmp(t *testing.T) {
	t.Parallel()
	require.Equal(t, 384, binary.Size(record{}), "the size that utmp(5) gives")
	s := machine(t, map[string]string{"run/utmp": utmp(t, signedIn("pts/0", "wilma", 4711), record{Type: 2})})
	list, err := s.Sessions(t.Context())
	require.NoError(t, err)
	require.Equal(t, []agent.Session{{
		Key: "utmp:pts/0@1795000000", Person: "wilma", State: agent.Active,
		Since: time.Unix(1_795_000_000, 0).UTC(),
	}}, list)

	_, err = machine(t, map[string]string{"run/utmp": "short"}).Sessions(t.Context())
	require.ErrorContains(t, err, "no whole number of records")
	_, err = machine(t, nil).Sessions(t.Context())
	require.ErrorContains(t, err, "nobody can tell who is signed in", "an empty list would be a lie")
	_, err = machine(t, map[string]string{"run/systemd/seats/seat0": ""}).Sessions(t.Context())
	require.ErrorContains(t, err, "logind", "where logind belongs, utmp is no substitute")
}

func TestASessionOfUtmpIsEndedWhateverItIgnores(t *testing.T) {
	t.Parallel()
	for name, tc := range map[string]struct{ script, ended string }{
		"hung up":                   {"exec sleep 600", "hangup"},
		"ignores the hang-up":       {"trap '' HUP; exec sleep 600", "terminated"},
		"ignores all that it could": {"trap '' HUP TERM; exec sleep 600", "killed"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			ctx, cancel := context.WithTimeout(t.Context(), 30*time.Second)
			defer cancel()
			// A shell of its own, for a signal that is ignored by inheritance stays ignored: env's sets it right.
			shell := exec.CommandContext(ctx, "env", "--default-signal=HUP,TERM", "sh", "-c", "echo; "+tc.script)
			out, err := shell.StdoutPipe()
			require.NoError(t, err)
			require.NoError(t, shell.Start())
			_, err = out.Read(make([]byte, 1)) // it has begun
			require.NoError(t, err)
			s := machine(t, map[string]string{"run/utmp": utmp(t,
				signedInAt("pts/0", "wilma", int32(shell.Process.Pid), time.Now()))})
			s.patience = patience{300 * time.Millisecond, 300 * time.Millisecond, 5 * time.Second}
			list, err := s.Sessions(ctx)
			require.NoError(t, err)
			ended := make(chan error, 1)
			go func() { ended <- shell.Wait() }()
			require.NoError(t, s.SignOff(ctx, "utmp:pts/9@1"), "a session that is gone is ended")
			require.NoError(t, s.SignOff(ctx, list[0].Key))
			require.ErrorContains(t, <-ended, tc.ended)
		})
	}
}

func TestAProcessThatHasTheNumberOfAnotherIsLeftAlone(t *testing.T) {
	t.Parallel()
	other := exec.CommandContext(t.Context(), "sleep", "600")
	require.NoError(t, other.Start())
	s := machine(t, map[string]string{"run/utmp": utmp(t,
		signedInAt("pts/0", "wilma", int32(other.Process.Pid), time.Now().Add(-time.Hour)))})
	list, err := s.Sessions(t.Context())
	require.NoError(t, err)
	require.NoError(t, s.SignOff(t.Context(), list[0].Key), "her process ended long ago")
	require.NoError(t, other.Process.Signal(syscall.Signal(0)), "this one began after she signed in")
}

func TestStatesOfLogindSessions(t *testing.T) {
	t.Parallel()
	properties := func(state string, idle, locked bool) map[string]dbus.Variant {
		return map[string]dbus.Variant{
			"State": dbus.MakeVariant(state), "IdleHint": dbus.MakeVariant(idle),
			"LockedHint": dbus.MakeVariant(locked),
		}
	}
	require.Equal(t, agent.Active, sessionState(properties("active", false, false)))
	require.Equal(t, agent.Active, sessionState(properties("online", false, false)))
	require.Equal(t, agent.Idle, sessionState(properties("active", true, false)))
	require.Equal(t, agent.Idle, sessionState(properties("active", false, true)))
	require.Equal(t, agent.Disconnected, sessionState(properties("closing", true, false)))
}

func TestSignInsAreRefusedWithASentence(t *testing.T) {
	t.Parallel()
	s := machine(t, map[string]string{"run/keep": ""})
	require.NoError(t, s.Admit(t.Context()), "who is admitted already")
	require.NoError(t, s.Refuse(t.Context(), "come back later"))
	text, err := os.ReadFile(s.path(nologin))
	require.NoError(t, err)
	require.Equal(t, "come back later\n", string(text))
	require.NoError(t, s.Admit(t.Context()))
	require.NoFileExists(t, s.path(nologin))
}

func TestATerminalIsToldInLinesOfItsOwn(t *testing.T) {
	t.Parallel()
	s := machine(t, map[string]string{"dev/pts/3": ""})
	require.NoError(t, s.Tell(t.Context(), "utmp:pts/3@1795000000", "save your work\x1b[2J\nnow"))
	text, err := os.ReadFile(s.path("/dev/pts/3"))
	require.NoError(t, err)
	require.Equal(t, "\r\n\aMessage of your desk's service:\r\nsave your work[2J\r\nnow\r\n\r\n", string(text),
		"control characters could do harm")
	require.NoError(t, s.Tell(t.Context(), "utmp:pts/4", "too late"), "a session that is gone was told")
	require.NoError(t, s.Tell(t.Context(), "utmp:../../run/keep", "x"), "no way out of /dev")
}

func TestLoadIsPerCore(t *testing.T) {
	t.Parallel()
	s := machine(t, map[string]string{"proc/loadavg": "3.00 2.00 1.00 1/100 1234\n"})
	load, err := s.Load(t.Context())
	require.NoError(t, err)
	require.Greater(t, load, 0.0)
	require.LessOrEqual(t, load, 3.0)
}

func TestAMachineGetsItsName(t *testing.T) {
	t.Parallel()
	s := machine(t, map[string]string{
		"etc/hosts":    "127.0.0.1 localhost\n127.0.1.1 desk\n10.1.1.1 printer\n",
		"etc/hostname": "desk\n",
	})
	if _, err := exec.LookPath("cloud-init"); err == nil {
		t.Skip("cloud-init names machines here")
	}
	require.NoError(t, s.Rename(t.Context(), "tc-001"))
	hosts, err := os.ReadFile(s.path("/etc/hosts"))
	require.NoError(t, err)
	require.Equal(t, "127.0.0.1 localhost\n127.0.1.1 tc-001\n10.1.1.1 printer\n", string(hosts))
	require.Equal(t, "127.0.1.1 tc-001\n", renamed("", "tc-001"))
}

// TestADesktopIsNotified has a message bus of its own with somebody on it who shows notifications.
func TestADesktopIsNotified(t *testing.T) {
	daemon, err := exec.LookPath("dbus-daemon")
	if err != nil {
		t.Skip("there is no dbus-daemon")
	}
	bus := exec.Command(daemon, "--session", "--nofork", "--print-address",
		"--address=unix:path="+filepath.Join(t.TempDir(), "bus"))
	out, err := bus.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, bus.Start())
	t.Cleanup(func() { _ = bus.Process.Kill(); _ = bus.Wait() })
	line := make([]byte, 500)
	n, err := out.Read(line)
	require.NoError(t, err)
	t.Setenv("DBUS_SESSION_BUS_ADDRESS", strings.TrimSpace(string(line[:n])))

	require.Error(t, Notify(t.Context(), "nobody is there to show it"))
	conn, err := dbus.ConnectSessionBus()
	require.NoError(t, err)
	t.Cleanup(func() { conn.Close() })
	shown := make(chan string, 1)
	require.NoError(t, conn.Export(desktop(shown), "/org/freedesktop/Notifications", "org.freedesktop.Notifications"))
	_, err = conn.RequestName("org.freedesktop.Notifications", dbus.NameFlagDoNotQueue)
	require.NoError(t, err)
	require.NoError(t, Notify(t.Context(), "save your work"))
	require.Equal(t, "Your desk: save your work", <-shown)
}

type desktop chan string

func (d desktop) Notify(_ string, _ uint32, _, summary, body string, _ []string, _ map[string]dbus.Variant,
	_ int32,
) (uint32, *dbus.Error) {
	d <- summary + ": " + body
	return 1, nil
}

func TestANumberOfLogindThatIsGivenAgainIsAnotherSession(t *testing.T) {
	t.Parallel()
	began := func(at time.Time) map[string]dbus.Variant {
		return map[string]dbus.Variant{"Timestamp": dbus.MakeVariant(uint64(at.UnixMicro()))}
	}
	morning := time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
	require.Equal(t, "3@1795420800000000", keyOf("3", began(morning)))
	require.NotEqual(t, keyOf("3", began(morning)), keyOf("3", began(morning.Add(time.Hour))), "after a restart")
}
