//go:build unix

package host

import (
	"os/exec"
	"syscall"
)

// ownGroup has a program that is stopped take with it what it started.
func ownGroup(cmd *exec.Cmd) {
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	cmd.Cancel = func() error { return syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) }
}
