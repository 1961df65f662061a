package cli

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"kambrel.example/kambrel/cli/terminal"
	"kambrel.example/kambrel/client"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/protocol/wire"
)

func newScopeCommand(d *deps) *cobra.Command {
	command := &cobra.Command{
		Use: "scope", Short: "Choose who takes part, in the draft",
		Long: `Shows and edits in the draft who takes part: containers, a filter and a group limit
for each kind. All of them must let an entry in. Nothing reaches the cloud before
'kambrel settings activate'; 'kambrel impact' shows beforehand what it would do.`,
	}
	command.AddCommand(newScopeTreeCommand(d), newScopeCountCommand(d),
		d.scopeMarkCommand("include", "Let containers take part", func(c *settings.Containers, dn string) { c.Include = append(c.Include, dn) }),
		d.scopeMarkCommand("exclude", "Keep containers out", func(c *settings.Containers, dn string) { c.Exclude = append(c.Exclude, dn) }),
		d.scopeMarkCommand("unmark", "Let containers follow their parent again", func(*settings.Containers, string) {}),
		newScopeFilterCommand(d), newScopeLimitCommand(d),
		d.scopeSwitchCommand("on", "Let a kind take part", false), d.scopeSwitchCommand("off", "Keep a whole kind out", true))
	return command
}

func newScopeTreeCommand(d *deps) *cobra.Command {
	return &cobra.Command{
		Use: "tree NAME", Short: "Show a directory's containers with counts and marks", Args: terminal.OneArgument("the directory's name"),
		Long:    "Shows the tree with how many users, groups and contacts lie in each container and below. [x] takes part, [-] in part, [ ] does not; + and ! are the marks include and exclude.",
		Example: "  kambrel scope tree halvard",
		RunE: func(cmd *cobra.Command, args []string) error {
			return ask(d, cmd, func(ctx context.Context, c *client.Client) (wire.ContainerTree, error) {
				return c.Containers(ctx, args[0])
			}, func(w io.Writer, tree wire.ContainerTree) error {
				if tree.Read == nil {
					_, err := fmt.Fprintf(w, "%s was not read yet: run 'kambrel directory read'.\n", tree.Directory)
					return err
				}
				return printTree(w, tree)
			})
		},
	}
}

func printTree(w io.Writer, tree wire.ContainerTree) error {
	t := newTable("CONTAINER", "MARK", "PEOPLE", "GROUPS", "CONTACTS", "DN")
	depth := make([]int, len(tree.Nodes))
	for i, node := range tree.Nodes {
		if node.Parent >= 0 {
			depth[i] = depth[node.Parent] + 1
		}
		box := "[ ]"
		switch {
		case node.Mixed:
			box = "[-]"
		case node.State == "include":
			box = "[x]"
		}
		t.add(strings.Repeat("  ", depth[i])+box+" "+node.Name, map[string]string{"include": "+", "exclude": "!"}[node.Mark],
			node.Below.Users, node.Below.Groups, node.Below.Contacts, node.DN)
	}
	if err := t.print(w); err != nil {
		return err
	}
	for _, v := range tree.Vanished {
		fmt.Fprintf(w, "VANISHED: %s. Correct the scope; until then no run goes on.\n", v.Text)
	}
	return nil
}

// scopeMarkCommand marks containers, each in the directory whose base holds it.
func (d *deps) scopeMarkCommand(verb, short string, mark func(*settings.Containers, string)) *cobra.Command {
	return &cobra.Command{
		Use: verb + " DN...", Short: short, Args: cobra.MinimumNArgs(1), Example: "  kambrel scope " + verb + " OU=Terminals,DC=corp,DC=halvard,DC=example",
		RunE: func(cmd *cobra.Command, args []string) error {
			if verb != "unmark" {
				if err := d.containersExist(cmd, args); err != nil {
					return err
				}
			}
			return d.editDraft(cmd, func(document *settings.Document) error {
				for _, text := range args {
					if err := markOne(document, text, mark); err != nil {
						return err
					}
				}
				return nil
			})
		},
	}
}

