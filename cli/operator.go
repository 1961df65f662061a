package cli

import (
	"context"
	"crypto/rand"
	"fmt"
	"io"

	"github.com/spf13/cobra"

	"kambrel.example/kambrel/cli/terminal"
	"kambrel.example/kambrel/client"
	"kambrel.example/kambrel/core/about"
	"kambrel.example/kambrel/core/act"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/protocol/wire"
	"kambrel.example/kambrel/service/operators"
	"kambrel.example/kambrel/service/store"
)

func newOperatorCommand(d *deps) *cobra.Command {
	command := &cobra.Command{Use: "operator", Short: "Who can sign in to Kambrel, and by what"}
	command.AddCommand(newOperatorListCommand(d), newOperatorAddCommand(d), newOperatorRemoveCommand(d), newOperatorRoleCommand(d), newOperatorPasswordCommand(d), newOperatorGroupCommand(d), newFactorCommand(d), newOperatorResetCommand())
	return command
}

func newOperatorListCommand(d *deps) *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List who can sign in", Args: terminal.NoArguments, Example: "  kambrel operator list",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return ask(d, cmd, func(ctx context.Context, c *client.Client) ([]wire.Operator, error) { return c.Operators(ctx) }, func(w io.Writer, operators []wire.Operator) error {
				t := newTable("NAME", "ROLE", "SECOND FACTOR", "SESSIONS", "LAST USED", "SINCE")
				for _, o := range operators {
					name := o.Name
					if o.Emergency {
						name += " (emergency)"
					}
					t.add(name, o.Role, map[bool]string{true: "yes", false: "-"}[o.SecondFactor], o.Sessions, when(o.Used), when(&o.Created))
				}
				return t.print(w)
			})
		},
	}
}

func newOperatorAddCommand(d *deps) *cobra.Command {
	var role, file string
	var emergency bool
	command := &cobra.Command{
		Use: "add NAME", Short: "Add somebody who can sign in", Args: terminal.OneArgument("the operator's name"),
		Long:    "Adds an operator. The password is asked for on a terminal, or read from\n--password-file, where - is standard input.",
		Example: "  kambrel operator add ingrid --role operator",
		RunE: func(cmd *cobra.Command, args []string) error {
			return d.withPassword(cmd, file, "Password for "+args[0]+": ", func(c *client.Client, password string) error {
				if err := c.AddOperator(cmd.Context(), wire.NewOperator{Name: args[0], Password: password, Role: wire.Role(role), Emergency: emergency}); err != nil {
					return err
				}
				_, err := fmt.Fprintf(cmd.OutOrStdout(), "%s can sign in, as %s.\n", args[0], role)
				return err
			})
		},
	}
	command.Flags().StringVar(&role, "role", string(wire.Viewer), "viewer, operator or administrator")
	command.Flags().BoolVar(&emergency, "emergency", false, "for emergencies alone: everybody is told when it is used")
	command.Flags().StringVar(&file, "password-file", "", "file that holds the password; - for standard input")
	return command
}

// withPassword connects, reads a password, and does something with both.
func (d *deps) withPassword(cmd *cobra.Command, file, prompt string, do func(*client.Client, string) error) error {
	c, err := d.client()
	if err != nil {
		return err
	}
	password, err := terminal.AskPassword(cmd, file, prompt)
	if err != nil {
		return err
	}
	return do(c, password)
}

func newOperatorRemoveCommand(d *deps) *cobra.Command {
	return &cobra.Command{
		Use: "remove NAME", Short: "Remove somebody who can sign in", Args: terminal.OneArgument("the operator's name"),
		Long: "Removes an operator and ends all their sessions and streams at once. The last\nadministrator cannot be removed.", Example: "  kambrel operator remove ingrid",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := d.client()
			if err != nil {
				return err
			}
			if err := c.RemoveOperator(cmd.Context(), args[0]); err != nil {
				return err
			}
			_, err = fmt.Fprintf(cmd.OutOrStdout(), "%s is removed, and all sessions have ended.\n", args[0])
			return err
		},
	}
}

