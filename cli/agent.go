package cli

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"kambrel.example/kambrel/cli/onhost"
	"kambrel.example/kambrel/cli/terminal"
	"kambrel.example/kambrel/client"
	"kambrel.example/kambrel/protocol/wire"
)

func newAgentCommand(d *deps) *cobra.Command {
	command := &cobra.Command{Use: "agent", Short: "Enrol, run and list agents"}
	command.AddCommand(newAgentListCommand(d), newAgentCodeCommand(d), newAgentGrantCommand(d), newAgentWithdrawCommand(d), newAgentRetireCommand(d), newAgentReleaseCommand(d), newAgentUpdateCommand(d))
	command.AddCommand(onhost.Commands()...)
	return command
}

func newAgentListCommand(d *deps) *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List agents and what they serve", Args: terminal.NoArguments, Example: "  kambrel agent list",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return ask(d, cmd, func(ctx context.Context, c *client.Client) ([]wire.Agent, error) { return c.Agents(ctx) }, func(w io.Writer, agents []wire.Agent) error {
				t := newTable("NAME", "STATE", "HOST", "VERSION", "SERVES", "LIVE", "LAST CONTACT", "ID")
				for _, a := range agents {
					serves := or(strings.Join(a.Directories, ", "), "-")
					if len(a.Asks) > 0 {
						serves += " (asks for " + strings.Join(a.Asks, ", ") + ")"
					}
					if len(a.Plain) > 0 {
						serves += " (PLAIN LDAP: " + strings.Join(a.Plain, ", ") + ")"
					}
					t.add(a.Name, agentState(a), a.Host, versionText(a), serves, liveText(a.Watches), when(a.LastContact), a.ID)
				}
				if err := t.print(w); err != nil {
					return err
				}
				for _, a := range agents {
					if u := a.Update; u != nil && u.State == wire.UpdateFailed {
						fmt.Fprintf(w, "\n%s went back to %s at %s: %s\n  'kambrel agent update %s --to %s' tries again, --cancel leaves it; until then no other agent gets that version.\n", a.Name, a.Version, when(&u.Since), u.Detail, a.Name, u.To)
					}
					for _, one := range a.Watches {
						if one.State != wire.Watched {
							fmt.Fprintf(w, "\n%s does not hear of changes in %s since %s: %s\n  They come with the schedule until then.\n", a.Name, one.Directory, when(&one.Since), one.Detail)
						}
					}
					for _, fault := range a.Faults {
						fmt.Fprintf(w, "\n%s fails at %s since %s: %s\n  Look again with 'kambrel directory probe %s --agent %s'; until it is well, others do its work.\n", a.Name, fault.Directory, when(&fault.Since), fault.Detail, fault.Directory, a.Name)
					}
				}
				return nil
			})
		},
	}
}

// liveText says how an agent hears of changes.
func liveText(watches []wire.Watch) string {
	texts := make([]string, len(watches))
	for i, one := range watches {
		texts[i] = one.Directory + " " + one.State
	}
	return or(strings.Join(texts, ", "), "-")
}

// agentState says how an agent is, and that it fails where it does.
func agentState(a wire.Agent) string {
	if len(a.Faults) == 0 {
		return a.State
	}
	failing := make([]string, len(a.Faults))
	for i, fault := range a.Faults {
		failing[i] = fault.Directory
	}
	return a.State + ", FAILS at " + strings.Join(failing, ", ")
}

func newAgentCodeCommand(d *deps) *cobra.Command {
	return &cobra.Command{
		Use: "code DIRECTORY...", Short: "Issue a one-time code that enrols an agent for directories", Args: someDirectories(0),
		Long: `Issues a code that enrols one agent, which may then speak for the directories
that are named and no others; they need not be in the settings yet. The code is
shown once and expires after an hour.`, Example: "  kambrel agent code halvard\n  kambrel agent code halvard brisling",
		RunE: func(cmd *cobra.Command, args []string) error {
			return ask(d, cmd, func(ctx context.Context, c *client.Client) (wire.EnrolmentCode, error) {
				return c.IssueCode(ctx, args...)
			}, func(w io.Writer, code wire.EnrolmentCode) error {
				_, err := fmt.Fprintf(w, "For %s. On the agent's host, before %s:\n\n  %s\n", strings.Join(code.Directories, ", "), when(&code.Expires), code.Command)
				return err
			})
		},
	}
}

func newAgentRetireCommand(d *deps) *cobra.Command {
	return &cobra.Command{
		Use: "retire AGENT", Short: "End an agent's identity", Args: terminal.OneArgument("the agent's name or id"), Example: "  kambrel agent retire halvard-1",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := d.client()
			if err != nil {
				return err
			}
			agent, err := findAgent(cmd.Context(), c, args[0])
			if err != nil {
				return err
			}
			if err := c.RetireAgent(cmd.Context(), agent.ID); err != nil {
				return err
			}
			_, err = fmt.Fprintln(cmd.OutOrStdout(), "Retired. The agent ends by itself when it next asks for an order.")
			return err
		},
	}
}

// someDirectories asks for names of directories after the first few arguments.
func someDirectories(after int) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if len(args) > after {
			return nil
		}
		return fmt.Errorf("%s needs the names of the directories, as in the settings. See '%s --help'", cmd.CommandPath(), cmd.CommandPath())
	}
}

// findAgent finds an agent by its name or id.
func findAgent(ctx context.Context, c *client.Client, text string) (wire.Agent, error) {
	agents, err := c.Agents(ctx)
	if err != nil {
		return wire.Agent{}, err
	}
	var names []string
	for _, a := range agents {
		if a.ID == text || a.Name == text {
			return a, nil
		}
		names = append(names, a.Name)
	}
	return wire.Agent{}, fmt.Errorf("there is no agent %q; there are %s", text, or(strings.Join(names, ", "), "none"))
}

func newAgentGrantCommand(d *deps) *cobra.Command {
	return grantCommand(d, "grant", "Let an agent speak for more directories", "  kambrel agent grant halvard-1 brisling", func(have, named []string) []string {
		return slices.Compact(slices.Sorted(slices.Values(append(slices.Clone(have), named...))))
	})
}

func newAgentWithdrawCommand(d *deps) *cobra.Command {
	return grantCommand(d, "withdraw", "Let an agent no longer speak for directories", "  kambrel agent withdraw halvard-1 brisling", func(have, named []string) []string {
		return slices.DeleteFunc(slices.Clone(have), func(name string) bool { return slices.Contains(named, name) })
	})
}

func grantCommand(d *deps, verb, short, example string, change func(have, named []string) []string) *cobra.Command {
	return &cobra.Command{
		Use: verb + " AGENT DIRECTORY...", Short: short, Args: someDirectories(1), Example: example,
		RunE: func(cmd *cobra.Command, args []string) error {
			return ask(d, cmd, func(ctx context.Context, c *client.Client) (wire.Agent, error) {
				agent, err := findAgent(ctx, c, args[0])
				if err != nil {
					return agent, err
				}
				return c.GrantDirectories(ctx, agent.ID, change(agent.Granted, args[1:]))
			}, func(w io.Writer, agent wire.Agent) error {
				_, err := fmt.Fprintf(w, "%s may speak for %s.\n", agent.Name, or(strings.Join(agent.Granted, ", "), "no directory"))
				return err
			})
		},
	}
}
