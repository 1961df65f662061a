package cli

import (
	"context"
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"kambrel.example/kambrel/cli/terminal"
	"kambrel.example/kambrel/client"
	"kambrel.example/kambrel/protocol/wire"
)

func newNoticesCommand(d *deps) *cobra.Command {
	command := &cobra.Command{
		Use: "notices", Short: "Show who is told of what, and try it",
		Long: `People are told by mail, and programs by a signed webhook: at once of what keeps the cloud
from being in step and when it is well again, and once a day of all that is open. Who is
told of what is in the settings (notices); the mail server is given to 'kambrel serve'.`,
	}
	command.AddCommand(&cobra.Command{
		Use: "list", Short: "List who is told of what, and what people were told, the newest first", Args: terminal.NoArguments, Example: "  kambrel notices list\n  kambrel notices list -o json",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return ask(d, cmd, func(ctx context.Context, c *client.Client) (wire.NoticesView, error) { return c.Notices(ctx) }, printNotices)
		},
	}, newNoticesTestCommand(d))
	return command
}

func newNoticesTestCommand(d *deps) *cobra.Command {
	return &cobra.Command{
		Use: "test", Short: "Send a notice for a trial to everybody who is told of anything", Args: terminal.NoArguments,
		Long: "Sends a notice now and says what came of it.\n\nExit status: 0 taken, 1 not.", Example: "  kambrel notices test",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := d.client()
			if err != nil {
				return err
			}
			sent, err := c.TestNotices(cmd.Context())
			if err != nil {
				return err
			}
			if err := d.print(cmd.OutOrStdout(), sent, func(w io.Writer) error {
				for _, n := range sent {
					fmt.Fprintf(w, "%s: %s\n", noticeTo(n), noticeState(n))
				}
				return nil
			}); err != nil {
				return err
			}
			for _, n := range sent {
				if n.Sent == nil {
					return statusError(statusFailed)
				}
			}
			return nil
		},
	}
}

func noticeTo(n wire.Notice) string {
	if n.Channel == "webhook" {
		return "webhook"
	}
	return "mail to " + strings.Join(n.Recipients, ", ")
}

func noticeState(n wire.Notice) string {
	switch {
	case n.Sent != nil:
		return "taken at " + when(n.Sent)
	case n.Failure != "":
		return fmt.Sprintf("not taken after %s: %s", plural(n.Attempts, "attempt"), n.Failure)
	}
	return "waits for a service that was started with --mail-server"
}

func printNotices(w io.Writer, v wire.NoticesView) error {
	fmt.Fprintf(w, "Mail server  %s\n", or(v.Server, "none: 'kambrel serve --mail-server URL --mail-from ADDRESS'"))
	if v.From != "" {
		fmt.Fprintf(w, "From         %s\n", v.From)
	}
	for _, r := range v.Recipients {
		fmt.Fprintf(w, "To           %s, of %s\n", r.To, strings.Join(r.Of, " and "))
	}
	if v.Webhook != "" {
		fmt.Fprintf(w, "Webhook      %s, %s\n", v.Webhook, map[bool]string{true: "signed", false: "not signed: 'kambrel serve --webhook-key-file FILE'"}[v.Signed])
	}
	if len(v.Recipients) == 0 && v.Webhook == "" {
		fmt.Fprintln(w, "Nobody is told of anything: name recipients under notices in the settings.")
	} else {
		fmt.Fprintf(w, "Digest       %s\n", or(v.Digest, "off"))
	}
	if len(v.Items) == 0 {
		return nil
	}
	fmt.Fprintln(w)
	t := newTable("MADE", "SUBJECT", "TO", "STATE")
	for _, n := range v.Items {
		t.add(when(&n.Created), n.Subject, noticeTo(n), noticeState(n))
	}
	return t.print(w)
}
