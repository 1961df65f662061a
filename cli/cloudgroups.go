package cli

import (
	"context"
	"fmt"
	"io"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"kambrel.example/kambrel/cli/terminal"
	"kambrel.example/kambrel/client"
	"kambrel.example/kambrel/core/reason"
	"kambrel.example/kambrel/protocol/wire"
)

func newCloudGroupsCommand(d *deps) *cobra.Command {
	command := &cobra.Command{
		Use: "cloud-groups", Short: "Groups of the cloud that are kept in a directory",
		Long: `Groups that are made in the cloud are kept in one container of a directory, with those
members who have an entry there. The cloud owns them: what is changed in the directory
is put back. An entry keeps its identity whatever the group is called.

Groups are named by their id or their name. --directory is needed where several
directories keep groups.`,
	}
	command.AddCommand(newGroupsStateCommand(d), newGroupsListCommand(d), newGroupsShowCommand(d), newGroupsMembersCommand(d), newGroupsWhyCommand(d), newGroupsDriftCommand(d),
		newGroupsKeepCommand(d), newGroupsStopCommand(d), d.groupsChoiceCommand("choose", "Keep groups, and of all those alone that are chosen"), d.groupsChoiceCommand("except", "Keep groups out"), newGroupsRulesCommand(d),
		newGroupsTrialCommand(d), newGroupsHandOverCommand(d), newGroupsDecideAgainCommand(d))
	return command
}

// directoryFlag is the directory that a command is about.
func directoryFlag(command *cobra.Command, directory *string) {
	command.Flags().StringVar(directory, "directory", "", "in this directory")
}

func newGroupsStateCommand(d *deps) *cobra.Command {
	return &cobra.Command{
		Use: "state", Short: "Show in which directories groups are kept, and how they stand", Args: terminal.NoArguments, Example: "  kambrel cloud-groups state",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return ask(d, cmd, func(ctx context.Context, c *client.Client) ([]wire.CloudGroupDirectory, error) {
				return c.CloudGroupDirectories(ctx)
			}, func(w io.Writer, list []wire.CloudGroupDirectory) error {
				t := newTable("DIRECTORY", "KEPT", "LEAVING", "WAITING", "PROBLEMS", "PUT BACK IN 7 DAYS", "CONTAINER")
				for _, one := range list {
					container := one.Container
					if !one.On {
						container = "off"
					}
					t.add(one.Name, one.Kept, one.Leaving, one.Waiting, one.Problems, one.Drifted, container)
				}
				return t.print(w)
			})
		},
	}
}

func newGroupsListCommand(d *deps) *cobra.Command {
	var directory, show string
	var limit int
	command := &cobra.Command{
		Use: "list [TEXT]", Short: "List the groups of the cloud, those first that are kept", Args: cobra.MaximumNArgs(1),
		Long:    "Lists each group with its members in the directory and in the cloud. Those who are not in the\ndirectory are named by 'kambrel cloud-groups members GROUP --left-out'.",
		Example: "  kambrel cloud-groups list\n  kambrel cloud-groups list --show problems\n  kambrel cloud-groups list regatta -o json | jq '.[].dn'",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := d.listing(limit)
			if err != nil {
				return err
			}
			query := url.Values{"show": {show}, "limit": {strconv.Itoa(limit)}, "text": {strings.Join(args, "")}, "directory": {directory}}
			page, err := c.CloudGroups(cmd.Context(), query)
			if err != nil {
				return err
			}
			return d.print(cmd.OutOrStdout(), page.Items, func(w io.Writer) error {
				if len(page.Items) == 0 {
					_, err := fmt.Fprintln(w, "None. 'kambrel cloud-groups state' shows where groups are kept.")
					return err
				}
				t := newTable("NAME", "STATE", "MEMBERS", "IN CLOUD", "DIRECTORY", "NAME THERE")
				for _, g := range page.Items {
					members := fmt.Sprint(g.Members)
					if g.EntryID == "" {
						members = "-"
					}
					t.add(g.Name, g.State, members, g.InCloud, g.Directory, or(g.DN, "-"))
				}
				if err := t.print(w); err != nil {
					return err
				}
				if page.Total > len(page.Items) {
					fmt.Fprintf(w, "\n%d of %d; --limit shows more.\n", len(page.Items), page.Total)
				}
				return nil
			})
		},
	}
	directoryFlag(command, &directory)
	command.Flags().StringVar(&show, "show", "all", "all, kept, other, leaving, problems or drift")
	command.Flags().IntVar(&limit, "limit", 50, "how many")
	return command
}

