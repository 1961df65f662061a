package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/url"
	"strconv"

	"github.com/spf13/cobra"

	"kambrel.example/kambrel/cli/terminal"
	"kambrel.example/kambrel/client"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/core/rules"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/protocol/wire"
)

func newSettingsCommand(d *deps) *cobra.Command {
	command := &cobra.Command{
		Use: "settings", Short: "Show, edit, check, compare and activate settings",
		Long: `Settings are one document. Edits live in the draft, and nothing of them reaches the
cloud; 'kambrel impact' shows what they would do. Every activation is a numbered
revision that can be compared and returned to.`,
	}
	command.AddCommand(newSettingsShowCommand(d), newSettingsExportCommand(d), newSettingsCheckCommand(d), newSettingsDraftCommand(d), newSettingsImportCommand(d),
		newSettingsDiscardCommand(d), newSettingsHistoryCommand(d), newSettingsDiffCommand(d), newSettingsReturnCommand(d), newSettingsActivateCommand(d), newRememberCommand(d), newSettingsTestCommand(d), newSettingsCompareCommand(d))
	return command
}

func newSettingsShowCommand(d *deps) *cobra.Command {
	var revision int
	command := &cobra.Command{
		Use: "show", Short: "Show the active settings, or a revision", Args: terminal.NoArguments, Example: "  kambrel settings show\n  kambrel settings show --revision 3",
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := d.settingsOf(cmd, revision)
			if err != nil {
				return err
			}
			return d.print(cmd.OutOrStdout(), s, func(w io.Writer) error {
				fmt.Fprintf(w, "Revision %d, activated %s by %s", s.Revision, when(&s.Activated), s.By)
				if s.Note != "" {
					fmt.Fprintf(w, ": %s", s.Note)
				}
				_, err := fmt.Fprintf(w, "\n\n%s", s.YAML)
				return err
			})
		},
	}
	command.Flags().IntVar(&revision, "revision", 0, "this revision instead of the active one")
	return command
}

func (d *deps) settingsOf(cmd *cobra.Command, revision int) (wire.Settings, error) {
	c, err := d.client()
	if err != nil {
		return wire.Settings{}, err
	}
	if revision > 0 {
		return c.Revision(cmd.Context(), revision)
	}
	return c.Settings(cmd.Context())
}

func newSettingsExportCommand(d *deps) *cobra.Command {
	var revision int
	var draft bool
	command := &cobra.Command{
		Use: "export", Short: "Print settings as a file to edit", Args: terminal.NoArguments, Example: "  kambrel settings export > settings.yaml\n  kambrel settings export --draft",
		RunE: func(cmd *cobra.Command, _ []string) error {
			var document settings.Document
			var text string
			if draft {
				c, err := d.client()
				if err != nil {
					return err
				}
				current, err := c.Draft(cmd.Context())
				if err != nil {
					return err
				}
				document, text = current.Document, current.YAML
			} else {
				s, err := d.settingsOf(cmd, revision)
				if err != nil {
					return err
				}
				document, text = s.Document, s.YAML
			}
			if d.output == "json" {
				return d.print(cmd.OutOrStdout(), document, nil)
			}
			_, err := fmt.Fprint(cmd.OutOrStdout(), text)
			return err
		},
	}
	command.Flags().IntVar(&revision, "revision", 0, "this revision instead of the active one")
	command.Flags().BoolVar(&draft, "draft", false, "the draft instead of the active settings")
	return command
}

// checked is what the service finds in a settings file, or the file alone tells where no
// service is signed in to or reached.
func (d *deps) checked(cmd *cobra.Command, text string) wire.Checked {
	if c, err := d.client(); err == nil {
		if checked, err := c.CheckSettings(cmd.Context(), text); err == nil {
			return checked
		}
	}
	checked := wire.Checked{Faults: []problem.Fault{}, Warnings: []string{}, Offline: true}
	_, checked.Notes = settings.Modern([]byte(text))
	_, err := settings.Parse([]byte(text))
	checked.Faults = append(checked.Faults, problem.FaultsOf(err)...)
	return checked
}

