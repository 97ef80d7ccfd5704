// Command pane is the command-line client of Nimble Pane.
package main

import (
	"context"
	"os"
	"os/signal"
	"syscall"

	"nimblepane/cli"
)

// version is set when the program is built.
var version = "dev"

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	cmd := cli.New(version)
	err := cmd.ExecuteContext(ctx)
	if ctx.Err() != nil && err != nil {
		err = cli.ErrInterrupted
	}
	stop()
	os.Exit(cli.Report(cmd, err, os.Stderr))
}
