package main

import (
	"context"

	"github.com/spf13/cobra"
	"golang.org/x/sys/windows/svc"

	"nimblepane/agent/host"
	"nimblepane/agent/software"
	"nimblepane/agent/windows"
	core "nimblepane/core/software"
)

const (
	stampFile = `C:\ProgramData\NimblePane\stamp`
	stateFile = `C:\ProgramData\NimblePane\agent.json`
	checksDir = `C:\ProgramData\NimblePane\checks`
)

func system() host.System { return windows.New() }

func commands() []*cobra.Command { return nil }

func contents(_ context.Context, commands []string) (core.List, error) {
	return software.OfWindows(software.Registry(), commands)
}

// execute runs as a Windows service if the service manager started it.
func execute(ctx context.Context, cmd *cobra.Command) error {
	if is, err := svc.IsWindowsService(); err != nil || !is {
		return cmd.ExecuteContext(ctx)
	}
	s := &service{ctx: ctx, cmd: cmd}
	if err := svc.Run("pane-agent", s); err != nil {
		return err
	}
	return s.err
}

type service struct {
	ctx context.Context
	cmd *cobra.Command
	err error
}

// Execute is svc.Handler's.
func (s *service) Execute(_ []string, requests <-chan svc.ChangeRequest, status chan<- svc.Status) (bool, uint32) {
	ctx, stop := context.WithCancel(s.ctx)
	defer stop()
	ended := make(chan error, 1)
	go func() { ended <- s.cmd.ExecuteContext(ctx) }()
	running := svc.Status{State: svc.Running, Accepts: svc.AcceptStop | svc.AcceptShutdown}
	status <- running
	for {
		select {
		case s.err = <-ended:
			return false, 0
		case r := <-requests:
			switch r.Cmd {
			case svc.Interrogate:
				status <- running
			case svc.Stop, svc.Shutdown:
				status <- svc.Status{State: svc.StopPending}
				stop()
			}
		}
	}
}
