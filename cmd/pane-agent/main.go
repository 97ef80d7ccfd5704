// Command pane-agent is the agent inside a host or a build machine.
package main

import (
	"context"
	"fmt"
	"log/slog"
	"net/http"
	"os"
	"os/signal"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"nimblepane/agent"
	"nimblepane/agent/fetch"
	"nimblepane/agent/host"
	"nimblepane/agent/seed"
)

// version is set when the program is built.
var version = "dev"

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	if err := execute(ctx, root()); err != nil {
		fmt.Fprintln(os.Stderr, "pane-agent:", err)
		os.Exit(1)
	}
}

func root() *cobra.Command {
	cmd := &cobra.Command{
		Use: "pane-agent", Short: "The Nimble Pane agent of a host", Version: version,
		SilenceUsage: true, SilenceErrors: true,
	}
	o := defaults
	run := &cobra.Command{
		Use: "run", Short: "Report to the service and do what it asks, until told to stop", Args: cobra.NoArgs,
		Long: "Report to the service and do what it asks, until told to stop.\n\nAt its first start the agent looks " +
			"for a seed: a NoCloud disk, or the file that cloud-init made of it.\nWithout one the machine is a " +
			"build machine, and the agent waits.",
		RunE: func(cmd *cobra.Command, _ []string) error { return host.New(system(), o).Run(cmd.Context()) },
	}
	f := cmd.PersistentFlags()
	f.StringVar(&o.Checks, "checks", o.Checks, "folder of the programs that say whether this host is fit for people")
	f.DurationVar(&o.CheckLimit, "check-limit", o.CheckLimit, "how long one of them may take")
	run.Flags().StringVar(&o.Sentence, "sentence", o.Sentence,
		"what people read who try to sign in to a host that takes no new sessions")
	cmd.AddCommand(run)
	cmd.AddCommand(&cobra.Command{
		Use: "check", Short: "Run the checks now and print the outcome", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if why := host.Check(cmd.Context(), o.Checks, o.CheckLimit); why != "" {
				return fmt.Errorf("check failed: %s", why)
			}
			fmt.Fprintln(cmd.OutOrStdout(), "All checks passed.")
			return nil
		},
	})
	cmd.AddCommand(&cobra.Command{
		Use: "fetch ADDRESS SHA256 FILE", Short: "Fetch a file over HTTP and check its digest",
		Args: cobra.ExactArgs(3),
		Long: "Fetch a file over HTTP, by a proxy if the environment names one, and write it once its SHA-256 digest " +
			"has been checked.",
		RunE: func(cmd *cobra.Command, args []string) error {
			return fetch.File(cmd.Context(), args[0], args[1], args[2])
		},
	})
	cmd.AddCommand(listing())
	cmd.AddCommand(commands()...)
	return cmd
}

// defaults of both systems; the paths are the system's own.
var defaults = host.Options{
	Stamp: stampFile, State: stateFile, Checks: checksDir, CheckLimit: time.Minute, Sentence: host.DefaultSentence,
	Seed: seed.Find,
	Caller: func(service string) agent.Caller {
		return agent.Caller{URL: service, HTTP: &http.Client{Timeout: 30 * time.Second}}
	},
	Log: slog.New(slog.NewTextHandler(os.Stderr, nil)),
}