func newGroupsShowCommand(d *deps) *cobra.Command {
	var directory string
	command := &cobra.Command{
		Use: "show GROUP", Short: "Show how a group stands in the directory, and why", Args: terminal.OneArgument("the group's id or name"), Example: "  kambrel cloud-groups show 'Regatta Committee'",
		RunE: func(cmd *cobra.Command, args []string) error {
			return ask(d, cmd, func(ctx context.Context, c *client.Client) (wire.CloudGroupDetail, error) {
				return c.CloudGroup(ctx, directory, args[0])
			}, printCloudGroup)
		},
	}
	directoryFlag(command, &directory)
	return command
}

func printCloudGroup(w io.Writer, g wire.CloudGroupDetail) error {
	fmt.Fprintf(w, "%s (%s) in %s: %s\n  %s\n", g.Name, g.ID, g.Directory, g.State, g.Summary)
	for _, line := range []struct{ name, value string }{{"entry", g.DN}, {"entry id", g.EntryID}, {"security identifier", g.SID}} {
		if line.value != "" {
			fmt.Fprintf(w, "  %-20s %s\n", line.name, line.value)
		}
	}
	if g.EntryID != "" {
		fmt.Fprintf(w, "  %-20s %d of %d in the cloud", "members", g.Members, g.InCloud)
		if g.LeftOut > 0 {
			fmt.Fprintf(w, "; %d left out, see 'kambrel cloud-groups members %s --left-out'", g.LeftOut, quotedWord(g.Name))
		}
		fmt.Fprintln(w)
	}
	if g.Due != nil {
		fmt.Fprintf(w, "  %-20s %s\n", "deleted there on", when(g.Due))
	}
	if g.Drifted != nil {
		fmt.Fprintf(w, "  %-20s %s, see 'kambrel cloud-groups drift'\n", "last put back", when(g.Drifted))
	}
	for _, p := range g.Problems {
		fmt.Fprintf(w, "  ! %s: %s\n    %s\n", p.Title, p.Detail, p.Remedy)
	}
	if len(g.Kept) > 0 {
		fmt.Fprintf(w, "  stay by an operator's word: %s; 'kambrel cloud-groups decide-again %s' ends that\n", strings.Join(g.Kept, "; "), quotedWord(g.Name))
	}
	fmt.Fprintln(w)
	for _, step := range g.Steps {
		printReason(w, step, 0)
	}
	return nil
}

// quotedWord is a text as a shell takes it for one word.
func quotedWord(text string) string {
	if strings.ContainsAny(text, " '\"\\$`&|;<>()*?#~!{}[]") {
		return "'" + strings.ReplaceAll(text, "'", `'\''`) + "'"
	}
	return text
}

func newGroupsMembersCommand(d *deps) *cobra.Command {
	var directory, text string
	var leftOut bool
	var limit int
	command := &cobra.Command{
		Use: "members GROUP", Short: "List the members that a group has in the directory, or who is left out", Args: terminal.OneArgument("the group's id or name"),
		Example: "  kambrel cloud-groups members 'Regatta Committee'\n  kambrel cloud-groups members 'Regatta Committee' --left-out\n  kambrel cloud-groups members 'Safety Board' --left-out --text cloud-only",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := d.listing(limit)
			if err != nil {
				return err
			}
			page, err := c.CloudGroupMembers(cmd.Context(), directory, args[0], leftOut, url.Values{"limit": {strconv.Itoa(limit)}, "text": {text}})
			if err != nil {
				return err
			}
			return d.print(cmd.OutOrStdout(), page.Items, func(w io.Writer) error { return printGroupMembers(w, page, leftOut) })
		},
	}
	directoryFlag(command, &directory)
	command.Flags().BoolVar(&leftOut, "left-out", false, "those who are members in the cloud and none in the directory, each with why")
	command.Flags().StringVar(&text, "text", "", "in the name; or a reason such as cloud-only")
	command.Flags().IntVar(&limit, "limit", 50, "how many")
	return command
}

