package main

import (
	"fmt"
	"log/slog"
	"net"
	"os"

	"github.com/spf13/cobra"

	"nimblepane/platform/depot"
)

// keeping is the depot of a hypervisor that is not the service's own computer.
func keeping() *cobra.Command {
	var folder, listen string
	var certificates depot.Certificates
	var allow []string
	cmd := &cobra.Command{
		Use: "depot --folder FOLDER", Args: cobra.NoArgs,
		Short: "Keep the copies of versions on this hypervisor, until told to stop",
		Long: "Keep the copies of versions on this hypervisor, until told to stop: put them together from what is " +
			"there already and\nwhat the service sends. The folder is that of the storage pool which the estate file " +
			"names.\n\nThe service and the depot show each other the certificates that libvirt has for its " +
			"connections over TLS.\nA depot that is to have copies from another one of its site needs a client's " +
			"certificate as well as a server's.",
		RunE: func(cmd *cobra.Command, _ []string) error {
			d, err := depot.OpenLocal(folder, 0o444)
			if err != nil {
				return fmt.Errorf("the folder: %w", err)
			}
			l, err := (&net.ListenConfig{}).Listen(cmd.Context(), "tcp", listen)
			if err != nil {
				return err
			}
			return depot.Serve(cmd.Context(), l, d, certificates, allow, slog.New(slog.NewTextHandler(os.Stderr, nil)))
		},
	}
	f := cmd.Flags()
	f.StringVar(&folder, "folder", "", "folder of the storage pool")
	f.StringVar(&listen, "listen", ":16520", "address and port to listen on")
	f.StringVar(&certificates.Folder, "certificates", "", "folder of cacert.pem, servercert.pem, serverkey.pem, "+
		"clientcert.pem and clientkey.pem, if they are not where libvirt has them")
	f.StringSliceVar(&allow, "allow", nil, "common names of certificates that are let in, if not all of the authority")
	_ = cmd.MarkFlagRequired("folder")
	return cmd
}
