package cli

import (
	"context"
	"fmt"
	"io"

	"github.com/spf13/cobra"

	"kambrel.example/kambrel/cli/terminal"
	"kambrel.example/kambrel/client"
	"kambrel.example/kambrel/protocol/wire"
)

// shownCloud is all that is told of the cloud.
type shownCloud struct {
	wire.CloudView
	Connection wire.CloudConnection `json:"connection"`
}

// cloudFlags are by what a cloud is reached.
type cloudFlags struct{ url, tokenFile string }

func (f *cloudFlags) add(command *cobra.Command) {
	command.Flags().StringVar(&f.url, "url", "", "base URL of the cloud's SCIM 2.0 service")
	command.Flags().StringVar(&f.tokenFile, "token-file", "", "file that holds the token; - for standard input; by default it is asked for")
	_ = command.MarkFlagRequired("url")
}

func (f *cloudFlags) reach(cmd *cobra.Command) (wire.CloudReach, error) {
	token, err := terminal.AskPassword(cmd, f.tokenFile, "Token: ")
	return wire.CloudReach{URL: f.url, Token: token}, err
}

func newCloudTryCommand(d *deps) *cobra.Command {
	var flags cloudFlags
	command := &cobra.Command{
		Use: "try", Short: "Try a URL and a token for the cloud, and change nothing", Args: terminal.NoArguments,
		Long: `Has the service try a URL and a token step by step, and tells whether that is the
cloud that the records are of: it is asked for some of the resources that entries are
linked to. Nothing is kept, and nothing changes. Exit status 2 says that it would not do.`,
		Example: "  kambrel cloud try --url https://cloud.halvard.example/scim/v2 --token-file new.token",
		RunE: func(cmd *cobra.Command, _ []string) error {
			reach, err := flags.reach(cmd)
			if err != nil {
				return err
			}
			var tried wire.CloudTried
			if err := ask(d, cmd, func(ctx context.Context, c *client.Client) (wire.CloudTried, error) {
				tried, err = c.TryCloud(ctx, reach)
				return tried, err
			}, printCloudTried); err != nil {
				return err
			}
			if !tried.Answers || !tried.Same {
				return statusError(statusProblems)
			}
			return nil
		},
	}
	flags.add(command)
	return command
}

func printCloudTried(w io.Writer, tried wire.CloudTried) error {
	if err := printVerdicts(w, tried.Verdicts); err != nil {
		return err
	}
	var err error
	switch {
	case !tried.Answers:
	case tried.Linked == 0:
		_, err = fmt.Fprintf(w, "\n%s would do: nothing is linked yet, so that any cloud may be chosen.\n", tried.URL)
	case tried.Same:
		_, err = fmt.Fprintf(w, "\n%s is the cloud of the records: of %d linked resources it knows %d.\n", tried.URL, tried.Linked, tried.Known)
	default:
		_, err = fmt.Fprintf(w, "\nNOT THE CLOUD OF THE RECORDS: of %d linked resources %s knows %d. It would be refused.\n", tried.Linked, tried.URL, tried.Known)
	}
	return err
}

func newCloudConnectCommand(d *deps) *cobra.Command {
	var flags cloudFlags
	command := &cobra.Command{
		Use: "connect", Short: "Reach the cloud by a URL and a token from now on", Args: terminal.NoArguments,
		Long: `Tries a URL and a token as 'kambrel cloud try' does, and if all is well has every
service on these records reach the cloud so, at once and after each start, whatever its
configuration says. The token is kept in the records, sealed by a key in a file of the
service's host (--cloud-seal-key-file of 'kambrel serve'), which other services on the
same records need too. A cloud that does not know the resources that entries are linked
to is refused: for another cloud start a service on an empty database.`,
		Example: "  kambrel cloud connect --url https://cloud.halvard.example/scim/v2 --token-file new.token",
		RunE: func(cmd *cobra.Command, _ []string) error {
			reach, err := flags.reach(cmd)
			if err != nil {
				return err
			}
			return ask(d, cmd, func(ctx context.Context, c *client.Client) (wire.CloudTried, error) {
				return c.ConnectCloud(ctx, reach)
			}, func(w io.Writer, tried wire.CloudTried) error {
				if err := printCloudTried(w, tried); err != nil {
					return err
				}
				_, err := fmt.Fprintln(w, "The cloud is reached so from now on.")
				return err
			})
		},
	}
	flags.add(command)
	return command
}

func newCloudDisconnectCommand(d *deps) *cobra.Command {
	return &cobra.Command{
		Use: "disconnect", Short: "Reach the cloud again as the service's configuration says", Args: terminal.NoArguments,
		Long:    "Forgets what 'kambrel cloud connect' has said, with the token.",
		Example: "  kambrel cloud disconnect",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := d.client()
			if err != nil {
				return err
			}
			if err := c.DisconnectCloud(cmd.Context()); err != nil {
				return err
			}
			_, err = fmt.Fprintln(cmd.OutOrStdout(), "The cloud is reached as the service's configuration says.")
			return err
		},
	}
}
