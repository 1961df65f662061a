package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"kambrel.example/kambrel/cli/terminal"
	"kambrel.example/kambrel/client"
	"kambrel.example/kambrel/protocol/wire"
)

func newSessionCommand(d *deps) *cobra.Command {
	command := &cobra.Command{Use: "session", Short: "Who is signed in, from where, and ending that"}
	command.AddCommand(&cobra.Command{
		Use: "list", Short: "List sessions that go on", Args: terminal.NoArguments, Example: "  kambrel session list",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return ask(d, cmd, func(ctx context.Context, c *client.Client) ([]wire.OpenSession, error) { return c.Sessions(ctx) }, func(w io.Writer, sessions []wire.OpenSession) error {
				t := newTable("OPERATOR", "ROLE", "LAST USED", "FROM", "SIGNED IN", "ENDS", "ID")
				for _, s := range sessions {
					name := s.Name
					if s.Own {
						name += " (this one)"
					}
					t.add(name, s.Role, when(s.Used), or(s.From, "-"), when(&s.Created), when(&s.Expires), s.ID)
				}
				return t.print(w)
			})
		},
	}, newEndCommand(d, "session", "End a session at once", "The session of %s has ended.\n", func(ctx context.Context, c *client.Client) (map[string]string, error) {
		sessions, err := c.Sessions(ctx)
		names := map[string]string{}
		for _, s := range sessions {
			names[s.ID] = s.Name
		}
		return names, err
	}, (*client.Client).EndSession))
	return command
}

// newEndCommand ends one of what is listed by id, which may be given by how it begins. list
// gives the names by id.
func newEndCommand(d *deps, what, short, said string, list func(context.Context, *client.Client) (map[string]string, error), end func(*client.Client, context.Context, string) error) *cobra.Command {
	return &cobra.Command{
		Use: "end ID", Short: short, Args: terminal.OneArgument("the " + what + "'s id, or how it begins"), Example: "  kambrel " + what + " end 4f1c9a2e",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := d.client()
			if err != nil {
				return err
			}
			names, err := list(cmd.Context(), c)
			if err != nil {
				return err
			}
			id, err := begunBy(names, args[0], what)
			if err != nil {
				return err
			}
			if err := end(c, cmd.Context(), id); err != nil {
				return err
			}
			_, err = fmt.Fprintf(cmd.OutOrStdout(), said, names[id])
			return err
		},
	}
}

// begunBy is the one id that begins so.
func begunBy(names map[string]string, text, what string) (string, error) {
	var found []string
	for id := range names {
		if strings.HasPrefix(id, text) {
			found = append(found, id)
		}
	}
	switch {
	case len(found) == 1:
		return found[0], nil
	case len(found) > 1:
		return "", fmt.Errorf("%d %ss begin with %s: give more of the id", len(found), what, text)
	}
	return "", fmt.Errorf("there is no %s %s: 'kambrel %s list' lists them", what, text, what)
}

func newTokenCommand(d *deps) *cobra.Command {
	command := &cobra.Command{Use: "token", Short: "Tokens by which programs use Kambrel"}
	command.AddCommand(newTokenListCommand(d), newTokenMakeCommand(d), newTokenEndCommand(d))
	return command
}

func newTokenListCommand(d *deps) *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List tokens: what for, until when, and when used last", Args: terminal.NoArguments, Example: "  kambrel token list",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return ask(d, cmd, func(ctx context.Context, c *client.Client) ([]wire.Token, error) { return c.Tokens(ctx) }, func(w io.Writer, tokens []wire.Token) error {
				t := newTable("NAME", "ROLE", "FOR", "LAST USED", "FROM", "MADE BY", "ENDS", "ID")
				for _, one := range tokens {
					used := "never"
					if one.Used != nil {
						used = when(one.Used)
					}
					t.add(one.Name, one.Role, or(one.Purpose, "-"), used, or(one.From, "-"), one.CreatedBy, when(&one.Expires), one.ID)
				}
				return t.print(w)
			})
		},
	}
}

func newTokenMakeCommand(d *deps) *cobra.Command {
	var in wire.NewToken
	var role string
	command := &cobra.Command{
		Use: "make NAME", Short: "Make a token, which is shown once", Args: terminal.OneArgument("the token's name"),
		Long: `Makes a token for a program, with the least role that it needs: viewer reads,
operator runs and decides, administrator does all. Its secret is shown once, and a
hash of it is kept.`,
		Example: "  kambrel token make prometheus --for \"metrics of the monitoring host\"\n  kambrel token make night-report --role operator --days 90 --for \"the weekly mail\"",
		RunE: func(cmd *cobra.Command, args []string) error {
			if in.Name, in.Role = args[0], wire.Role(role); in.Purpose == "" {
				return errors.New("say with --for what it is for, for whoever finds it in the list")
			}
			return ask(d, cmd, func(ctx context.Context, c *client.Client) (wire.Token, error) { return c.NewToken(ctx, in) }, func(w io.Writer, token wire.Token) error {
				_, err := fmt.Fprintf(w, "%s\n\nIt is shown this once. %s is %s until %s; programs use it with KAMBREL_SERVICE and KAMBREL_TOKEN.\n", token.Secret, token.Name, token.Role, when(&token.Expires))
				return err
			})
		},
	}
	command.Flags().StringVar(&role, "role", string(wire.Viewer), "viewer, operator or administrator")
	command.Flags().IntVar(&in.Days, "days", 365, "after how many days it ends")
	command.Flags().StringVar(&in.Purpose, "for", "", "what it is for")
	return command
}

func newTokenEndCommand(d *deps) *cobra.Command {
	return newEndCommand(d, "token", "End a token at once", "The token %s has ended.\n", func(ctx context.Context, c *client.Client) (map[string]string, error) {
		tokens, err := c.Tokens(ctx)
		names := map[string]string{}
		for _, one := range tokens {
			names[one.ID] = one.Name
		}
		return names, err
	}, (*client.Client).EndToken)
}