func newOperatorRoleCommand(d *deps) *cobra.Command {
	return &cobra.Command{
		Use: "role NAME ROLE", Short: "Give somebody another role", Args: cobra.ExactArgs(2),
		Long:    "Gives an operator the role viewer, operator or administrator. It counts from their\nnext request on. The last administrator stays one.",
		Example: "  kambrel operator role ingrid administrator",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := d.client()
			if err != nil {
				return err
			}
			if err := c.SetRole(cmd.Context(), args[0], wire.Role(args[1])); err != nil {
				return err
			}
			_, err = fmt.Fprintf(cmd.OutOrStdout(), "%s is %s from now on.\n", args[0], args[1])
			return err
		},
	}
}

func newOperatorPasswordCommand(d *deps) *cobra.Command {
	var file, currentFile string
	command := &cobra.Command{
		Use: "password [NAME]", Short: "Change your own password, or give somebody a new one", Args: cobra.MaximumNArgs(1),
		Long: `Without a name it changes your own password, for which the current one is asked;
your other sessions end. With a name an administrator gives that operator a new
password, and all their sessions end.`,
		Example: "  kambrel operator password\n  kambrel operator password ingrid",
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 1 {
				return d.withPassword(cmd, file, "New password for "+args[0]+": ", func(c *client.Client, password string) error {
					if err := c.SetPassword(cmd.Context(), args[0], password); err != nil {
						return err
					}
					_, err := fmt.Fprintf(cmd.OutOrStdout(), "%s has a new password, and all sessions have ended.\n", args[0])
					return err
				})
			}
			return d.withPassword(cmd, currentFile, "Current password: ", func(c *client.Client, current string) error {
				password, err := terminal.AskPassword(cmd, file, "New password: ")
				if err != nil {
					return err
				}
				if err := c.ChangePassword(cmd.Context(), wire.OwnPassword{Current: current, Password: password}); err != nil {
					return err
				}
				_, err = fmt.Fprintln(cmd.OutOrStdout(), "Your password is changed, and your other sessions have ended.")
				return err
			})
		},
	}
	command.Flags().StringVar(&file, "password-file", "", "file that holds the new password; - for standard input")
	command.Flags().StringVar(&currentFile, "current-password-file", "", "file that holds the current password")
	return command
}

func newOperatorResetCommand() *cobra.Command {
	var of records
	var file string
	command := &cobra.Command{
		Use: "reset NAME", Short: "Give an operator a new password on the service's host", Args: terminal.OneArgument("the operator's name"),
		Long: `Gives an operator a new password in the database itself, for when nobody can sign
in any more; it asks no service and needs the database that the service uses. An
operator who is not there is made, as administrator. All sessions of that operator
end, and a second factor is gone. Without --password-file it makes a password and
prints it once.`,
		Example: "  kambrel operator reset administrator --database postgres://kambrel@127.0.0.1/kambrel",
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := of.find(); err != nil {
				return err
			}
			password, shown := rand.Text(), true
			if file != "" {
				var err error
				if password, err = terminal.ReadPassword(cmd, file); err != nil {
					return err
				}
				shown = false
			}
			records, err := store.Open(cmd.Context(), of.dsn)
			if err != nil {
				return err
			}
			defer records.Close()
			err = operators.SetPassword(cmd.Context(), records, args[0], password, nil, "")
			if problem.CodeOf(err) == problem.NotFound {
				err = operators.Add(cmd.Context(), records, wire.NewOperator{Name: args[0], Password: password, Role: wire.Administrator})
			}
			if err == nil {
				err = records.Acts.Record(cmd.Context(), act.Act{Kind: act.SetPassword, By: "host", About: about.Thing{Type: about.Operator, Key: args[0]}, Note: "on the service's host"})
			}
			if err != nil {
				return err
			}
			if shown {
				_, err = fmt.Fprintf(cmd.OutOrStdout(), "%s has the password %s (shown once).\n", args[0], password)
			} else {
				_, err = fmt.Fprintf(cmd.OutOrStdout(), "%s has the new password.\n", args[0])
			}
			return err
		},
	}
	of.flags(command)
	command.Flags().StringVar(&file, "password-file", "", "file that holds the password; - for standard input")
	return command
}
