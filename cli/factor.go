package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"kambrel.example/kambrel/cli/terminal"
	"kambrel.example/kambrel/client"
	"kambrel.example/kambrel/protocol/wire"
)

func newFactorCommand(d *deps) *cobra.Command {
	command := &cobra.Command{Use: "factor", Short: "Second factors: codes of an authenticator"}
	command.AddCommand(newFactorSetCommand(d), &cobra.Command{
		Use: "remove NAME", Short: "Take a second factor away, as of a lost telephone", Args: terminal.OneArgument("the operator's name"), Example: "  kambrel operator factor remove ingrid",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := d.client()
			if err != nil {
				return err
			}
			if err := c.RemoveFactor(cmd.Context(), args[0]); err != nil {
				return err
			}
			_, err = fmt.Fprintf(cmd.OutOrStdout(), "%s signs in by the password alone.\n", args[0])
			return err
		},
	})
	return command
}

func newFactorSetCommand(d *deps) *cobra.Command {
	var file string
	command := &cobra.Command{
		Use: "set", Short: "Ask for a code at your own sign-in", Args: terminal.NoArguments,
		Long: `Makes a secret for an authenticator (RFC 6238), asks for a code of it, and asks for
one at each sign-in of yours from then on. Your other sessions end. The console
shows the secret as a picture to scan. It is kept sealed by your password: where an
administrator gives you a new one, the second factor is gone with the old.`,
		Example: "  kambrel operator factor set",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return d.withPassword(cmd, file, "Your password: ", func(c *client.Client, password string) error {
				made, err := c.NewFactor(cmd.Context())
				if err != nil {
					return err
				}
				fmt.Fprintf(cmd.ErrOrStderr(), "Type this into the authenticator, or give it the address below it:\n\n  %s\n  %s\n\n", made.Secret, made.URI)
				code, err := terminal.Ask(cmd, "The code that it shows now: ")
				if err != nil {
					return err
				}
				if err := c.SetFactor(cmd.Context(), wire.OwnFactor{Current: password, Secret: made.Secret, Code: code}); err != nil {
					return err
				}
				_, err = fmt.Fprintln(cmd.OutOrStdout(), "A code is asked for from now on when you sign in. Your other sessions have ended.")
				return err
			})
		},
	}
	command.Flags().StringVar(&file, "password-file", "", "file that holds the password; - for standard input")
	return command
}
