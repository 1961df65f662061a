package cli

import (
	"context"
	"fmt"
	"io"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"kambrel.example/kambrel/cli/terminal"
	"kambrel.example/kambrel/client"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/protocol/orders"
	"kambrel.example/kambrel/protocol/wire"
)

func newDirectoryCommand(d *deps) *cobra.Command {
	command := &cobra.Command{Use: "directory", Short: "Connect, probe and take away directories"}
	command.AddCommand(newDirectoryListCommand(d), newDirectoryShowCommand(d), newDirectoryAddCommand(d), newDirectoryProbeCommand(d), newDirectoryRightsCommand(d),
		newDirectoryReadCommand(d), newDirectoryRemoveCommand(d), newDirectoryAbsentCommand(d), newDirectoryRemovedCommand(d), newDirectoryRestoreCommand(d))
	return command
}

func newDirectoryListCommand(d *deps) *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List directories with their agents and the last probe", Args: terminal.NoArguments, Example: "  kambrel directory list",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return ask(d, cmd, func(ctx context.Context, c *client.Client) ([]wire.ConnectedDirectory, error) {
				return c.Directories(ctx)
			}, func(w io.Writer, all []wire.ConnectedDirectory) error {
				if len(all) == 0 {
					_, err := fmt.Fprintln(w, "No directory yet. Add one with 'kambrel directory add NAME --dialect ad --base DN'.")
					return err
				}
				t := newTable("NAME", "DIALECT", "BASE", "SETTINGS", "AGENTS", "PROBE", "ENTRIES", "LINKS", "LAST READ")
				for _, one := range all {
					t.add(one.Name, one.Dialect, one.Base, standing(one), agentsText(one), probeText(one), one.Entries, one.Links, when(one.LastRead))
				}
				return t.print(w)
			})
		},
	}
}

// standing tells in which settings a directory is.
func standing(d wire.ConnectedDirectory) string {
	switch {
	case d.Active && d.InDraft:
		return "active"
	case d.Active:
		return "active, not in draft"
	}
	return "draft only"
}

func agentsText(d wire.ConnectedDirectory) string {
	online := 0
	for _, a := range d.Agents {
		if a.State == "online" {
			online++
		}
	}
	text := fmt.Sprintf("%d of %d online", online, len(d.Agents))
	if d.Plain {
		text += ", PLAIN LDAP"
	}
	return text
}

func probeText(d wire.ConnectedDirectory) string {
	if d.Probe == nil {
		return "never"
	}
	return d.Probe.Outcome + " " + when(&d.Probe.At)
}

func newDirectoryShowCommand(d *deps) *cobra.Command {
	return &cobra.Command{
		Use: "show NAME", Short: "Show one directory", Args: terminal.OneArgument("the directory's name"), Example: "  kambrel directory show halvard",
		RunE: func(cmd *cobra.Command, args []string) error {
			return ask(d, cmd, func(ctx context.Context, c *client.Client) (wire.ConnectedDirectory, error) {
				return c.Directory(ctx, args[0])
			}, func(w io.Writer, one wire.ConnectedDirectory) error {
				fmt.Fprintf(w, "%s, dialect %s, base %s\n  settings  %s\n  agents    %s\n", one.Name, one.Dialect, one.Base, standing(one), agentsText(one))
				for _, a := range one.Agents {
					fmt.Fprintf(w, "            %s on %s, %s, last contact %s\n", a.Name, a.Host, agentState(a), when(a.LastContact))
				}
				fmt.Fprintf(w, "  features  %s\n  mirror    %d entries, %d links, last read %s\n  probe     %s\n", or(join(one.Features), "reading only"), one.Entries, one.Links, when(one.LastRead), probeText(one))
				if one.Probe != nil {
					return printVerdicts(w, one.Probe.Verdicts)
				}
				return nil
			})
		},
	}
}

func join[T ~string](list []T) string {
	texts := make([]string, len(list))
	for i, item := range list {
		texts[i] = string(item)
	}
	return strings.Join(texts, ", ")
}