func printGroupMembers(w io.Writer, page wire.Page[wire.CloudGroupMember], leftOut bool) error {
	if len(page.Items) == 0 {
		_, err := fmt.Fprintln(w, map[bool]string{true: "Nobody is left out.", false: "None."}[leftOut])
		return err
	}
	t := newTable("NAME", "KIND", "ENTRY")
	if leftOut {
		t = newTable("NAME", "KIND", "REASON", "WHY")
	}
	for _, m := range page.Items {
		if leftOut {
			t.add(m.Name, m.Kind, m.Reason, m.Text)
		} else {
			t.add(m.Name, m.Kind, m.DN)
		}
	}
	if err := t.print(w); err != nil {
		return err
	}
	if page.Total > len(page.Items) {
		fmt.Fprintf(w, "\n%d of %d; --limit shows more.\n", len(page.Items), page.Total)
	}
	return nil
}

func newGroupsWhyCommand(d *deps) *cobra.Command {
	var directory, member string
	command := &cobra.Command{
		Use: "why GROUP", Short: "Explain why a group is kept or not, or why somebody is its member or not", Args: terminal.OneArgument("the group's id or name"),
		Example: "  kambrel cloud-groups why 'Safety Board'\n  kambrel cloud-groups why 'Regatta Committee' --member dora@halvard.example",
		RunE: func(cmd *cobra.Command, args []string) error {
			return ask(d, cmd, func(ctx context.Context, c *client.Client) ([]reason.Node, error) {
				return c.WhyCloudGroup(ctx, directory, args[0], member)
			}, func(w io.Writer, steps []reason.Node) error {
				for _, step := range steps {
					printReason(w, step, 0)
				}
				return nil
			})
		},
	}
	directoryFlag(command, &directory)
	command.Flags().StringVar(&member, "member", "", "the login, name or id of somebody in the cloud")
	return command
}

func newGroupsDriftCommand(d *deps) *cobra.Command {
	var directory string
	var limit int
	command := &cobra.Command{
		Use: "drift", Short: "List what was changed in directories and put back, the newest first", Args: terminal.NoArguments,
		Long:    "Lists what somebody has changed of these groups in a directory, who and when as far as the\ndirectory tells, and which run has put it back.",
		Example: "  kambrel cloud-groups drift\n  kambrel cloud-groups drift --directory brisling -o json",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := d.listing(limit)
			if err != nil {
				return err
			}
			page, err := c.Drift(cmd.Context(), url.Values{"directory": {directory}, "limit": {strconv.Itoa(limit)}})
			if err != nil {
				return err
			}
			return d.print(cmd.OutOrStdout(), page.Items, func(w io.Writer) error { return printDrift(w, page) })
		},
	}
	directoryFlag(command, &directory)
	command.Flags().IntVar(&limit, "limit", 50, "how many")
	return command
}

func printDrift(w io.Writer, page wire.Page[wire.Drift]) error {
	if len(page.Items) == 0 {
		_, err := fmt.Fprintln(w, "None: nobody has changed these groups in a directory.")
		return err
	}
	for _, one := range page.Items {
		state := "put back by run " + strconv.FormatInt(one.RunID, 10)
		if one.State != "done" {
			state = "run " + strconv.FormatInt(one.RunID, 10) + ": " + one.State
		}
		fmt.Fprintf(w, "%s in %s, %s %s\n", one.Name, one.Directory, state, when(one.At))
		if one.By != "" || one.Changed != nil {
			fmt.Fprintf(w, "    changed %s%s\n", when(one.Changed), map[bool]string{true: " by " + one.By, false: ", the directory does not say by whom"}[one.By != ""])
		}
		printDiffs(w, one.Diffs)
	}
	if page.Total > len(page.Items) {
		fmt.Fprintf(w, "\n%d of %d; --limit shows more.\n", len(page.Items), page.Total)
	}
	return nil
}

