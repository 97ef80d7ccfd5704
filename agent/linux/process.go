//go:build linux

package linux

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// patience is how long the processes of a session get after each signal.
type patience struct{ hangUp, terminate, kill time.Duration }

var usualPatience = patience{hangUp: 3 * time.Second, terminate: 3 * time.Second, kill: 2 * time.Second}

// endSession ends a session that utmp tells of as a lost line would, with a
// hang-up, and what ignores that (as everything under nohup does) with SIGTERM
// and then SIGKILL. It returns nil once nothing of the session is left.
func endSession(ctx context.Context, utmp, dev, key string, p patience) error {
	people, err := records(utmp)
	if err != nil {
		return err
	}
	for _, r := range people {
		if r.key() == key {
			return r.end(ctx, dev, p)
		}
	}
	return nil // a session that is gone is ended
}

func (r record) end(ctx context.Context, dev string, p patience) error {
	for _, step := range []struct {
		signal syscall.Signal
		within time.Duration
	}{{syscall.SIGHUP, p.hangUp}, {syscall.SIGTERM, p.terminate}, {syscall.SIGKILL, p.kill}} {
		left, err := r.processes(dev)
		if err != nil || len(left) == 0 {
			return err
		}
		for _, pid := range left {
			if err := syscall.Kill(pid, step.signal); err != nil && !errors.Is(err, syscall.ESRCH) {
				return fmt.Errorf("%s of process %d: %w", step.signal, pid, err)
			}
		}
		if gone, err := r.gone(ctx, dev, step.within); gone || err != nil {
			return err
		}
	}
	return fmt.Errorf("processes of the session on %s outlive a SIGKILL", field(r.Line[:]))
}

// gone waits until nothing of the session is left, for a while at most.
func (r record) gone(ctx context.Context, dev string, within time.Duration) (bool, error) {
	ctx, cancel := context.WithTimeout(ctx, within)
	defer cancel()
	tick := time.NewTicker(50 * time.Millisecond)
	defer tick.Stop()
	for {
		left, err := r.processes(dev)
		if err != nil || len(left) == 0 {
			return err == nil, err
		}
		select {
		case <-ctx.Done():
			return false, nil
		case <-tick.C:
		}
	}
}

// processes are those of a session: the one that utmp names, and all on its
// terminal. A number that was given to another process since is not it.
func (r record) processes(dev string) (pids []int, err error) {
	terminal := int64(-1)
	var st unix.Stat_t
	if err := unix.Stat(filepath.Join(dev, filepath.Clean("/"+field(r.Line[:]))), &st); err == nil &&
		st.Mode&unix.S_IFMT == unix.S_IFCHR {
		// As proc_pid_stat(5) writes tty_nr.
		major, minor := int64(unix.Major(st.Rdev)), int64(unix.Minor(st.Rdev))
		terminal = minor&0xff | major<<8 | (minor&^0xff)<<12
	}
	boot, err := bootTime()
	if err != nil {
		return nil, err
	}
	stats, err := filepath.Glob("/proc/[0-9]*/stat")
	if err != nil {
		return nil, err
	}
	for _, name := range stats {
		text, err := os.ReadFile(name)
		if err != nil {
			continue // it ended meanwhile
		}
		// The name of a program may hold anything, spaces and brackets too.
		fields := strings.Fields(string(text[strings.LastIndexByte(string(text), ')')+1:]))
		if len(fields) < 20 || fields[0] == "Z" || fields[0] == "X" {
			continue
		}
		pid, _ := strconv.Atoi(filepath.Base(filepath.Dir(name)))
		tty, _ := strconv.ParseInt(fields[4], 10, 64)
		ticks, _ := strconv.ParseInt(fields[19], 10, 64)
		began := boot + ticks/100 // USER_HZ is 100 on every architecture that Go runs on
		const slack = 5
		if pid > 1 && pid != os.Getpid() && (terminal > 0 && tty == terminal || pid == int(r.PID) &&
			began <= int64(r.Seconds)+slack) {
			pids = append(pids, pid)
		}
	}
	return pids, nil
}

// bootTime is when the system started, in seconds since 1970.
func bootTime() (int64, error) {
	text, err := os.ReadFile("/proc/stat")
	if err != nil {
		return 0, err
	}
	for line := range strings.Lines(string(text)) {
		if after, ok := strings.CutPrefix(line, "btime "); ok {
			return strconv.ParseInt(strings.TrimSpace(after), 10, 64)
		}
	}
	return 0, errors.New("/proc/stat does not say when the system started")
}