func newDirectoryAddCommand(d *deps) *cobra.Command {
	in := wire.NewDirectory{}
	var dialect string
	var features []string
	command := &cobra.Command{
		Use: "add NAME", Short: "Add a directory to the draft", Args: terminal.OneArgument("a name for the directory"),
		Long: `Adds a directory to the draft of the settings. Then enrol an agent on a host near
the directory, tell it how to reach the directory, and probe:

  kambrel agent code
  kambrel agent enrol --service URL --code CODE        (on the agent's host)
  kambrel agent directory set NAME --url ldaps://HOST --bind-dn ACCOUNT --password-file FILE
  kambrel agent run
  kambrel directory probe NAME

The containers can be chosen later with 'kambrel scope'. Nothing is synced before
'kambrel settings activate'.`,
		Example: "  kambrel directory add halvard --dialect ad --base DC=corp,DC=halvard,DC=example\n  kambrel directory add brisling --dialect standard --base dc=brisling,dc=example --include ou=Crew,dc=brisling,dc=example",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := d.client()
			if err != nil {
				return err
			}
			in.Name, in.Dialect = args[0], entry.Dialect(dialect)
			for _, feature := range features {
				in.Features = append(in.Features, entry.Feature(feature))
			}
			draft, err := c.AddDirectory(cmd.Context(), in)
			if err != nil {
				return err
			}
			return d.print(cmd.OutOrStdout(), draft, func(w io.Writer) error {
				_, err := fmt.Fprintf(w, "%s is in the draft (version %d). Next: 'kambrel agent code %s', then 'kambrel directory probe %s'.\n", in.Name, draft.Version, in.Name, in.Name)
				return err
			})
		},
	}
	command.Flags().StringVar(&dialect, "dialect", "", "ad (AD-compatible), standard (RFC 4533, as OpenLDAP) or 389ds (389 Directory Server)")
	command.Flags().StringVar(&in.Base, "base", "", "distinguished name below which everything lies")
	command.Flags().StringArrayVar(&in.Include, "include", nil, "container that takes part; may be given several times")
	command.Flags().StringArrayVar(&in.Exclude, "exclude", nil, "container below an included one that does not; may be given several times")
	command.Flags().StringSliceVar(&features, "feature", nil, "what Kambrel may do beyond reading: repair, reset-passwords, change-passwords, unlock, password-digests")
	_ = command.MarkFlagRequired("dialect")
	_ = command.MarkFlagRequired("base")
	return command
}

func newDirectoryProbeCommand(d *deps) *cobra.Command {
	var features []string
	var agent string
	command := &cobra.Command{
		Use: "probe NAME", Short: "Have an agent try the connection, step by step", Args: terminal.OneArgument("the directory's name"),
		Long: `An agent of the directory tries name, connection, TLS, sign-in, base, reading,
changes, clock, and the rights of each feature, without changing anything.
Exit status: 0 it works, 2 something is wrong.`,
		Example: "  kambrel directory probe halvard\n  kambrel directory probe halvard --feature repair\n  kambrel directory probe halvard --agent halvard-2",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := d.client()
			if err != nil {
				return err
			}
			probe, err := c.ProbeDirectory(cmd.Context(), args[0], agent, features)
			if err != nil {
				return err
			}
			if err := d.print(cmd.OutOrStdout(), probe, func(w io.Writer) error {
				fmt.Fprintf(w, "Probed by agent %s.\n", probe.Agent)
				return printVerdicts(w, probe.Verdicts)
			}); err != nil {
				return err
			}
			if probe.Outcome == "bad" { // what is doubtful works
				return statusError(statusProblems)
			}
			return nil
		},
	}
	command.Flags().StringSliceVar(&features, "feature", nil, "features to try beside those that are switched on: repair, reset-passwords, change-passwords, unlock, password-digests")
	command.Flags().StringVar(&agent, "agent", "", "the agent that is to do it, by name or id; any that is well otherwise")
	return command
}

var verdictMarks = map[string]string{"good": "ok", "doubtful": "!", "bad": "BAD", "skipped": "-"}

func printVerdicts(w io.Writer, verdicts []orders.Verdict) error {
	t := newTable("", "STEP", "FOUND")
	for _, v := range verdicts {
		t.add(verdictMarks[v.Outcome], v.Name(), v.Detail)
		if v.Advice != "" && v.Outcome != "good" {
			t.add("", "", "-> "+v.Advice)
		}
	}
	return t.print(w)
}

func newDirectoryRightsCommand(d *deps) *cobra.Command {
	var account string
	var features []string
	command := &cobra.Command{
		Use: "rights NAME", Short: "Print the rights that the agent's account needs", Args: terminal.OneArgument("the directory's name"),
		Long: `Prints exactly the rights that the features switched on need, for whom and on
which containers, as text to hand to the directory's owner.`,
		Example: "  kambrel directory rights halvard\n  kambrel directory rights halvard --feature repair --account S-1-5-21-1-2-3-1105",
		RunE: func(cmd *cobra.Command, args []string) error {
			return ask(d, cmd, func(ctx context.Context, c *client.Client) (wire.Rights, error) {
				return c.Rights(ctx, args[0], account, features)
			}, func(w io.Writer, rights wire.Rights) error {
				_, err := io.WriteString(w, rights.Text)
				return err
			})
		},
	}
	command.Flags().StringVar(&account, "account", "", "the account: its SID (dialect ad) or distinguished name")
	command.Flags().StringSliceVar(&features, "feature", nil, "features beside those that are switched on")
	return command
}