// containersExist refuses names of containers that a directory which was read does not
// have.
func (d *deps) containersExist(cmd *cobra.Command, names []string) error {
	c, err := d.client()
	if err != nil {
		return err
	}
	draft, err := c.Draft(cmd.Context())
	if err != nil {
		return err
	}
	trees := map[string]wire.ContainerTree{}
	for _, text := range names {
		dn, err := entry.ParseDN(text)
		if err != nil {
			return err
		}
		directory, base := directoryHolding(&draft.Document, dn)
		if directory == nil {
			continue // that is told where it is marked
		}
		tree, known := trees[directory.Name]
		if !known {
			if tree, err = c.Containers(cmd.Context(), directory.Name); err != nil {
				return err
			}
			trees[directory.Name] = tree
		}
		if tree.Read != nil && !dn.Equal(base) && !slices.ContainsFunc(tree.Nodes, func(node wire.Container) bool { return entry.SameDN(node.DN, text) }) {
			return fmt.Errorf("directory %s has no container %s: 'kambrel scope tree %s' shows those that it has", directory.Name, text, directory.Name)
		}
	}
	return nil
}

func markOne(document *settings.Document, text string, mark func(*settings.Containers, string)) error {
	dn, err := entry.ParseDN(text)
	if err != nil {
		return err
	}
	directory, _ := directoryHolding(document, dn)
	if directory == nil {
		return fmt.Errorf("%s lies below the base of no directory of the draft", text)
	}
	other := func(have string) bool {
		parsed, err := entry.ParseDN(have)
		return err == nil && parsed.Equal(dn)
	}
	directory.Containers.Include = slices.DeleteFunc(directory.Containers.Include, other)
	directory.Containers.Exclude = slices.DeleteFunc(directory.Containers.Exclude, other)
	mark(&directory.Containers, text)
	return nil
}

// directoryHolding is the directory whose base holds a name, with that base; nil for none.
func directoryHolding(document *settings.Document, dn entry.DN) (*settings.Directory, entry.DN) {
	for i := range document.Directories {
		base, err := entry.ParseDN(document.Directories[i].Base)
		if err == nil && entry.PathUnder(dn.Path(), base.Path()) {
			return &document.Directories[i], base
		}
	}
	return nil, entry.DN{}
}

// editDraft changes the draft and tells how it stands.
func (d *deps) editDraft(cmd *cobra.Command, edit func(*settings.Document) error) error {
	return ask(d, cmd, func(ctx context.Context, c *client.Client) (wire.Draft, error) { return c.EditDraft(ctx, edit) }, func(w io.Writer, draft wire.Draft) error { return printDraftState(w, draft) })
}

func printDraftState(w io.Writer, draft wire.Draft) error {
	if draft.Version == 0 {
		_, err := fmt.Fprintln(w, "There is no draft: the active settings are as they are.")
		return err
	}
	fmt.Fprintf(w, "Draft version %d by %s, %s from revision %d:\n", draft.Version, draft.By, plural(len(draft.Differences), "difference"), draft.Active)
	printDifferences(w, draft.Differences)
	for _, fault := range draft.Faults {
		fmt.Fprintf(w, "  fault: %s\n", fault)
	}
	for _, warning := range draft.Warnings {
		fmt.Fprintf(w, "  ! %s\n", warning)
	}
	next := "See what it would do with 'kambrel impact', then 'kambrel settings activate'."
	if len(draft.Faults) > 0 {
		next = "It cannot be activated before the faults are corrected."
	}
	_, err := fmt.Fprintln(w, next)
	return err
}

func kindArgument(text string) (entry.Kind, error) {
	for _, kind := range entry.Kinds {
		if strings.EqualFold(text, string(kind)) || strings.EqualFold(text, string(kind)+"s") {
			return kind, nil
		}
	}
	return "", fmt.Errorf("%q is no kind; there are users, groups and contacts", text)
}

func newScopeFilterCommand(d *deps) *cobra.Command {
	return &cobra.Command{
		Use: "filter KIND FILTER", Short: "Set the filter for a kind; an empty one keeps all", Args: cobra.ExactArgs(2),
		Example: "  kambrel scope filter users '(&(objectClass=user)(!(title=Steward)))'\n  kambrel scope filter contacts ''",
		RunE: func(cmd *cobra.Command, args []string) error {
			kind, err := kindArgument(args[0])
			if err != nil {
				return err
			}
			c, err := d.client()
			if err != nil {
				return err
			}
			if args[1] != "" {
				checked, err := c.CheckFilter(cmd.Context(), args[1])
				if err != nil {
					return err
				}
				if f := checked.Fault; f != nil {
					return fmt.Errorf("%s\n%s^ character %d: %s", args[1], strings.Repeat(" ", max(0, f.Column-1)), f.Column, f.Message)
				}
			}
			return d.editDraft(cmd, func(document *settings.Document) error {
				selection := document.Selection(kind)
				selection.Filter = args[1]
				document.SetSelection(kind, selection)
				return nil
			})
		},
	}
}

