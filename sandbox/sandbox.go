// Package sandbox runs code that reads foreign data in a process that can do
// nothing else.
//
// A job is a registered task of this program, or a program of the operating
// system such as qemu-img. Its process sees one input and one output, the
// read-only folder /usr, and nothing else of the file system. It has no
// network, no other processes, no capabilities and a user that is not root, and
// it has limits of memory, processor time, wall time and output size.
//
// The isolation consists of Linux namespaces (user, mount, network, PID, IPC,
// UTS), resource limits and no_new_privs. It is set up in two stages. The
// service starts itself again in new namespaces; this package's init function
// recognises that start, builds the file system, drops all privileges and
// executes the job. A package that registers tasks calls Serve from its own
// init function, so that each program that can ask for a task can also run it,
// test binaries included.
//
// There is no fallback: where the sandbox cannot be set up, Run returns
// Unavailable and reads nothing.
package sandbox

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"runtime"
	"strings"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// Limits bound what a job can use. A zero value is replaced by the default.
type Limits struct {
	Memory int64         // bytes of writable private memory; 512 MiB by default
	CPU    time.Duration // processor time, in whole seconds; a minute by default
	Wall   time.Duration // five minutes by default
	File   int64         // bytes of each file it writes; none by default
}

// Job is one run of foreign data through a task or a program.
type Job struct {
	Task    string   // a registered task
	Request any      // what the task is called with, as JSON
	Program []string // a program of /usr/bin with its arguments, in place of a task

	Input  string // the file or folder that the job sees as InputPath, read-only; "" for none
	Output string // the file or folder that the job sees as OutputPath and can write; "" for none

	// Read, if given, reads what the job writes to its standard output while it
	// runs. An error ends the job and is returned by Run.
	Read func(io.Reader) error
	Limits
}

// Where a job finds its input and its output.
const (
	InputPath  = "/input"
	OutputPath = "/output"
)

// Names of the two stages, as the first argument of the process.
const (
	setupStage = "nimblepane-sandbox-setup"
	taskStage  = "nimblepane-sandbox-task"
)

// Exit codes of a sandboxed process.
const (
	exitFailed = 64 + iota // the task returned an error, which is on standard error
	exitSetup              // the sandbox could not be set up; the reason is on standard error
)

// failedMark stands on standard error before a task's own error: the runtime can write there, too.
const failedMark = "nimblepane-sandbox-failed: "

// nobody is the user and the group of a job if the service runs as root.
const nobody = 65534

// Failed is the error of a job that read its input and refused it, in the job's words.
type Failed struct{ Why string }

func (f *Failed) Error() string { return f.Why }

// Exceeded is the error of a job that reached one of its limits.
type Exceeded struct{ Limit string }

func (e *Exceeded) Error() string { return "reading it exceeded the limit of " + e.Limit }

// Crashed is the error of a job that ended without an answer.
type Crashed struct{ Why string }

func (c *Crashed) Error() string { return "reading it crashed the reader: " + c.Why }

// Unavailable is the error of a sandbox that cannot be set up on this machine.
type Unavailable struct{ Why string }

func (u *Unavailable) Error() string {
	return "foreign files cannot be opened on this machine, because the sandbox cannot be set up: " + u.Why
}

// Final says whether a job would fail the same way if it ran again on the same input.
func Final(err error) bool {
	var failed *Failed
	var exceeded *Exceeded
	var crashed *Crashed
	var unavailable *Unavailable
	return errors.As(err, &failed) || errors.As(err, &exceeded) || errors.As(err, &crashed) ||
		errors.As(err, &unavailable)
}

// stage is what the setup stage has to do, passed as its second argument.
type stage struct {
	Task          string
	Program       []string
	Input, Output string
	Drop          bool // to nobody: the service is root
	Memory, CPU   int64
	File          int64
}

// errorsKept is how much of a job's standard error is kept, in bytes.
const errorsKept = 16 << 10

// Run runs the job. The error is *Failed, *Exceeded, *Crashed or *Unavailable,
// that of Read, or that of ctx.
func (j Job) Run(ctx context.Context) error {
	if j.Memory == 0 {
		j.Memory = 512 << 20
	}
	if j.CPU == 0 {
		j.CPU = time.Minute
	}
	if j.Wall == 0 {
		j.Wall = 5 * time.Minute
	}
	request, err := json.Marshal(j.Request)
	if err != nil {
		return fmt.Errorf("write the request of sandbox task %s: %w", j.Task, err)
	}
	root := os.Geteuid() == 0
	if root {
		for _, path := range []string{j.Input, j.Output} {
			restore, err := lend(path)
			if err != nil {
				return fmt.Errorf("hand %s to the sandbox: %w", path, err)
			}
			defer restore()
		}
	}
	setup, _ := json.Marshal(stage{ // plain values: cannot fail
		Task: j.Task, Program: j.Program, Input: j.Input, Output: j.Output, Drop: root,
		Memory: j.Memory, CPU: int64(max(time.Second, j.CPU) / time.Second), File: j.File,
	})
	limited, cancel := context.WithTimeout(ctx, j.Wall)
	defer cancel()
	cmd := exec.CommandContext(limited, "/proc/self/exe")
	cmd.Args = []string{setupStage, string(setup)}
	cmd.Env = []string{"PATH=/usr/bin", "LANG=C.UTF-8"}
	cmd.Dir = "/"
	cmd.Stdin = bytes.NewReader(request)
	stderr := &head{most: errorsKept}
	cmd.Stderr = stderr
	cmd.WaitDelay = 5 * time.Second
	cmd.SysProcAttr = isolated(root)
	err = j.start(cmd, cancel)
	return j.outcome(ctx, limited, cmd, stderr.String(), err)
}

