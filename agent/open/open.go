//go:build linux

// Package open opens an application as people would, and sees whether it comes up.
package open

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"nimblepane/core/proof"
	"nimblepane/core/sheet"
)

// Person is the account that applications are opened as: one without rights,
// made for it. What it leaves goes with the machine.
const Person = "pane-proof"

// outputKept is how much of what an application wrote is told, in bytes.
const outputKept = 2000

// Desk is where applications are opened.
type Desk struct {
	As      *syscall.Credential // nil for who runs this
	Home    string
	Display string // of the X server that windows open on, such as ":7"; "" if there is none

	frame string // file in which the X server keeps what is on its screen, "" if there is none
}

// Clear takes the person away again, with all that is theirs.
func Clear(ctx context.Context) error {
	out, err := exec.CommandContext(ctx, "userdel", "--remove", "--force", Person).CombinedOutput()
	if err != nil {
		return fmt.Errorf("take the person %s away: %w: %s", Person, err, bytes.TrimSpace(out))
	}
	return nil
}

// ForProof makes the person and, if the machine has one to start, an X server
// without a screen, which closes ends.
func ForProof(ctx context.Context) (d Desk, closes func(), err error) {
	if _, err := user.Lookup(Person); err != nil {
		out, err := exec.CommandContext(ctx, "useradd", "--create-home", "--shell", "/bin/sh", Person).CombinedOutput()
		if err != nil {
			return d, nil, fmt.Errorf("make the person %s: %w: %s", Person, err, bytes.TrimSpace(out))
		}
	}
	p, err := user.Lookup(Person)
	if err != nil {
		return d, nil, err
	}
	uid, uerr := strconv.ParseUint(p.Uid, 10, 32)
	gid, gerr := strconv.ParseUint(p.Gid, 10, 32)
	if err := errors.Join(uerr, gerr); err != nil {
		return d, nil, err
	}
	d = Desk{As: &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}, Home: p.HomeDir}
	d.Display, d.frame, closes, err = server()
	return d, closes, err
}

// server starts an X server without a screen, if the machine has one.
func server() (display, frame string, closes func(), err error) {
	program, err := exec.LookPath("Xvfb")
	if err != nil {
		return "", "", func() {}, nil
	}
	folder, err := os.MkdirTemp("", "pane-open-")
	if err != nil {
		return "", "", nil, err
	}
	defer func() {
		if err != nil {
			os.RemoveAll(folder)
		}
	}()
	r, w, err := os.Pipe()
	if err != nil {
		return "", "", nil, err
	}
	defer r.Close()
	// It is not to begin anew when whoever looks for windows leaves it, and turn away who comes just then.
	x := exec.Command(program, "-displayfd", "3", "-screen", "0", "1280x800x24", "-nolisten", "tcp", "-ac", "-noreset",
		"-fbdir", folder)
	x.ExtraFiles = []*os.File{w}
	err = x.Start()
	w.Close()
	if err != nil {
		return "", "", nil, fmt.Errorf("start an X server: %w", err)
	}
	// It says its number once it is up, and dies if nobody hears it out.
	number, err := bufio.NewReader(r).ReadString('\n')
	if err != nil {
		return "", "", nil, fmt.Errorf("the X server did not come up: %w", errors.Join(err, x.Wait()))
	}
	return ":" + strings.TrimSpace(number), filepath.Join(folder, "Xvfb_screen0"), func() {
		_ = x.Process.Signal(syscall.SIGTERM) // it takes its socket away
		_ = x.Wait()
		os.RemoveAll(folder)
	}, nil
}

// lookEvery is how often is looked whether an application has come up.
const lookEvery = 200 * time.Millisecond

// Application opens an application, sees whether it comes up within its time, and ends it.
func (d Desk) Application(ctx context.Context, a sheet.Application) proof.Result {
	began := time.Now()
	r := proof.Result{Name: a.Name, Kind: proof.OfApplication}
	var wrote bytes.Buffer
	err := d.open(ctx, a, &wrote, func() { r.Picture = d.picture() })
	r.Seconds = time.Since(began).Seconds()
	if err != nil {
		r.Why = err.Error()
	}
	text := strings.ToValidUTF8(strings.ReplaceAll(wrote.String(), "\x00", ""), "?")
	r.Output = text[max(0, len(text)-outputKept):]
	return r
}

// settles is how long a window that is there may take until something is in it.
const settles = time.Second

