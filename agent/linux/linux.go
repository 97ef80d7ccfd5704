//go:build linux

// Package linux lends the agent what it needs of a Linux system: logind's
// sessions (utmp's where there is no logind), /run/nologin, terminals and
// desktop notifications.
package linux

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/coreos/go-systemd/v22/login1"
	"github.com/godbus/dbus/v5"
	"golang.org/x/sys/unix"

	"nimblepane/agent"
)

// System is the running Linux system.
type System struct {
	root   string // "/" but in tests
	logind func() (*login1.Conn, error)
	patience
}

// New returns the system that the process runs on.
func New() *System { return &System{root: "/", logind: login1.New, patience: usualPatience} }

func (s *System) path(p string) string { return filepath.Join(s.root, p) }

// Sessions asks logind, and utmp if the system runs none.
func (s *System) Sessions(ctx context.Context) ([]agent.Session, error) {
	conn, err := s.logind()
	if err != nil {
		if _, serr := os.Stat(s.path("/run/systemd/seats")); errors.Is(serr, fs.ErrNotExist) {
			return readUtmp(s.path("/run/utmp"))
		}
		return nil, fmt.Errorf("logind: %w", err)
	}
	defer conn.Close()
	list, err := conn.ListSessionsContext(ctx)
	if err != nil {
		return nil, fmt.Errorf("logind: %w", err)
	}
	sessions := []agent.Session{}
	for _, l := range list {
		p, err := conn.GetSessionPropertiesContext(ctx, l.Path)
		if gone(err) {
			continue
		}
		if err != nil {
			return nil, fmt.Errorf("logind: session %s: %w", l.ID, err)
		}
		if text(p, "Class") != "user" {
			continue // a sign-in screen, a lock screen, a manager of services
		}
		sessions = append(sessions, agent.Session{
			Key: keyOf(l.ID, p), Person: l.User, State: sessionState(p),
			Since: micros(p, "Timestamp"),
		})
	}
	return sessions, nil
}

// keyOf is logind's number of a session and when it began, for logind counts
// anew with every start of the system: what one person was told must not count
// for whoever gets the number next.
func keyOf(id string, p map[string]dbus.Variant) string {
	return fmt.Sprintf("%s@%d", id, micros(p, "Timestamp").UnixMicro())
}

// session returns logind's number of the session with the key and its
// properties. There are none if the session is over.
func session(ctx context.Context, conn *login1.Conn, key string) (id string, p map[string]dbus.Variant, err error) {
	id, _, _ = strings.Cut(key, "@")
	path, err := conn.GetSession(id)
	if err == nil {
		p, err = conn.GetSessionPropertiesContext(ctx, path)
	}
	switch {
	case gone(err):
		return id, nil, nil
	case err != nil:
		return id, nil, fmt.Errorf("logind: session %s: %w", id, err)
	case keyOf(id, p) != key:
		return id, nil, nil
	}
	return id, p, nil
}

// sessionState reads a session's properties. A session that logind calls
// closing has nobody in front of it, but programs that still run.
func sessionState(p map[string]dbus.Variant) agent.SessionState {
	idle, _ := p["IdleHint"].Value().(bool)
	locked, _ := p["LockedHint"].Value().(bool)
	switch {
	case text(p, "State") == "closing":
		return agent.Disconnected
	case idle || locked:
		return agent.Idle
	}
	return agent.Active
}

func text(p map[string]dbus.Variant, name string) string {
	v, _ := p[name].Value().(string)
	return v
}

func micros(p map[string]dbus.Variant, name string) time.Time {
	v, _ := p[name].Value().(uint64)
	return time.UnixMicro(int64(v)).UTC()
}

func gone(err error) bool {
	var e dbus.Error
	return errors.As(err, &e) && (e.Name == "org.freedesktop.login1.NoSuchSession" ||
		e.Name == "org.freedesktop.DBus.Error.UnknownObject")
}

const nologin = "/run/nologin"

// Refuse writes /run/nologin, which PAM's nologin module shows to everybody
// but root who tries to sign in.
func (s *System) Refuse(_ context.Context, sentence string) error {
	temp := s.path(nologin + ".nimblepane")
	if err := os.WriteFile(temp, []byte(sentence+"\n"), 0o644); err != nil {
		return err
	}
	return os.Rename(temp, s.path(nologin))
}

