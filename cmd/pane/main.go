// Command pane is the command-line client of Nimble Pane.
package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"syscall"

	"nimblepane/cli"
)

// version is set when the program is built.
var version = "dev"

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	err := cli.New(version).ExecuteContext(ctx)
	interrupted := ctx.Err() != nil
	stop()
	if interrupted && err != nil {
		err = errors.New("interrupted; the service goes on with what it was asked for")
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "pane:", cli.Plain(err.Error()))
	}
	os.Exit(cli.ExitCode(err))
}