// open opens an application, sees whether it comes up, has that looked at, and ends it.
func (d Desk) open(ctx context.Context, a sheet.Application, wrote *bytes.Buffer, look func()) error {
	if a.Opens.Window != "" && d.Display == "" {
		return errors.New("there is no X server (Xvfb) in the image to open a window on")
	}
	cmd := exec.Command(a.Command, a.Arguments...)
	cmd.Stdout, cmd.Stderr, cmd.Dir = wrote, wrote, d.Home
	cmd.Env = []string{
		"PATH=/usr/local/bin:/usr/bin:/bin:/usr/games", "HOME=" + d.Home, "LANG=" + os.Getenv("LANG"),
		"DISPLAY=" + d.Display, "USER=" + Person, "LOGNAME=" + Person,
	}
	// All that it starts is ended with it.
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Credential: d.As}
	cmd.WaitDelay = time.Second
	if err := cmd.Start(); err != nil {
		return fmt.Errorf("it could not be started: %w", err)
	}
	ended := make(chan struct{})
	go func() { _ = cmd.Wait(); close(ended) }()
	defer func() {
		_ = syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL)
		<-ended
	}()
	within, cancel := context.WithTimeout(ctx, time.Duration(a.Within))
	defer cancel()
	err := d.comesUp(within, a, cmd, ended)
	if d.Display != "" {
		select {
		case <-time.After(settles):
		case <-ctx.Done():
		}
		look()
	}
	return err
}

// comesUp waits until an application has come up, or will not.
func (d Desk) comesUp(ctx context.Context, a sheet.Application, cmd *exec.Cmd, end <-chan struct{}) error {
	tick := time.NewTicker(lookEvery)
	defer tick.Stop()
	for {
		select {
		case <-end:
			if a.Opens.ExitCode == nil {
				end = nil // what opens an application may end before that has come up
				continue
			}
			if code := cmd.ProcessState.ExitCode(); code != *a.Opens.ExitCode {
				return fmt.Errorf("it ended with exit code %d, and not %d", code, *a.Opens.ExitCode)
			}
			return nil
		case <-ctx.Done():
			return fmt.Errorf("within %s it was not so that %s", a.Within, a.Opens)
		case <-tick.C:
			if up, err := d.up(ctx, a.Opens); err != nil || up {
				return err
			}
		}
	}
}

// up says whether what shows that an application has come up is there.
func (d Desk) up(ctx context.Context, o sheet.Opens) (bool, error) {
	switch {
	case o.Process != "":
		return d.runs(o.Process)
	case o.Window != "":
		out, err := exec.CommandContext(ctx, "xwininfo", "-root", "-tree", "-display", d.Display).Output()
		if errors.Is(err, exec.ErrNotFound) {
			return false, errors.New("there is no xwininfo (x11-utils) in the image to look for windows with")
		}
		return err == nil && strings.Contains(string(out), o.Window), nil
	case o.Port != 0:
		return listens(ctx, "127.0.0.1", o.Port) || listens(ctx, "::1", o.Port), nil
	case o.HTTP != "":
		return answers(ctx, o.HTTP), nil
	}
	return false, nil
}

func listens(ctx context.Context, host string, port int) bool {
	conn, err := (&net.Dialer{Timeout: time.Second}).DialContext(ctx, "tcp", net.JoinHostPort(host, strconv.Itoa(port)))
	if err == nil {
		conn.Close()
	}
	return err == nil
}

func answers(ctx context.Context, address string) bool {
	asked, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return false
	}
	resp, err := http.DefaultClient.Do(asked)
	if err != nil {
		return false
	}
	defer resp.Body.Close()
	return resp.StatusCode < http.StatusBadRequest
}

// runs says whether a process of the name runs, of the person who opens applications.
func (d Desk) runs(name string) (bool, error) {
	all, err := filepath.Glob("/proc/[0-9]*/comm")
	return slices.ContainsFunc(all, func(file string) bool {
		comm, err := os.ReadFile(file)
		if err != nil || strings.TrimSpace(string(comm)) != name[:min(len(name), 15)] { // the kernel keeps no more
			return false
		}
		info, err := os.Stat(file)
		if err != nil || d.As == nil {
			return err == nil
		}
		owner, ok := info.Sys().(*syscall.Stat_t)
		return ok && owner.Uid == d.As.Uid
	}), err
}