func newScopeLimitCommand(d *deps) *cobra.Command {
	var groups []string
	var nested bool
	command := &cobra.Command{
		Use: "limit KIND", Short: "Let only members of named groups take part; without a group, take the limit away", Args: terminal.OneArgument("users, groups or contacts"),
		Example: "  kambrel scope limit users --group 'CN=Pilot,OU=Teams,DC=corp,DC=halvard,DC=example' --nested\n  kambrel scope limit users",
		RunE: func(cmd *cobra.Command, args []string) error {
			kind, err := kindArgument(args[0])
			if err != nil {
				return err
			}
			return d.editDraft(cmd, func(document *settings.Document) error {
				selection := document.Selection(kind)
				selection.MembersOf = settings.GroupLimit{Groups: groups, Nested: nested && len(groups) > 0}
				document.SetSelection(kind, selection)
				return nil
			})
		},
	}
	command.Flags().StringArrayVar(&groups, "group", nil, "distinguished name of a group; may be given several times")
	command.Flags().BoolVar(&nested, "nested", false, "members of groups within the groups, too")
	return command
}

func (d *deps) scopeSwitchCommand(verb, short string, off bool) *cobra.Command {
	return &cobra.Command{
		Use: verb + " KIND", Short: short, Args: terminal.OneArgument("users, groups or contacts"), Example: "  kambrel scope " + verb + " contacts",
		RunE: func(cmd *cobra.Command, args []string) error {
			kind, err := kindArgument(args[0])
			if err != nil {
				return err
			}
			return d.editDraft(cmd, func(document *settings.Document) error {
				selection := document.Selection(kind)
				selection.Off = off
				document.SetSelection(kind, selection)
				return nil
			})
		},
	}
}

func newScopeCountCommand(d *deps) *cobra.Command {
	in := wire.ScopePreview{}
	command := &cobra.Command{
		Use: "count", Short: "Count who would take part by the draft, and why others do not", Args: terminal.NoArguments, Example: "  kambrel scope count\n  kambrel scope count --samples 5 --text pilot\n  kambrel scope count --look-at 5000",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return ask(d, cmd, func(ctx context.Context, c *client.Client) (wire.ScopeCounts, error) { return c.PreviewScope(ctx, in) }, func(w io.Writer, counts wire.ScopeCounts) error { return printScope(w, counts) })
		},
	}
	command.Flags().IntVar(&in.Samples, "samples", 0, "how many entries to show of each verdict")
	command.Flags().StringVar(&in.Text, "text", "", "show only entries whose name holds this")
	command.Flags().IntVar(&in.LookAt, "look-at", 0, "look at about so many of a kind and estimate, where there are many more")
	return command
}

func printScope(w io.Writer, counts wire.ScopeCounts) error {
	for _, v := range counts.Vanished {
		fmt.Fprintf(w, "VANISHED: %s. Correct the scope; these counts are not what it means.\n", v.Text)
	}
	if len(counts.Missing) > 0 {
		fmt.Fprintf(w, "NOT READ YET: %s. The counts are wrong until 'kambrel directory read'.\n", strings.Join(counts.Missing, ", "))
	}
	t := newTable("KIND", "VERDICT", "COUNT")
	for _, kind := range counts.Kinds {
		name, about := kind.Kind+"s", ""
		if kind.LookedAt > 0 {
			fmt.Fprintf(w, "Estimated from %d of %d %s, taken by chance.\n", kind.LookedAt, kind.Total, name)
			about = "about "
		}
		for _, v := range kind.Verdicts {
			t.add(name, v.Title, fmt.Sprintf("%s%d", about, v.Count))
			name = ""
			for _, s := range v.Samples {
				t.add("", "  "+s.Name, s.DN)
			}
		}
	}
	return t.print(w)
}
