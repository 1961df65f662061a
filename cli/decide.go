package cli

import (
	"context"
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"kambrel.example/kambrel/cli/terminal"
	"kambrel.example/kambrel/client"
	"kambrel.example/kambrel/core/change"
	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/protocol/wire"
)

// newDecideCommands are what an operator can decide about one entry. Each tells
// first what it would do.
func newDecideCommands(d *deps) []*cobra.Command {
	link := d.decideCommand("link", "link ENTRY RESOURCE", "Link an entry to a resource by hand", `Links an entry to a resource that is already in the cloud, whatever the match rules
say. Only so can a resource with an administrative role be linked. Names are ids
in any form, distinguished names, logins or addresses.

With --merge, a resource that was made for the entry by mistake is deleted, and
the other one linked in its place. With --take-over the resource may belong to
another entry, which gets none until you decide about it. With --swap two entries
exchange their resources.`,
		"  kambrel link mt@halvard.example mira.tangen@halvard.example\n  kambrel link mt@halvard.example mira.tangen@halvard.example --yes\n  kambrel link 'CN=Mira Tangen,OU=Finance,OU=Shore Office,DC=corp,DC=halvard,DC=example' mira.tangen@halvard.example --merge", 2)
	return []*cobra.Command{
		link,
		d.decideCommand("hold", "unlink ENTRY", "Untie an entry from its resource", `Unties an entry from its resource. The resource stays in the cloud as it is; the
entry gets none until something else is decided: link, create or rematch.`, "  kambrel unlink ada.lind@halvard.example\n  kambrel unlink ada.lind@halvard.example --yes", 1),
		d.decideCommand("create", "create ENTRY", "Make an account although somebody in the cloud looks alike", "Makes a resource of its own for an entry that is held since somebody in the cloud\nlooks like the same person.", "  kambrel create mt@halvard.example --yes", 1),
		d.decideCommand("forget", "rematch ENTRY", "Forget what was decided by hand, and let the rules decide again", "Forgets what was decided by hand about an entry without a resource, so that the\nmatch rules decide again.", "  kambrel rematch mt@halvard.example --yes", 1),
	}
}

func (d *deps) decideCommand(action, use, short, long, example string, arguments int) *cobra.Command {
	var yes bool
	ways := map[string]*bool{"merge": new(bool), "take-over": new(bool), "swap": new(bool)}
	in := wire.NewDecision{Action: action}
	command := &cobra.Command{
		Use: use, Short: short, Long: long + "\n\nWithout --yes it only tells what would be done.", Example: example,
		Args: func(cmd *cobra.Command, args []string) error {
			if len(args) == arguments {
				return nil
			}
			return fmt.Errorf("%s takes %s: %s. See '%s --help'", cmd.CommandPath(), plural(arguments, "argument"), strings.Join(strings.Fields(use)[1:], " and "), cmd.CommandPath())
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			in.Entry, in.Do = args[0], yes
			if len(args) > 1 {
				in.Resource = args[1]
			}
			for way, wanted := range ways {
				if *wanted {
					in.Action = way
				}
			}
			c, err := d.client()
			if err != nil {
				return err
			}
			decided, err := c.Decide(cmd.Context(), in)
			if err != nil {
				return err
			}
			if err := d.print(cmd.OutOrStdout(), decided, func(w io.Writer) error { return printDecided(w, decided) }); err != nil || !decided.Done {
				return err
			}
			return d.waitQuietly(cmd, c, decided.RunID)
		},
	}
	command.Flags().BoolVar(&yes, "yes", false, "do it")
	if action == "link" {
		command.Flags().BoolVar(ways["merge"], "merge", false, "delete the resource that the entry has now")
		command.Flags().BoolVar(ways["take-over"], "take-over", false, "take the resource from the entry that has it")
		command.Flags().BoolVar(ways["swap"], "swap", false, "give the entry that has it this one's resource for it")
		command.MarkFlagsMutuallyExclusive("merge", "take-over", "swap")
	}
	return command
}