// start runs the process to its end. The error is that of Read, or of the process.
func (j Job) start(cmd *exec.Cmd, cancel func()) error {
	// Pdeathsig applies to the thread that starts the process.
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	if j.Read == nil {
		return cmd.Run()
	}
	out, err := cmd.StdoutPipe()
	if err != nil {
		return err
	}
	if err := cmd.Start(); err != nil {
		return err
	}
	if err := j.Read(out); err != nil {
		cancel()
		_ = cmd.Wait()
		return &readError{err}
	}
	_, _ = io.Copy(io.Discard, out)
	return cmd.Wait()
}

// readError is an error of Job.Read.
type readError struct{ error }

// outcome says what the end of a process means.
func (j Job) outcome(ctx, limited context.Context, cmd *exec.Cmd, stderr string, err error) error {
	var read *readError
	state := cmd.ProcessState
	switch {
	case ctx.Err() != nil:
		return ctx.Err()
	case state == nil && err != nil:
		return &Unavailable{err.Error()}
	case errors.As(err, &read) && (state.ExitCode() == -1 || state.ExitCode() == 0):
		return read.error
	case err == nil:
		return nil
	case limited.Err() != nil && !errors.As(err, &read):
		return &Exceeded{fmt.Sprintf("%s of time", j.Wall)}
	}
	switch code := state.ExitCode(); {
	case code == exitSetup:
		return &Unavailable{stderr}
	case code == exitFailed:
		_, why, _ := strings.Cut(stderr, failedMark)
		return &Failed{why}
	case killed(state) && state.SystemTime()+state.UserTime() >= max(time.Second, j.CPU)/2:
		// Nothing else kills a job. The kernel counts its time differently where it enforces the limit.
		return &Exceeded{fmt.Sprintf("%s of processor time", j.CPU)}
	case strings.Contains(stderr, "out of memory") || strings.Contains(stderr, "cannot allocate memory") ||
		strings.Contains(stderr, "Cannot allocate memory"):
		return &Exceeded{fmt.Sprintf("%d MiB of memory", j.Memory>>20)}
	case strings.Contains(strings.ToLower(stderr), "file too large"):
		return &Exceeded{fmt.Sprintf("%d MiB of output", j.File>>20)}
	case len(j.Program) > 0 && code > 0:
		return &Failed{stderr}
	}
	for line := range strings.Lines(stderr) {
		if strings.HasPrefix(line, "panic: ") || strings.HasPrefix(line, "fatal error: ") {
			return &Crashed{strings.TrimSpace(line)}
		}
	}
	first, _, _ := strings.Cut(stderr, "\n")
	return &Crashed{cmp.Or(first, state.String())}
}

// killed says that a process ended by SIGKILL.
func killed(state *os.ProcessState) bool {
	status, is := state.Sys().(syscall.WaitStatus)
	return is && status.Signaled() && status.Signal() == syscall.SIGKILL
}

// isolated starts a process in namespaces of its own. It has all capabilities
// there until it drops them.
func isolated(root bool) *syscall.SysProcAttr {
	attr := &syscall.SysProcAttr{
		Cloneflags: unix.CLONE_NEWUSER | unix.CLONE_NEWNS | unix.CLONE_NEWNET | unix.CLONE_NEWPID | unix.CLONE_NEWIPC |
			unix.CLONE_NEWUTS,
		UidMappings: []syscall.SysProcIDMap{{ContainerID: 0, HostID: os.Geteuid(), Size: 1}},
		GidMappings: []syscall.SysProcIDMap{{ContainerID: 0, HostID: os.Getegid(), Size: 1}},
		Pdeathsig:   syscall.SIGKILL,
		Setsid:      true,
	}
	if root {
		other := syscall.SysProcIDMap{ContainerID: nobody, HostID: nobody, Size: 1}
		attr.UidMappings, attr.GidMappings = append(attr.UidMappings, other), append(attr.GidMappings, other)
		attr.GidMappingsEnableSetgroups = true
	}
	return attr
}

// lend gives a file to the user of the sandbox, until restore is called.
func lend(path string) (restore func(), err error) {
	if path == "" {
		return func() {}, nil
	}
	info, err := os.Lstat(path)
	if err != nil {
		return nil, err
	}
	owner := info.Sys().(*syscall.Stat_t)
	if err := os.Lchown(path, nobody, nobody); err != nil {
		return nil, err
	}
	return func() { _ = os.Lchown(path, int(owner.Uid), int(owner.Gid)) }, nil
}

// head keeps the first bytes written to it. It is safe for concurrent use.
type head struct {
	mu   sync.Mutex
	text bytes.Buffer
	most int
}

func (h *head) Write(b []byte) (int, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.text.Write(b[:max(0, min(len(b), h.most-h.text.Len()))])
	return len(b), nil
}

func (h *head) String() string {
	h.mu.Lock()
	defer h.mu.Unlock()
	return strings.TrimSpace(strings.ToValidUTF8(h.text.String(), "?"))
}

// Available sets up a sandbox, once for the process, and runs nothing in it.
// The error is *Unavailable where that is not possible.
var Available = sync.OnceValue(func() error { return Job{Program: []string{"true"}}.Run(context.Background()) })