func newSettingsCheckCommand(d *deps) *cobra.Command {
	return &cobra.Command{
		Use: "check FILE", Short: "List all faults of a settings file", Args: terminal.OneArgument("a settings file; - for standard input"),
		Long: `Lists all faults of a file at once, each with its path and line. Where a service is
signed in to, the file is also checked by what the cloud takes, or took when it was
seen last, and by what was read from the directories; nothing of it is kept there.

Exit status: 0 no fault, 1 faults.`,
		Example: "  kambrel settings check settings.yaml",
		RunE: func(cmd *cobra.Command, args []string) error {
			text, err := terminal.ReadFile(cmd, args[0])
			if err != nil {
				return err
			}
			checked := d.checked(cmd, string(text))
			tellNotes(cmd, checked.Notes)
			if err := d.print(cmd.OutOrStdout(), checked, func(w io.Writer) error {
				if checked.Offline {
					fmt.Fprintln(w, "Checked by the file alone: without the service, what cloud and directories have is not known.")
				}
				for _, warning := range checked.Warnings {
					fmt.Fprintf(w, "  ! %s\n", warning)
				}
				if len(checked.Faults) == 0 {
					_, err := fmt.Fprintf(w, "%s: no fault\n", args[0])
					return err
				}
				t := newTable("LINE", "PATH", "FAULT")
				for _, f := range checked.Faults {
					line := f.FileLine
					if line == 0 {
						line = f.Line
					}
					message := f.Message
					if f.FileLine > 0 && f.Column > 0 {
						message = fmt.Sprintf("at line %d, character %d of the value: %s", max(f.Line, 1), f.Column, message)
					}
					t.add(line, or(f.Path, "-"), message)
				}
				return t.print(w)
			}); err != nil {
				return err
			}
			if len(checked.Faults) > 0 {
				return statusError(statusFailed)
			}
			return nil
		},
	}
}

func newSettingsDraftCommand(d *deps) *cobra.Command {
	return &cobra.Command{
		Use: "draft", Short: "Show how the draft stands and what it changes", Args: terminal.NoArguments, Example: "  kambrel settings draft",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return ask(d, cmd, func(ctx context.Context, c *client.Client) (wire.Draft, error) { return c.Draft(ctx) }, func(w io.Writer, draft wire.Draft) error { return printDraftState(w, draft) })
		},
	}
}

func printDifferences(w io.Writer, differences []settings.Difference) {
	for _, one := range differences {
		switch {
		case one.Before == nil:
			fmt.Fprintf(w, "  + %s = %s\n", one.Path, rules.Show(one.After))
		case one.After == nil:
			fmt.Fprintf(w, "  - %s = %s\n", one.Path, rules.Show(one.Before))
		default:
			fmt.Fprintf(w, "  ~ %s: %s -> %s\n", one.Path, rules.Show(one.Before), rules.Show(one.After))
		}
	}
}

func newSettingsImportCommand(d *deps) *cobra.Command {
	var replace bool
	command := &cobra.Command{
		Use: "import FILE", Short: "Make a settings file the draft", Args: terminal.OneArgument("a settings file; - for standard input"),
		Long:    "Makes a file the draft, without activating it. A draft that is there already is replaced only with --replace.",
		Example: "  kambrel settings import settings.yaml",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := d.client()
			if err != nil {
				return err
			}
			draft, err := importDraft(cmd, c, args[0], replace, false)
			if err != nil {
				return err
			}
			return d.print(cmd.OutOrStdout(), draft, func(w io.Writer) error { return printDraftState(w, draft) })
		},
	}
	command.Flags().BoolVar(&replace, "replace", false, "replace the draft that is there")
	return command
}

// tellNotes says what of a file is called otherwise now.
func tellNotes(cmd *cobra.Command, notes []string) {
	for _, note := range notes {
		fmt.Fprintln(cmd.ErrOrStderr(), "kambrel:", note)
	}
}

// importDraft makes a file the draft; flawless asks that it could be activated.
func importDraft(cmd *cobra.Command, c *client.Client, file string, replace, flawless bool) (wire.Draft, error) {
	text, err := terminal.ReadFile(cmd, file)
	if err != nil {
		return wire.Draft{}, err
	}
	if flawless {
		if _, err := settings.Parse(text); err != nil {
			return wire.Draft{}, err
		}
	}
	current, err := c.Draft(cmd.Context())
	if err != nil {
		return current, err
	}
	if current.Version > 0 && !replace {
		return current, fmt.Errorf("%s has a draft (version %d) with %s: look at it with 'kambrel settings draft', then give --replace or 'kambrel settings discard'", current.By, current.Version, plural(len(current.Differences), "difference"))
	}
	draft, err := c.SaveDraft(cmd.Context(), wire.SaveDraft{Version: current.Version, YAML: string(text)})
	tellNotes(cmd, draft.Notes)
	return draft, err
}