// Admit removes /run/nologin.
func (s *System) Admit(context.Context) error {
	if err := os.Remove(s.path(nologin)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

// Tell writes the text to the session's terminal, and shows it on the
// session's desktop if it has one.
func (s *System) Tell(ctx context.Context, key, message string) error {
	conn, err := s.logind()
	if err != nil {
		return s.tellTerminal(lineOf(key), message)
	}
	defer conn.Close()
	_, p, err := session(ctx, conn, key)
	if p == nil {
		return err
	}
	var told error
	if tty := text(p, "TTY"); tty != "" {
		told = s.tellTerminal(tty, message)
	}
	if kind := text(p, "Type"); kind == "x11" || kind == "wayland" || kind == "mir" {
		told = errors.Join(told, tellDesktop(ctx, text(p, "Name"), message))
	}
	return told
}

// tellTerminal writes as wall and write do: a bell, who speaks, and the text
// without control characters, on lines of their own.
func (s *System) tellTerminal(tty, message string) error {
	name := filepath.Join(s.path("/dev"), filepath.Clean("/"+tty))
	// A terminal that is stopped with Ctrl-S would hold up the agent.
	f, err := os.OpenFile(name, os.O_WRONLY|syscall.O_NONBLOCK|syscall.O_NOCTTY, 0)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	defer f.Close()
	clean := strings.Map(func(r rune) rune {
		if r < ' ' && r != '\n' || r == 0x7f {
			return -1
		}
		return r
	}, message)
	_, err = fmt.Fprintf(f, "\r\n\a%s\r\n\r\n", strings.ReplaceAll("Message of your desk's service:\n"+clean, "\n",
		"\r\n"))
	return err
}

// tellDesktop runs this program as the person, since a person's message bus
// lets only that person in.
func tellDesktop(ctx context.Context, person, message string) error {
	u, err := user.Lookup(person)
	if err != nil {
		return err
	}
	uid, _ := strconv.ParseUint(u.Uid, 10, 32)
	gid, _ := strconv.ParseUint(u.Gid, 10, 32)
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	cmd := exec.CommandContext(ctx, "/proc/self/exe", "notify", message)
	cmd.Env = []string{"DBUS_SESSION_BUS_ADDRESS=unix:path=/run/user/" + u.Uid + "/bus", "HOME=" + u.HomeDir}
	cmd.Dir = "/"
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}}
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("show a notification to %s: %w: %s", person, err, out)
	}
	return nil
}

// Notify shows a text on the desktop of the session bus that the environment
// names, by the freedesktop.org notifications interface. It does not go away
// by itself.
func Notify(ctx context.Context, message string) error {
	conn, err := dbus.ConnectSessionBus(dbus.WithContext(ctx))
	if err != nil {
		return err
	}
	defer conn.Close()
	const urgent = byte(2)
	const stays = int32(0)
	return conn.Object("org.freedesktop.Notifications", "/org/freedesktop/Notifications").CallWithContext(ctx,
		"org.freedesktop.Notifications.Notify", 0, "Nimble Pane", uint32(0), "dialog-information", "Your desk", message,
		[]string{}, map[string]dbus.Variant{"urgency": dbus.MakeVariant(urgent)}, stays).Err
}

// SignOff has logind end the session and all that runs in it.
func (s *System) SignOff(ctx context.Context, key string) error {
	conn, err := s.logind()
	if err != nil {
		return endSession(ctx, s.path("/run/utmp"), s.path("/dev"), key, s.patience)
	}
	id, p, err := session(ctx, conn, key)
	conn.Close()
	if p == nil {
		return err
	}
	// The package's own call does not say whether it went well.
	bus, err := dbus.SystemBusPrivate(dbus.WithContext(ctx))
	if err != nil {
		return err
	}
	defer bus.Close()
	if err := errors.Join(bus.Auth([]dbus.Auth{dbus.AuthExternal(strconv.Itoa(os.Geteuid()))}),
		bus.Hello()); err != nil {
		return err
	}
	manager := bus.Object("org.freedesktop.login1", "/org/freedesktop/login1")
	// Programs that outlive their session would keep it open for ever; with
	// grace and warning behind them they are ended too.
	if err := manager.CallWithContext(ctx, "org.freedesktop.login1.Manager.KillSession", 0, id, "all",
		int32(syscall.SIGHUP)).Err; err != nil && !gone(err) {
		return fmt.Errorf("logind: end session %s: %w", id, err)
	}
	if err := manager.CallWithContext(ctx, "org.freedesktop.login1.Manager.TerminateSession", 0, id).Err; err != nil &&
		!gone(err) {
		return fmt.Errorf("logind: end session %s: %w", id, err)
	}
	return nil
}

// Load is that of /proc/loadavg over the number of cores that are on line.
func (s *System) Load(context.Context) (float64, error) {
	line, err := os.ReadFile(s.path("/proc/loadavg"))
	if err != nil {
		return 0, err
	}
	first, _, _ := strings.Cut(string(line), " ")
	load, err := strconv.ParseFloat(first, 64)
	if err != nil {
		return 0, fmt.Errorf("/proc/loadavg: %w", err)
	}
	var set unix.CPUSet
	if err := unix.SchedGetaffinity(0, &set); err != nil {
		return 0, err
	}
	return load / float64(max(1, set.Count())), nil
}

// Rename sets the name for now and for later starts, if cloud-init does not.
func (s *System) Rename(_ context.Context, name string) error {
	if _, err := exec.LookPath("cloud-init"); err == nil {
		return nil
	}
	if err := os.WriteFile(s.path("/etc/hostname"), []byte(name+"\n"), 0o644); err != nil {
		return err
	}
	hosts, err := os.ReadFile(s.path("/etc/hosts"))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if err := os.WriteFile(s.path("/etc/hosts"), []byte(renamed(string(hosts), name)), 0o644); err != nil {
		return err
	}
	if s.root != "/" {
		return nil
	}
	return unix.Sethostname([]byte(name))
}

// renamed gives 127.0.1.1, where Debian keeps a machine's own name, the name.
func renamed(hosts, name string) string {
	own := "127.0.1.1 " + name
	lines := strings.Split(strings.TrimRight(hosts, "\n"), "\n")
	for i, l := range lines {
		if f := strings.Fields(l); len(f) > 0 && f[0] == "127.0.1.1" {
			lines[i] = own
			return strings.Join(lines, "\n") + "\n"
		}
	}
	return strings.TrimLeft(strings.Join(append(lines, own), "\n"), "\n") + "\n"
}
