// Command kambrel-standin is a cloud to work against on this machine.
package main

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/signal"
	"syscall"

	"github.com/spf13/cobra"

	"kambrel.example/kambrel/standin"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	if err := newCommand().ExecuteContext(ctx); err != nil {
		fmt.Fprintln(os.Stderr, "kambrel-standin:", err)
		os.Exit(1)
	}
}

func newCommand() *cobra.Command {
	var listen string
	options := standin.Options{}
	command := &cobra.Command{
		Use:     "kambrel-standin",
		Short:   "A SCIM 2.0 cloud to work against, on loopback",
		Example: "  kambrel-standin --listen 127.0.0.1:7650 --token-file token --dir state --domains halvard.example",
		Args:    cobra.NoArgs, SilenceUsage: true, SilenceErrors: true,
		RunE: func(cmd *cobra.Command, _ []string) error {
			server, err := standin.New(options)
			if err != nil {
				return err
			}
			listener, err := net.Listen("tcp", listen)
			if err != nil {
				return errors.Join(err, server.Close())
			}
			fmt.Fprintf(cmd.OutOrStdout(), "SCIM 2.0 at http://%s/scim/v2\n", listener.Addr())
			ended := make(chan error, 1)
			go func() { ended <- server.Serve(listener) }()
			select {
			case err = <-ended:
			case <-cmd.Context().Done():
			}
			return errors.Join(err, server.Close())
		},
	}
	command.Flags().StringVar(&listen, "listen", "127.0.0.1:7650", "address and port to listen on")
	command.Flags().StringVar(&options.TokenFile, "token-file", "", "file that holds bearer tokens, one on each line; read again when it changes")
	command.Flags().StringVar(&options.Dir, "dir", "", "folder for the journal; without it nothing is kept")
	command.Flags().StringSliceVar(&options.Domains, "domains", nil, "verified login domains, separated by commas")
	command.Flags().StringSliceVar(&options.Without, "without", nil, "features to take away: bulk, etag, sort, filter, patch, domains, groups, contacts, contact-members")
	command.Flags().StringSliceVar(&options.Habits, "habits", nil, "ways of other services to take on; one that there is not lists them")
	command.Flags().IntVar(&options.PageSize, "page-size", 0, "most resources on a page; 0 for 1000")
	command.Flags().StringVar(&options.Paging, "paging", "index", "how lists are paged: index, cursor or both")
	_ = command.MarkFlagRequired("token-file")
	return command
}