func newDirectoryReadCommand(d *deps) *cobra.Command {
	return &cobra.Command{
		Use: "read", Short: "Read the directories of the draft, without planning or writing", Args: terminal.NoArguments,
		Long:    "Reads what the draft needs into the mirror, so that containers, filters and counts can be looked at before anything is activated.",
		Example: "  kambrel directory read",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := d.client()
			if err != nil {
				return err
			}
			run, err := c.ReadDirectories(cmd.Context())
			if err != nil {
				return err
			}
			return d.wait(cmd, c, run.ID)
		},
	}
}

func newDirectoryRemoveCommand(d *deps) *cobra.Command {
	var typed string
	command := &cobra.Command{
		Use: "remove NAME", Short: "Take a directory away", Args: terminal.OneArgument("the directory's name"),
		Long: `Tells what would go with the directory and asks for its name to be typed. Its
links are put aside, nobody in the cloud is suspended or deleted, and
'kambrel directory restore' brings it back with its links for 30 days.`,
		Example: "  kambrel directory remove brisling\n  kambrel directory remove brisling --confirm brisling",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := d.client()
			if err != nil {
				return err
			}
			preview, err := c.RemovalPreview(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			fmt.Fprintln(cmd.ErrOrStderr(), preview.Text)
			if typed == "" {
				if err := terminal.Confirm(cmd, "Take it away?", args[0], "--confirm "+args[0]); err != nil {
					return err
				}
				typed = args[0]
			}
			if err := c.RemoveDirectory(cmd.Context(), args[0], typed); err != nil {
				return err
			}
			return d.print(cmd.OutOrStdout(), preview, func(w io.Writer) error {
				_, err := fmt.Fprintln(w, "Taken away. 'kambrel directory removed' lists what can be brought back.")
				return err
			})
		},
	}
	command.Flags().StringVar(&typed, "confirm", "", "the directory's name, instead of typing it")
	return command
}

func newDirectoryAbsentCommand(d *deps) *cobra.Command {
	var yes bool
	command := &cobra.Command{
		Use: "absent NAME ATTRIBUTE", Short: "Say that an attribute which cannot be read any more was taken from everybody",
		Args: cobra.ExactArgs(2),
		Long: `Ends that entries keep what they had of an attribute which nobody has at the
last read (problem attribute-hidden), and starts a run. What that run would take
away goes through the guard. Without --yes it only says what it would do.`,
		Example: "  kambrel directory absent halvard title\n  kambrel directory absent halvard title --yes",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := d.client()
			if err != nil {
				return err
			}
			if !yes {
				_, err := fmt.Fprintf(cmd.OutOrStdout(), "Everything would be read from %s, and %s taken from whoever had it; the guard holds what is too much. Do it with --yes.\n", args[0], args[1])
				return err
			}
			run, err := c.AcceptAbsence(cmd.Context(), args[0], args[1])
			if err != nil {
				return err
			}
			return d.wait(cmd, c, run.ID)
		},
	}
	command.Flags().BoolVar(&yes, "yes", false, "do it")
	return command
}

func newDirectoryRemovedCommand(d *deps) *cobra.Command {
	return &cobra.Command{
		Use: "removed", Short: "List directories that can be brought back", Args: terminal.NoArguments, Example: "  kambrel directory removed",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return ask(d, cmd, func(ctx context.Context, c *client.Client) ([]wire.Removal, error) { return c.Removals(ctx) }, func(w io.Writer, removals []wire.Removal) error {
				t := newTable("ID", "NAME", "LINKS", "BY", "TAKEN AWAY", "UNTIL")
				for _, r := range removals {
					t.add(r.ID, r.Name, r.Links, r.By, when(&r.Removed), when(&r.Until))
				}
				return t.print(w)
			})
		},
	}
}

func newDirectoryRestoreCommand(d *deps) *cobra.Command {
	return &cobra.Command{
		Use: "restore ID", Short: "Bring a directory back with its links", Args: terminal.OneArgument("the number that 'kambrel directory removed' shows"), Example: "  kambrel directory restore 1",
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := strconv.ParseInt(args[0], 10, 64)
			if err != nil {
				return fmt.Errorf("%q is no number: 'kambrel directory removed' shows it", args[0])
			}
			return ask(d, cmd, func(ctx context.Context, c *client.Client) (wire.BroughtBack, error) { return c.BringBack(ctx, id) }, func(w io.Writer, back wire.BroughtBack) error {
				fmt.Fprintf(w, "%s is back with %s, in revision %d. The next run reads its entries.\n", back.Name, plural(back.Links, "link"), back.Revision)
				if back.Lost > 0 {
					fmt.Fprintf(w, "%s could not come back: the account or the entry has another link by now.\n", plural(back.Lost, "link"))
				}
				return nil
			})
		},
	}
}

