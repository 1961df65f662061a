package standin

import (
	"errors"
	"fmt"
	"net"

	"github.com/spf13/cobra"
)

// NewCommand builds the command that runs the stand-in by itself.
func NewCommand() *cobra.Command {
	var listen string
	options := Options{}
	command := &cobra.Command{
		Use:     "cloud",
		Short:   "A SCIM 2.0 cloud to work against, on loopback",
		Example: "  kambrel-lab cloud --listen 127.0.0.1:7650 --token-file token --dir state --domains halvard.example",
		Args:    cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			server, err := New(options)
			if err != nil {
				return err
			}
			listener, err := net.Listen("tcp", listen)
			if err != nil {
				return errors.Join(err, server.Close())
			}
			fmt.Fprintf(cmd.OutOrStdout(), "SCIM 2.0 at http://%s/scim/v2\nPeople look after their passwords at http://%s/me\n", listener.Addr(), listener.Addr())
			ended := make(chan error, 1)
			go func() { ended <- server.Serve(listener) }()
			select {
			case err = <-ended:
			case <-cmd.Context().Done():
			}
			return errors.Join(err, server.Close())
		},
	}
	flags := command.Flags()
	flags.StringVar(&listen, "listen", "127.0.0.1:7650", "address and port to listen on")
	flags.StringVar(&options.TokenFile, "token-file", "", "file that holds bearer tokens, one on each line; read again when it changes")
	flags.StringVar(&options.Dir, "dir", "", "folder for the journal; without it nothing is kept")
	flags.StringSliceVar(&options.Domains, "domains", nil, "verified login domains, separated by commas")
	flags.StringSliceVar(&options.Claimed, "claimed-domains", nil, "login domains that are not verified yet, separated by commas")
	flags.StringSliceVar(&options.Without, "without", nil, "features to take away: bulk, etag, sort, filter, patch, domains, groups, contacts, contact-members, passwords, federation")
	flags.StringSliceVar(&options.Habits, "habits", nil, "ways of other services to take on; one that there is not lists them")
	flags.DurationVar(&options.Clock, "clock", 0, "how far its clock is ahead of the host's, such as 40m or -1h")
	flags.StringVar(&options.AgentsFile, "agents-file", "", "file with the agents for which passwords are sealed: a directory and the thumbprint of the agent's identity on each line")
	flags.IntVar(&options.PageSize, "page-size", 0, "most resources on a page; 0 for 1000")
	flags.StringVar(&options.Paging, "paging", "index", "how lists are paged: index, cursor or both")
	_ = command.MarkFlagRequired("token-file")
	return command
}
