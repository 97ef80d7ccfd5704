// Command nimblepane-practice plays practice sites: machines, people and agents.
package main

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"os"
	"os/signal"
	"strconv"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"nimblepane/platform/practice/vendor"
	"nimblepane/platform/practice/world"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	if err := root().ExecuteContext(ctx); err != nil {
		fmt.Fprintln(os.Stderr, "nimblepane-practice:", err)
		os.Exit(1)
	}
}

func root() *cobra.Command {
	cmd := &cobra.Command{
		Use: "nimblepane-practice", Short: "Play sites with machines and people, to practise on",
		SilenceUsage: true, SilenceErrors: true,
	}
	var address string
	cmd.PersistentFlags().StringVar(&address, "address", "127.0.0.1:7720", "where the practice process listens")
	cmd.AddCommand(serve(&address), rate(&address), forward(&address), knobs(&address))
	return cmd
}

func serve(address *string) *cobra.Command {
	var scenario, state, feed string
	cmd := &cobra.Command{
		Use: "serve", Short: "Play the sites of a scenario until told to stop", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			log := slog.New(slog.NewTextHandler(os.Stderr, nil))
			text, err := os.ReadFile(scenario)
			if err != nil {
				return err
			}
			s, err := world.ParseScenario(text)
			if err != nil {
				return err
			}
			w, err := world.New(s, state, log)
			if err != nil {
				return err
			}
			listener, err := net.Listen("tcp", *address)
			if err != nil {
				return err
			}
			mux := http.NewServeMux()
			mux.Handle("/", w.Handler())
			if feed != "" {
				mux.Handle("/feed/", http.StripPrefix("/feed", vendor.Handler(os.DirFS(feed))))
			}
			server := &http.Server{Handler: mux, ReadHeaderTimeout: 10 * time.Second}
			go func() {
				<-cmd.Context().Done()
				server.Close()
			}()
			go func() { _ = server.Serve(listener) }() // ends with the context
			log.Info("practising", "address", listener.Addr().String(), "rate", w.Clock().Rate)
			return w.Run(cmd.Context())
		},
	}
	cmd.Flags().StringVar(&scenario, "scenario", "", "scenario file (YAML)")
	cmd.Flags().StringVar(&state, "state", "", "file to keep the state in, empty to forget it at the end")
	cmd.Flags().StringVar(&feed, "feed", "", "folder with a vendor's releases and their list ("+vendor.File+"), which "+
		"is published at /feed/")
	_ = cmd.MarkFlagRequired("scenario")
	return cmd
}

func rate(address *string) *cobra.Command {
	return &cobra.Command{
		Use: "rate N", Short: "Make time pass N times as fast from now on", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			n, err := strconv.ParseFloat(args[0], 64)
			if err != nil {
				return fmt.Errorf("%q is not a number", args[0])
			}
			return call(cmd, http.MethodPut, *address, "/clock", map[string]float64{"rate": n})
		},
	}
}

func forward(address *string) *cobra.Command {
	return &cobra.Command{
		Use: "forward TIME", Short: "Pass over a time in which nothing happens, such as 336h, before there are hosts",
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			d, err := time.ParseDuration(args[0])
			if err != nil {
				return fmt.Errorf("%q is no time: write it such as 336h", args[0])
			}
			return call(cmd, http.MethodPut, *address, "/clock", map[string]time.Duration{"forward": d})
		},
	}
}

func knobs(address *string) *cobra.Command {
	cmd := &cobra.Command{Use: "knobs", Short: "Show and turn what goes wrong at a site"}
	path := func(site string) string { return "/sites/" + url.PathEscape(site) + "/knobs" }
	cmd.AddCommand(&cobra.Command{
		Use: "show SITE", Short: "Show the knobs of a site as JSON; times are in nanoseconds", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			return call(cmd, http.MethodGet, *address, path(args[0]), nil)
		},
	}, &cobra.Command{
		Use: "set SITE", Short: "Set the knobs of a site to the JSON on standard input", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			var k world.Knobs
			if err := json.NewDecoder(cmd.InOrStdin()).Decode(&k); err != nil {
				return fmt.Errorf("standard input: %w", err)
			}
			return call(cmd, http.MethodPut, *address, path(args[0]), k)
		},
	}, fault(address, path), &cobra.Command{
		Use: "mend SITE", Short: "Let nothing go wrong at a site any more", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			return change(cmd, *address, path(args[0]), func(k *world.Knobs) { k.Faults = nil })
		},
	})
	return cmd
}

func fault(address *string, path func(string) string) *cobra.Command {
	var chance float64
	cmd := &cobra.Command{
		Use: "fault SITE KIND HOSTS", Short: "Make something go wrong on hosts, such as: fault south-quay " +
			"check-fails 'bo-*'", Args: cobra.ExactArgs(3),
		RunE: func(cmd *cobra.Command, args []string) error {
			return change(cmd, *address, path(args[0]), func(k *world.Knobs) {
				k.Faults = append([]world.Fault{{Kind: world.FaultKind(args[1]), Hosts: args[2], Chance: chance}},
					k.Faults...)
			})
		},
	}
	cmd.Flags().Float64Var(&chance, "chance", 1, "how often, from 0 to 1")
	return cmd
}

// change reads the knobs, turns them and sets them.
func change(cmd *cobra.Command, address, path string, turn func(*world.Knobs)) error {
	var k world.Knobs
	b, err := fetch(cmd.Context(), http.MethodGet, address, path, nil)
	if err != nil {
		return err
	}
	if err := json.Unmarshal(b, &k); err != nil {
		return err
	}
	turn(&k)
	return call(cmd, http.MethodPut, address, path, k)
}

func call(cmd *cobra.Command, method, address, path string, body any) error {
	b, err := fetch(cmd.Context(), method, address, path, body)
	if err == nil {
		_, err = cmd.OutOrStdout().Write(b)
	}
	return err
}

func fetch(ctx context.Context, method, address, path string, body any) ([]byte, error) {
	var in bytes.Buffer
	if body != nil {
		if err := json.NewEncoder(&in).Encode(body); err != nil {
			return nil, err
		}
	}
	req, err := http.NewRequestWithContext(ctx, method, "http://"+address+path, &in)
	if err != nil {
		return nil, err
	}
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		return nil, err
	}
	defer resp.Body.Close()
	b, err := io.ReadAll(resp.Body)
	if err == nil && resp.StatusCode != http.StatusOK {
		err = fmt.Errorf("%s", bytes.TrimSpace(b))
	}
	return b, err
}