// waitQuietly waits for the run that carries a decision out and says how it
// ended on the way of messages, so that -o json stays one document.
func (d *deps) waitQuietly(cmd *cobra.Command, c *client.Client, id int64) error {
	run, err := c.Wait(cmd.Context(), id, nil)
	if err != nil {
		return err
	}
	fmt.Fprintf(cmd.ErrOrStderr(), "Run %d: %s.\n", run.ID, stateText(run))
	if run.Failure != nil {
		return failed("run", run)
	}
	return nil
}

func printDecided(w io.Writer, d wire.Decided) error {
	fmt.Fprintf(w, "%s\n%s\n", d.Entry, d.Summary)
	for _, warning := range d.Warnings {
		fmt.Fprintf(w, "  ! %s\n", warning)
	}
	printDiffs(w, d.Diffs)
	if d.Other != nil {
		fmt.Fprintf(w, "%s\nThe resource %s is linked and takes the entry's values.\n", d.Other.Entry, d.Other.ResourceID)
		printDiffs(w, d.Other.Diffs)
	}
	if !d.Done {
		fmt.Fprintln(w, "Nothing was done yet: add --yes.")
	}
	return nil
}

func printDiffs(w io.Writer, diffs []change.Diff) {
	for _, diff := range diffs {
		source := ""
		if diff.Source != "" { // what the other side did has none
			source = "   (" + diff.Source + ")"
		}
		if len(diff.Added)+len(diff.Removed) > 0 {
			fmt.Fprintf(w, "    %s: %s%s\n", diff.Target, change.ShowElements(diff), source)
			continue
		}
		fmt.Fprintf(w, "    %s: %s -> %s%s\n", diff.Target, quoted(diff.Before), quoted(diff.After), source)
	}
}

func newTrialCommand(d *deps) *cobra.Command {
	in := wire.NewTrial{}
	command := &cobra.Command{
		Use: "trial ENTRY", Short: "Take one entry the whole way, step by step", Args: terminal.OneArgument("an id, a distinguished name, a login or an address"),
		Long: `Asks the directory for one entry as it is now, explains every step (read, scope,
match, rules, plan) and, with --write, writes what is planned for this entry
alone.

Exit status: 0 done, 1 failed, 2 the entry has a problem.`,
		Example: "  kambrel trial ada.lind@halvard.example\n  kambrel trial 'CN=Ada Lind,OU=Deck,OU=Fleet,DC=corp,DC=halvard,DC=example' --write",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := d.client()
			if err != nil {
				return err
			}
			in.Text = args[0]
			trial, err := c.Try(cmd.Context(), in)
			if err != nil {
				return err
			}
			run, err := c.Wait(cmd.Context(), trial.RunID, nil)
			if err != nil {
				return err
			}
			changes, err := c.Changes(cmd.Context(), run.ID, nil)
			if err != nil {
				return err
			}
			err = d.print(cmd.OutOrStdout(), map[string]any{"trial": trial, "run": run, "changes": changes.Items}, func(w io.Writer) error {
				fmt.Fprintln(w, trial.DN)
				for _, step := range trial.Steps {
					fmt.Fprintln(w)
					printReason(w, step, 0)
				}
				word := "Write: not asked for; this is what would be written"
				if in.Write {
					word = "Write: what was written"
				}
				fmt.Fprintf(w, "\n%s (run %d, %s)\n", word, run.ID, stateText(run))
				if len(changes.Items) == 0 {
					fmt.Fprintln(w, "  nothing")
				}
				return printChanges(w, run, changes, true)
			})
			switch {
			case err != nil:
				return err
			case run.Failure != nil:
				return failed("run", run)
			case run.State == progress.Problems:
				return statusError(statusProblems)
			}
			return nil
		},
	}
	command.Flags().BoolVar(&in.Write, "write", false, "write what is planned for this entry")
	return command
}