func newGroupsTrialCommand(d *deps) *cobra.Command {
	var directory string
	in := wire.TryCloudGroup{}
	command := &cobra.Command{
		Use: "trial GROUP", Short: "Take one group the whole way with a few members, chosen or not", Args: terminal.OneArgument("the group's id or name"),
		Long: `Rehearses what a run would do about one group and a few of its members, or with
--write does it. A group that is not chosen then stays for the grace time, as one that
is no longer kept: choose it, and the next run completes it.

Exit status: 0 done, 1 failed, 2 the group has a problem.`,
		Example: "  kambrel cloud-groups trial 'Regatta Committee'\n  kambrel cloud-groups trial 'Regatta Committee' --members 3 --write",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := d.client()
			if err != nil {
				return err
			}
			run, err := c.TryCloudGroup(cmd.Context(), directory, args[0], in)
			if err != nil {
				return err
			}
			return d.wait(cmd, c, run.ID)
		},
	}
	directoryFlag(command, &directory)
	command.Flags().BoolVar(&in.Write, "write", false, "write it into the directory")
	command.Flags().IntVar(&in.Members, "members", 0, "how many members at most; 0 for what the settings say")
	return command
}

func newGroupsHandOverCommand(d *deps) *cobra.Command {
	var directory string
	var yes bool
	in := wire.HandOver{}
	command := &cobra.Command{
		Use: "hand-over GROUP", Short: "Let the other side own a group: the cloud, or the directory", Args: terminal.OneArgument("the group's id or name"),
		Long: `Turns the direction of one group. Both objects stay, with their identities: the entry
with its security identifier, and the resource with its id. From then on the other side
decides, and what is changed on this one is put back.

Without --yes it only tells what would be done.`,
		Example: "  kambrel cloud-groups hand-over 'Deck Crew' --to cloud\n  kambrel cloud-groups hand-over 'Deck Crew' --to directory --yes",
		RunE: func(cmd *cobra.Command, args []string) error {
			if !slices.Contains([]string{"cloud", "directory"}, in.To) {
				return fmt.Errorf("--to %q: say cloud or directory", in.To)
			}
			in.Do = yes
			c, err := d.client()
			if err != nil {
				return err
			}
			out, err := c.HandOver(cmd.Context(), directory, args[0], in)
			if err != nil {
				return err
			}
			if err := d.print(cmd.OutOrStdout(), out, func(w io.Writer) error {
				fmt.Fprintln(w, out.Summary)
				for _, warning := range out.Warnings {
					fmt.Fprintf(w, "  ! %s\n", warning)
				}
				printDiffs(w, out.Diffs)
				if !out.Done {
					fmt.Fprintln(w, "Nothing was done yet: add --yes.")
				}
				return nil
			}); err != nil || !out.Done {
				return err
			}
			return d.waitQuietly(cmd, c, out.RunID)
		},
	}
	directoryFlag(command, &directory)
	command.Flags().StringVar(&in.To, "to", "", "cloud or directory")
	command.Flags().BoolVar(&yes, "yes", false, "do it")
	return command
}

func newGroupsDecideAgainCommand(d *deps) *cobra.Command {
	var directory string
	command := &cobra.Command{
		Use: "decide-again GROUP", Short: "End what was discarded about a group: that it is not made again, or stays, or its members do", Args: terminal.OneArgument("the group's id or name"), Example: "  kambrel cloud-groups decide-again 'Safety Board'",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := d.client()
			if err != nil {
				return err
			}
			run, err := c.DecideCloudGroupAgain(cmd.Context(), directory, args[0])
			if err != nil {
				return err
			}
			return d.wait(cmd, c, run.ID)
		},
	}
	directoryFlag(command, &directory)
	return command
}
