package main

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"nimblepane/agent/host"
	"nimblepane/agent/linux"
	"nimblepane/agent/open"
	"nimblepane/agent/seal"
	"nimblepane/agent/software"
	core "nimblepane/core/seal"
	"nimblepane/core/sheet"
	list "nimblepane/core/software"
)

const (
	stampFile = seal.StampPath
	stateFile = "/var/lib/nimblepane/agent.json"
	checksDir = "/etc/nimblepane/checks"
)

func system() host.System { return linux.New() }

func execute(ctx context.Context, cmd *cobra.Command) error { return cmd.ExecuteContext(ctx) }

func commands() []*cobra.Command {
	stamp := ""
	sealing := &cobra.Command{
		Use: "seal", Short: "Strip this machine of all that makes it this one machine, for a capture",
		Args: cobra.NoArgs,
		Long: "Strip this machine of all that makes it this one machine: identities, keys, leases, logs, histories, " +
			"caches.\nPrints what was done as a JSON list. Power the machine off afterwards and do not start it again.",
		RunE: func(cmd *cobra.Command, _ []string) error {
			done, err := seal.Do(cmd.Context(), seal.Running(), stamp)
			if err != nil {
				return err
			}
			return json.NewEncoder(cmd.OutOrStdout()).Encode(done)
		},
	}
	sealing.Flags().StringVar(&stamp, "stamp", "", `the version's stamp, such as "counter-desk 2026.11.1"`)
	_ = sealing.MarkFlagRequired("stamp")
	leaving := &cobra.Command{
		Use: "leave", Short: "Have this machine be a host no more", Args: cobra.NoArgs,
		Long: "Have this machine be a host no more: it forgets who it was to the service, and people can sign in. It " +
			"is for build\nmachines whose disk was copied from a host.\nPrints what was done as a JSON list.",
		RunE: func(cmd *cobra.Command, _ []string) error {
			done, err := seal.Leave(cmd.Context(), seal.Running())
			if err != nil {
				return err
			}
			return json.NewEncoder(cmd.OutOrStdout()).Encode(done)
		},
	}
	look := seal.Look{Version: version, SignedIn: signedIn}
	inspect := &cobra.Command{
		Use: "inspect", Short: "Look for what should not be on this machine when it is sealed", Args: cobra.NoArgs,
		Long: "Look for what should not be on this machine when it is sealed: pending restarts and updates, people " +
			"who are signed in,\nsecrets, leftovers, and more. Changes nothing, and prints what was found as JSON.",
		RunE: func(cmd *cobra.Command, _ []string) error {
			found, err := seal.Inspect(cmd.Context(), seal.Running(), look)
			if err != nil {
				return err
			}
			return json.NewEncoder(cmd.OutOrStdout()).Encode(core.Seen{Facts: found, Clock: time.Now()})
		},
	}
	inspect.Flags().StringSliceVar(&look.Only, "only", nil, "seal checks for which to look, such as restart-pending")
	inspect.Flags().StringSliceVar(&look.Refuse, "refuse", nil, "software that is refused, such as telnet*")
	var clearing bool
	opening := &cobra.Command{
		Use: "open", Short: "Open an application as people would, and say whether it comes up", Args: cobra.NoArgs,
		Long: "Open an application, which is read from standard input as a build sheet has it, in JSON, as a person " +
			"that is made\nfor it, and print whether it came up as JSON. It is ended then.",
		RunE: func(cmd *cobra.Command, _ []string) error {
			var a sheet.Application
			if err := json.NewDecoder(cmd.InOrStdin()).Decode(&a); err != nil {
				return fmt.Errorf("the application is malformed: %w", err)
			}
			desk, closes, err := open.ForProof(cmd.Context())
			if err != nil {
				return err
			}
			tried := desk.Application(cmd.Context(), a)
			closes()
			if clearing {
				if err := open.Clear(cmd.Context()); err != nil {
					return err
				}
			}
			return json.NewEncoder(cmd.OutOrStdout()).Encode(tried)
		},
	}
	opening.Flags().BoolVar(&clearing, "clear", false, "take the person away afterwards, with all that is theirs")
	notify := &cobra.Command{
		Use: "notify TEXT", Short: "Show a text on the desktop of the session that this runs in",
		Args: cobra.ExactArgs(1), Hidden: true,
		RunE: func(cmd *cobra.Command, args []string) error { return linux.Notify(cmd.Context(), args[0]) },
	}
	sessions := &cobra.Command{
		Use: "sessions", Short: "Print who is signed in, as the agent reports it", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			list, err := system().Sessions(cmd.Context())
			if err != nil {
				return err
			}
			for _, s := range list {
				fmt.Fprintf(cmd.OutOrStdout(), "%s\t%s\t%s\tsince %s\n", s.Key, s.Person, s.State,
					s.Since.Format("2006-01-02 15:04:05"))
			}
			return nil
		},
	}
	return []*cobra.Command{sealing, leaving, inspect, opening, notify, sessions, keeping()}
}

func contents(ctx context.Context, commands []string) (list.List, error) {
	return software.Of(ctx, seal.Running(), commands)
}

// signedIn names the people who are signed in.
func signedIn(ctx context.Context) (people []string, err error) {
	list, err := system().Sessions(ctx)
	for _, s := range list {
		people = append(people, s.Person)
	}
	slices.Sort(people)
	return slices.Compact(people), err
}
