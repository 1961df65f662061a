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

func newOperatorGroupCommand(d *deps) *cobra.Command {
	command := &cobra.Command{Use: "group", Short: "Groups of directories whose members sign in"}
	command.AddCommand(&cobra.Command{
		Use: "list", Short: "List the groups whose members sign in, and as what", Args: terminal.NoArguments, Example: "  kambrel operator group list",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return ask(d, cmd, func(ctx context.Context, c *client.Client) ([]wire.OperatorGroup, error) {
				return c.OperatorGroups(ctx)
			}, func(w io.Writer, groups []wire.OperatorGroup) error {
				t := newTable("DIRECTORY", "GROUP", "ROLE", "BY", "SINCE")
				for _, g := range groups {
					t.add(g.Directory, groupName(g), g.Role, g.CreatedBy, when(&g.Created))
				}
				return t.print(w)
			})
		},
	}, newOperatorGroupAddCommand(d), &cobra.Command{
		Use: "remove GROUP", Short: "Let the members of a group sign in no more", Args: terminal.OneArgument("the group's DN or id, as the list has it"),
		Long: "Lets the members of a group sign in no more. Their sessions end with the next request,\nunless another group lets them in.", Example: "  kambrel operator group remove cn=it,ou=groups,dc=brisling,dc=example",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := d.client()
			if err != nil {
				return err
			}
			groups, err := c.OperatorGroups(cmd.Context())
			if err != nil {
				return err
			}
			for _, g := range groups {
				if g.EntryID != args[0] && g.DN != args[0] {
					continue
				}
				if err := c.RemoveOperatorGroup(cmd.Context(), g); err != nil {
					return err
				}
				_, err = fmt.Fprintf(cmd.OutOrStdout(), "Members of %s sign in no more.\n", groupName(g))
				return err
			}
			return fmt.Errorf("no group %q lets its members sign in; 'kambrel operator group list' has those that do", args[0])
		},
	})
	return command
}

// groupName is what a group is called.
func groupName(g wire.OperatorGroup) string {
	name := or(g.DN, g.EntryID)
	if g.Gone {
		name += " (gone)"
	}
	return name
}

func newOperatorGroupAddCommand(d *deps) *cobra.Command {
	var role string
	command := &cobra.Command{
		Use: "add GROUP", Short: "Let the members of a group sign in", Args: terminal.OneArgument("the group's name, DN or id"),
		Long: `Lets the members of a directory's group sign in, also those who are in it through
other groups. They give their login and password of the directory, which an agent
tries there; Kambrel keeps neither. Of several groups the highest role counts. Who
leaves the group, or whose account is disabled, is refused within a minute. Whoever
may change the group says who is operator here.`,
		Example: "  kambrel operator group add cn=it,ou=groups,dc=brisling,dc=example --role operator",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := d.client()
			if err != nil {
				return err
			}
			g, err := c.AddOperatorGroup(cmd.Context(), wire.NewOperatorGroup{Group: args[0], Role: wire.Role(role)})
			if err != nil {
				return err
			}
			return d.print(cmd.OutOrStdout(), g, func(w io.Writer) error {
				_, err := fmt.Fprintf(w, "Members of %s sign in as %s: 'kambrel login URL --directory %s --name LOGIN'.\n", groupName(g), g.Role, g.Directory)
				return err
			})
		},
	}
	command.Flags().StringVar(&role, "role", string(wire.Viewer), "viewer, operator or administrator")
	return command
}
