// Command demo starts Nimble Pane with the estate of Saltmarsh Ferries, a
// made-up ferry line, on practice sites; and tells the story of a month's work
// on a fresh one.
package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"path/filepath"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"nimblepane/store/localpg"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	cmd := &cobra.Command{Use: "demo", SilenceUsage: true, SilenceErrors: true}
	var state, bin string
	cmd.PersistentFlags().StringVar(&state, "state", ".state", "folder for the data")
	cmd.PersistentFlags().StringVar(&bin, "bin", "bin", "folder of the programs")
	add := func(use, short string, run func(context.Context, string, string) error) {
		cmd.AddCommand(&cobra.Command{
			Use: use, Short: short, Args: cobra.NoArgs,
			RunE: func(cmd *cobra.Command, _ []string) error {
				dir, err := filepath.Abs(state)
				if err != nil {
					return err
				}
				programs, err := filepath.Abs(bin)
				if err != nil {
					return err
				}
				return run(cmd.Context(), dir, programs)
			},
		})
	}
	add("run", "Start the demo and keep it running until Ctrl-C", run)
	add("reset", "Throw the demo's data away", func(_ context.Context, state,
		_ string,
	) error {
		return reset(filepath.Join(state, "demo"))
	})
	add("tour", "Tell the story on a fresh estate and stop", tour)
	cmd.AddCommand(realCommand(&state, &bin))
	if err := cmd.ExecuteContext(ctx); err != nil {
		if errors.Is(err, context.Canceled) {
			return
		}
		fmt.Fprintln(os.Stderr, "demo:", err)
		os.Exit(1)
	}
}

// reset removes a data folder that nothing runs on.
func reset(dir string) error {
	for _, d := range []string{filepath.Join(dir, "postgresql"), elsewhere(dir)} {
		if _, err := os.Stat(filepath.Join(d, "data", "postmaster.pid")); err == nil {
			return fmt.Errorf("the demo still runs, or was killed: stop it first (if it was killed, remove %s)",
				filepath.Join(d, "data", "postmaster.pid"))
		}
		if err := os.RemoveAll(d); err != nil {
			return err
		}
	}
	return os.RemoveAll(dir)
}

func run(ctx context.Context, state, bin string) (err error) {
	s := &stack{dir: filepath.Join(state, "demo"), bin: bin, service: 7700, metrics: 7701, practice: 7720, pgPort: 7732}
	began := time.Now()
	seeded := filepath.Join(s.dir, "seeded")
	_, noHistory := os.Stat(seeded)
	if noHistory != nil {
		// What a broken-off start left behind is no estate.
		if err := reset(s.dir); err != nil {
			return err
		}
	}
	defer s.stop()
	if err := s.start(ctx); err != nil {
		return err
	}
	if noHistory != nil {
		fmt.Println("This is the first start: the estate gets a history, which takes two or three minutes.")
		d, err := newSeeder(ctx, s, func(format string, args ...any) { fmt.Printf("  "+format+"\n", args...) })
		if err != nil {
			return err
		}
		if err := d.past(ctx); err != nil {
			return err
		}
		if err := d.first(ctx); err != nil {
			return err
		}
		if err := d.bases(ctx); err != nil {
			return err
		}
		if err := d.history(ctx); err != nil {
			return err
		}
		if err := os.WriteFile(seeded, nil, 0o600); err != nil {
			return err
		}
	}
	fmt.Printf(`
Saltmarsh Ferries is up (%s).

  Console   %s
  Sign in   mira, password %s (also tove, jonas, wilma, anton and guest, who may do less)
  Client    echo %s | %s/pane sign-in %s --name mira

Four things to try:
  1. On the first page, see what needs you; then sign off the trial of counter-desk as anton.
  2. %s/pane rollover start --pool chart-plotters --batch 25%% --log-off warn --grace 15m --follow
  3. %s/nimblepane-practice knobs fault north-quay check-fails 'tc-*'   and roll ticket-counters; mend it again with: knobs mend north-quay
  4. Commit a change of charts/desk.yaml in %s: a build starts by itself (%s/pane build list)

A minute passes in every second (the practice clock). Ctrl-C stops everything; started again it goes on
where it was. 'make demo-reset' begins anew.
`, time.Since(began).Round(time.Second), s.url(), password, password, shorten(bin), s.url(), shorten(bin), shorten(bin),
		shorten(filepath.Join(s.repositories(), "desks")), shorten(bin))
	<-ctx.Done()
	fmt.Println("\nStopping.")
	return nil
}

func shorten(path string) string {
	if wd, err := os.Getwd(); err == nil {
		if r, err := filepath.Rel(wd, path); err == nil {
			return r
		}
	}
	return path
}

// freePorts gives a stack ports that nothing else uses.
func (s *stack) freePorts() error {
	for _, p := range []*int{&s.service, &s.metrics, &s.practice, &s.pgPort} {
		n, err := localpg.FreePort()
		if err != nil {
			return err
		}
		*p = n
	}
	return nil
}
