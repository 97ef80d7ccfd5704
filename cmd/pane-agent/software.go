package main

import (
	"os"
	"time"

	"github.com/spf13/cobra"

	"nimblepane/core/software"
)

// listing is the command that says what is in this machine.
func listing() *cobra.Command {
	var to string
	var opened []string
	cmd := &cobra.Command{
		Use: "software", Short: "List what is installed on this machine, as CycloneDX", Args: cobra.NoArgs,
		Long: "List what is installed on this machine, with what there is to be known of it beside, as CycloneDX 1.6 " +
			"in JSON.\nChanges nothing.",
		RunE: func(cmd *cobra.Command, _ []string) error {
			list, err := contents(cmd.Context(), opened)
			if err != nil {
				return err
			}
			document, err := list.Document(software.Subject{Taken: time.Now(), Tool: "pane-agent", Version: version})
			if err != nil {
				return err
			}
			if to == "" {
				_, err = cmd.OutOrStdout().Write(document)
				return err
			}
			return os.WriteFile(to, software.Pack(document), 0o600)
		},
	}
	cmd.Flags().StringVar(&to, "to", "", "file to write it to, packed by gzip (default: print it)")
	cmd.Flags().StringArrayVar(&opened, "command", nil, "of an application that people open, to be looked for")
	return cmd
}