func newSettingsDiscardCommand(d *deps) *cobra.Command {
	return &cobra.Command{
		Use: "discard", Short: "Discard the draft", Args: terminal.NoArguments, Example: "  kambrel settings discard",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := d.client()
			if err != nil {
				return err
			}
			if err := c.DiscardDraft(cmd.Context()); err != nil {
				return err
			}
			_, err = fmt.Fprintln(cmd.OutOrStdout(), "Discarded. The active settings are as they were.")
			return err
		},
	}
}

func newSettingsHistoryCommand(d *deps) *cobra.Command {
	return &cobra.Command{
		Use: "history", Short: "List revisions: who activated what and when", Args: terminal.NoArguments, Example: "  kambrel settings history",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := d.client()
			if err != nil {
				return err
			}
			page, err := c.Revisions(cmd.Context(), url.Values{"limit": {"500"}})
			if err != nil {
				return err
			}
			return d.print(cmd.OutOrStdout(), page.Items, func(w io.Writer) error {
				t := newTable("REVISION", "ACTIVATED", "BY", "NOTE")
				for _, r := range page.Items {
					t.add(r.Revision, when(&r.Activated), r.By, or(r.Note, "-"))
				}
				return t.print(w)
			})
		},
	}
}

func newSettingsDiffCommand(d *deps) *cobra.Command {
	return &cobra.Command{
		Use: "diff FROM TO", Short: "Compare two revisions, or a revision and the draft", Args: cobra.ExactArgs(2), Example: "  kambrel settings diff 3 5\n  kambrel settings diff 5 draft",
		RunE: func(cmd *cobra.Command, args []string) error {
			return ask(d, cmd, func(ctx context.Context, c *client.Client) (wire.Comparison, error) {
				return c.Compare(ctx, args[0], args[1])
			}, func(w io.Writer, comparison wire.Comparison) error {
				if len(comparison.Differences) == 0 {
					_, err := fmt.Fprintln(w, "No difference.")
					return err
				}
				printDifferences(w, comparison.Differences)
				return nil
			})
		},
	}
}

func newSettingsReturnCommand(d *deps) *cobra.Command {
	return &cobra.Command{
		Use: "return REVISION", Short: "Make the draft what a revision was", Args: terminal.OneArgument("the number of a revision"),
		Long:    "Makes the draft what a revision was; activate it to go back. A draft that is there is replaced.",
		Example: "  kambrel settings return 3\n  kambrel settings activate",
		RunE: func(cmd *cobra.Command, args []string) error {
			revision, err := strconv.Atoi(args[0])
			if err != nil {
				return fmt.Errorf("%q is no number of a revision: 'kambrel settings history' lists them", args[0])
			}
			c, err := d.client()
			if err != nil {
				return err
			}
			current, err := c.Draft(cmd.Context())
			if err != nil {
				return err
			}
			draft, err := c.ReturnTo(cmd.Context(), revision, current.Version)
			if err != nil {
				return err
			}
			return d.print(cmd.OutOrStdout(), draft, func(w io.Writer) error { return printDraftState(w, draft) })
		},
	}
}

func newSettingsActivateCommand(d *deps) *cobra.Command {
	var note string
	var yes, blind, replace, although bool
	command := &cobra.Command{
		Use: "activate [FILE]", Short: "Make the draft, or a file, the active settings", Args: cobra.MaximumNArgs(1),
		Long: `Shows first what the draft changes and, by a rehearsal, what it would do in the
cloud, then asks, then activates. With a file, the file becomes the draft first.
All faults are listed at once, and then nothing is activated; the same where
something that the settings expect of somebody ('kambrel expectation list') does not
hold. The next run works by the new settings.`,
		Example: "  kambrel settings activate\n  kambrel settings activate settings.yaml --note 'Terminals take part' --yes",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := d.client()
			if err != nil {
				return err
			}
			var draft wire.Draft
			if len(args) == 1 {
				draft, err = importDraft(cmd, c, args[0], replace, true)
			} else {
				draft, err = c.Draft(cmd.Context())
			}
			if err != nil {
				return err
			}
			if draft.Version == 0 {
				return errors.New("there is no draft: edit with 'kambrel scope' or 'kambrel directory add', or give a file")
			}
			if len(draft.Faults) > 0 {
				failure := problem.New(problem.SettingsInvalid, "nothing was activated")
				failure.Faults = draft.Faults
				if len(args) == 1 { // the file is where it is corrected
					return errors.Join(failure, c.DiscardDraft(cmd.Context()))
				}
				return failure
			}
			fmt.Fprintf(cmd.ErrOrStderr(), "%s from revision %d:\n", plural(len(draft.Differences), "difference"), draft.Active)
			printDifferences(cmd.ErrOrStderr(), draft.Differences)
			if err := expectationsHold(cmd, c, draft.Document, although); err != nil {
				return err
			}
			if !blind {
				if err := d.showImpact(cmd, c); err != nil {
					return err
				}
			}
			if !yes {
				if err := terminal.Confirm(cmd, "Activate?", "yes", "--yes"); err != nil {
					return err
				}
			}
			s, err := c.ActivateDraft(cmd.Context(), wire.ActivateDraft{Version: draft.Version, Note: note, Although: although})
			if err != nil {
				return err
			}
			return d.print(cmd.OutOrStdout(), s, func(w io.Writer) error {
				_, err := fmt.Fprintf(w, "Revision %d is active. The next run works by it.\n", s.Revision)
				return err
			})
		},
	}
	command.Flags().StringVar(&note, "note", "", "why, for the history")
	command.Flags().BoolVar(&yes, "yes", false, "activate without asking")
	command.Flags().BoolVar(&blind, "without-impact", false, "do not rehearse first, as before the first agent is there")
	command.Flags().BoolVar(&replace, "replace", false, "with a file: replace the draft that is there")
	command.Flags().BoolVar(&although, "although", false, "also where an expectation does not hold; the audit keeps which")
	return command
}