func newCloudForgetCommand(d *deps) *cobra.Command {
	return &cobra.Command{
		Use: "forget [TARGET]", Short: "Let values be sent again that the cloud writes its own way", Args: cobra.MaximumNArgs(1),
		Long: `What the cloud is known to write its own way is not sent again. Once the cloud
was changed, this lets the next run send those values once more: of one
attribute, or of all.`, Example: "  kambrel cloud forget title\n  kambrel cloud forget",
		RunE: func(cmd *cobra.Command, args []string) error {
			return ask(d, cmd, func(ctx context.Context, c *client.Client) (wire.ForgottenForms, error) {
				return c.ForgetForms(ctx, strings.Join(args, ""))
			}, func(w io.Writer, forgotten wire.ForgottenForms) error {
				_, err := fmt.Fprintf(w, "The next run sends the values of %s again.\n", plural(forgotten.Count, "resource"))
				return err
			})
		},
	}
}

func newCloudCommand(d *deps) *cobra.Command {
	command := &cobra.Command{Use: "cloud", Short: "Show, probe and connect the cloud, and say how it behaves"}
	show := &cobra.Command{
		Use: "show", Short: "Show what the cloud can do and what it holds", Args: terminal.NoArguments, Example: "  kambrel cloud show\n  kambrel cloud show -o json | jq '.targets[].path'",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return ask(d, cmd, func(ctx context.Context, c *client.Client) (shownCloud, error) {
				connection, err := c.CloudConnection(ctx)
				if err != nil {
					return shownCloud{}, err
				}
				cloud, err := c.Cloud(ctx)
				return shownCloud{cloud, connection}, err
			}, func(w io.Writer, cloud shownCloud) error {
				fmt.Fprintf(w, "%s, last read %s\n", cloud.URL, when(cloud.LastRead))
				if by := cloud.Connection; by.SetBy != "" {
					fmt.Fprintf(w, "%s has said so at %s ('kambrel cloud connect'), whatever the service's configuration says.\n", by.SetBy, when(by.SetAt))
				}
				fmt.Fprintln(w)
				t := newTable("FEATURE", "HAS", "DETAIL", "MEANING")
				for _, one := range cloud.Capabilities {
					t.add(one.Name, map[bool]string{true: "yes", false: "no"}[one.Has], or(one.Detail, "-"), one.Meaning)
				}
				if err := t.print(w); err != nil {
					return err
				}
				types := make([]string, len(cloud.Types))
				for i, one := range cloud.Types {
					types[i] = one.Name
				}
				fmt.Fprintf(w, "\nResource types  %s\nAttributes      %d of users that rules can set (-o json lists them)\n", strings.Join(types, ", "), len(cloud.Targets))
				fmt.Fprintf(w, "Login domains   %s (told by: %s)\n", or(strings.Join(cloud.Domains, ", "), "unknown"), cloud.DomainsFrom)
				if len(cloud.Forms) == 0 {
					return nil
				}
				fmt.Fprintln(w, "\nThe cloud writes these values its own way. They are not sent again, unless the rule gives another or 'kambrel cloud forget' is said:")
				t = newTable("KIND", "TARGET", "RESOURCES", "SENT, FOR EXAMPLE", "KEPT")
				for _, f := range cloud.Forms {
					t.add(f.Kind, f.Target, f.Count, f.Sent, or(f.Kept, "(nothing)"))
				}
				return t.print(w)
			})
		},
	}
	probe := &cobra.Command{
		Use: "probe", Short: "Try the connection to the cloud, step by step", Args: terminal.NoArguments, Example: "  kambrel cloud probe",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := d.client()
			if err != nil {
				return err
			}
			verdicts, err := c.ProbeCloud(cmd.Context())
			if err != nil {
				return err
			}
			if err := d.print(cmd.OutOrStdout(), verdicts, func(w io.Writer) error { return printVerdicts(w, verdicts) }); err != nil {
				return err
			}
			for _, v := range verdicts {
				if v.Outcome == "bad" {
					return statusError(statusProblems)
				}
			}
			return nil
		},
	}
	command.AddCommand(show, probe, newCloudHabitsCommand(d), newCloudForgetCommand(d), newCloudTryCommand(d), newCloudConnectCommand(d), newCloudDisconnectCommand(d))
	return command
}