func newFormulaCommand(d *deps) *cobra.Command {
	command := &cobra.Command{Use: "formula", Short: "Try formulas, and list what they can use"}
	command.AddCommand(newFormulaTryCommand(d), &cobra.Command{
		Use: "functions", Short: "List what formulas can use, each with an example", Args: terminal.NoArguments, Example: "  kambrel formula functions",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return ask(d, cmd, func(ctx context.Context, c *client.Client) ([]wire.FormulaFunction, error) { return c.Functions(ctx) }, func(w io.Writer, all []wire.FormulaFunction) error {
				for _, f := range all {
					fmt.Fprintf(w, "%-20s %s\n%-20s %s gives %s\n", f.Name, f.Does, "", f.Example, f.Gives)
				}
				return nil
			})
		},
	})
	return command
}

func newFormulaTryCommand(d *deps) *cobra.Command {
	in := wire.TryFormula{}
	var values []string
	var group string
	command := &cobra.Command{
		Use: "try FORMULA", Short: "Work a formula out on an entry or on typed values", Args: terminal.OneArgument("the formula"),
		Long: "Works a formula out and shows the value of each part. Faults are shown at their\nplace.\n\nExit status: 0 it gives a value, 1 it has faults or fails.",
		Example: `  kambrel formula try 'ascii(entry.givenName).lowerAscii() + "@halvard.example"' --entry ada.lind@halvard.example
  kambrel formula try '"C " + resource.displayName' --cloud-group 'Regatta Committee'
  kambrel formula try 'flag(entry.userAccountControl, 2)' --value userAccountControl=514`,
		RunE: func(cmd *cobra.Command, args []string) error {
			in.Formula, in.Attributes = args[0], map[string][]string{}
			if group != "" {
				in.Over, in.Entry = "resource", group
			}
			for _, pair := range values {
				name, value, ok := strings.Cut(pair, "=")
				if !ok {
					return fmt.Errorf("--value %q: write it as attribute=value", pair)
				}
				in.Attributes[name] = append(in.Attributes[name], value)
			}
			c, err := d.client()
			if err != nil {
				return err
			}
			tried, err := c.TryFormula(cmd.Context(), in)
			if err != nil {
				return err
			}
			if err := d.print(cmd.OutOrStdout(), tried, func(w io.Writer) error { return printTried(w, in.Formula, tried) }); err != nil {
				return err
			}
			if len(tried.Faults) > 0 || tried.Error != "" {
				return statusError(statusFailed)
			}
			return nil
		},
	}
	command.Flags().StringVar(&in.Entry, "entry", "", "work it out on this entry")
	command.Flags().StringVar(&group, "cloud-group", "", "work it out on this group of the cloud, as the rules of cloud groups do")
	command.Flags().StringArrayVar(&values, "value", nil, "a typed value, as attribute=value; may be given several times")
	command.Flags().StringVar(&in.DN, "dn", "", "a typed distinguished name")
	command.Flags().StringArrayVar(&in.Groups, "group", nil, "a typed group that holds the entry; may be given several times")
	return command
}

func printTried(w io.Writer, formula string, t wire.TriedFormula) error {
	for _, fault := range t.Faults {
		lines := strings.Split(formula, "\n")
		if fault.Line >= 1 && fault.Line <= len(lines) {
			fmt.Fprintf(w, "%s\n%s^\n", lines[fault.Line-1], strings.Repeat(" ", max(fault.Column-1, 0)))
		}
		fmt.Fprintf(w, "line %d, column %d: %s\n", fault.Line, fault.Column, fault.Message)
	}
	switch {
	case len(t.Faults) > 0:
		return nil
	case t.Error != "":
		fmt.Fprintf(w, "fails: %s\n", t.Error)
	default:
		fmt.Fprintln(w, t.Value)
	}
	for _, part := range t.Parts {
		printReason(w, part, 1)
	}
	return nil
}