// showImpact rehearses the draft and tells the outcome, before a question.
func (d *deps) showImpact(cmd *cobra.Command, c *client.Client) error {
	run, err := c.Impact(cmd.Context())
	if err != nil {
		return err
	}
	if run, err = d.watch(cmd, c, run.ID); err != nil {
		return err
	}
	if run.State == progress.Failed || run.State == progress.Cancelled {
		fmt.Fprintf(cmd.ErrOrStderr(), "The impact cannot be shown: %s: %s\n", run.Failure.Title, run.Failure.Detail)
		return errors.New("nothing was activated: correct it, or give --without-impact")
	}
	return printImpact(cmd.ErrOrStderr(), run)
}

func printImpact(w io.Writer, run wire.Run) error {
	c := run.Counts
	fmt.Fprintf(w, "If it were activated, the next run would create %d, adopt %d, change %d, restore %d, suspend %d and delete %d (of %d users, groups and contacts looked at).\n",
		c.Create, c.Adopt, c.Update, c.Restore, c.Suspend+c.HeldRemovals(), c.Delete, c.Planned)
	if c.Problems > 0 {
		fmt.Fprintf(w, "%d would be left with a problem: 'kambrel runs show %d --state blocked'.\n", c.Problems, run.ID)
	}
	for _, g := range c.Going {
		fmt.Fprintf(w, "%s.\n", g.Text)
	}
	if c.Needs != nil {
		fmt.Fprintf(w, "That takes %s.\n", c.Needs.Text)
	}
	if c.Held > 0 {
		fmt.Fprintf(w, "Of that the guard would hold until somebody releases it what would %s: 'kambrel runs show %d --state held'.\n", c.HeldText(), run.ID)
	} else if c.Suspend > 0 {
		fmt.Fprintf(w, "The guard would let the %s through.\n", plural(c.Suspend, "suspension"))
	}
	_, err := fmt.Fprintf(w, "Each of them: 'kambrel runs show %d'. Nothing was changed in the cloud.\n", run.ID)
	return err
}

func newImpactCommand(d *deps) *cobra.Command {
	return &cobra.Command{
		Use: "impact", Short: "Show what activating the draft would do in the cloud", Args: terminal.NoArguments,
		Long: `Rehearses the draft: reads, decides about everybody as a run would, and keeps the
plan for reading, without writing anything. It ends by itself when the draft is
changed meanwhile.

Exit status: 0 shown, 1 it could not be rehearsed.`,
		Example: "  kambrel impact\n  kambrel impact -o json | jq .counts.suspend",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := d.client()
			if err != nil {
				return err
			}
			run, err := c.Impact(cmd.Context())
			if err != nil {
				return err
			}
			if run, err = d.watch(cmd, c, run.ID); err != nil {
				return err
			}
			if err := d.print(cmd.OutOrStdout(), run, func(w io.Writer) error {
				if run.Failure != nil {
					_, err := fmt.Fprintf(w, "%s: %s\n%s %s\n", run.Failure.Title, run.Failure.Detail, run.Failure.Cause, run.Failure.Remedy)
					return err
				}
				return printImpact(w, run)
			}); err != nil {
				return err
			}
			if run.State == progress.Failed || run.State == progress.Cancelled {
				return statusError(statusFailed)
			}
			return nil
		},
	}
}
