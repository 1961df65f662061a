package cli

import (
	"context"
	"fmt"
	"io"
	"net/url"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"kambrel.example/kambrel/cli/terminal"
	"kambrel.example/kambrel/client"
	"kambrel.example/kambrel/core/survey"
	"kambrel.example/kambrel/protocol/wire"
)

func newSurveyCommand(d *deps) *cobra.Command {
	command := &cobra.Command{
		Use: "survey", Short: "Find what the cloud would refuse, and repair it in the directory",
		Long: `A survey reads the directories and lists what the cloud would refuse or what would
surprise people, most of it with a proposed value. Repairs write the values to
the directory through its agent, each with its result, and can be undone.`,
	}
	command.AddCommand(newSurveyRunCommand(d), newSurveyShowCommand(d), newSurveyExportCommand(d), newSurveyRepairCommand(d), newSurveyRepairsCommand(d), newSurveyUndoCommand(d))
	return command
}

func newSurveyRunCommand(d *deps) *cobra.Command {
	in := wire.NewSurvey{}
	command := &cobra.Command{
		Use: "run", Short: "Survey everybody in scope", Args: terminal.NoArguments,
		Long:    "Reads the directories and looks at everybody in scope.\n\nExit status: 0 nothing found, 2 something found, 1 failed.",
		Example: "  kambrel survey run\n  kambrel survey run --draft",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := d.client()
			if err != nil {
				return err
			}
			run, err := c.StartSurvey(cmd.Context(), in)
			if err != nil {
				return err
			}
			if run, err = d.watch(cmd, c, run.ID); err != nil {
				return err
			}
			if run.Failure != nil {
				return failed("survey", run)
			}
			found, err := c.Survey(cmd.Context(), run.ID)
			if err != nil {
				return err
			}
			if err := d.print(cmd.OutOrStdout(), found, func(w io.Writer) error { return printSurvey(w, found) }); err != nil {
				return err
			}
			if run.Counts.Findings > 0 {
				return statusError(statusProblems)
			}
			return nil
		},
	}
	command.Flags().BoolVar(&in.Draft, "draft", false, "by the scope and rules of the draft")
	return command
}

func printSurvey(w io.Writer, s wire.Survey) error {
	fmt.Fprintf(w, "Survey %d of %d entries in scope: %s\n\n", s.Run.ID, s.Run.Counts.Surveyed, plural(s.Run.Counts.Findings, "finding"))
	if len(s.Groups) > 0 {
		t := newTable("KIND", "FOUND", "WITH PROPOSAL", "WHAT")
		for _, g := range s.Groups {
			t.add(g.Code, g.Count, g.Repairable, g.Title)
		}
		if err := t.print(w); err != nil {
			return err
		}
		fmt.Fprintf(w, "\nLook at them with 'kambrel survey show --kind KIND', repair with 'kambrel survey repair --kind KIND'.\n\n")
	}
	t := newTable("LOGIN SUFFIX", "PEOPLE", "VERIFIED IN THE CLOUD")
	for _, domain := range s.Domains {
		verified := "not told"
		if domain.Verified != nil {
			verified = map[bool]string{true: "yes", false: "NO: logins would be refused or changed"}[*domain.Verified]
		}
		t.add(domain.Name, domain.Entries, verified)
	}
	return t.print(w)
}

// surveyArgument reads the number of a survey; 0 is the newest.
func surveyArgument(args []string) (int64, error) {
	if len(args) == 0 {
		return 0, nil
	}
	id, err := strconv.ParseInt(args[0], 10, 64)
	if err != nil || id < 1 {
		return 0, fmt.Errorf("%q is no number of a survey", args[0])
	}
	return id, nil
}

func newSurveyShowCommand(d *deps) *cobra.Command {
	var kind, text, directory string
	var limit int
	command := &cobra.Command{
		Use: "show [SURVEY]", Short: "Show the findings of a survey, by default of the newest", Args: cobra.MaximumNArgs(1),
		Example: "  kambrel survey show\n  kambrel survey show --kind suffix-not-verified",
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := surveyArgument(args)
			if err != nil {
				return err
			}
			return ask(d, cmd, func(ctx context.Context, c *client.Client) (wire.Page[wire.Finding], error) {
				return c.Findings(ctx, id, url.Values{"code": {kind}, "text": {text}, "directory": {directory}, "limit": {strconv.Itoa(limit)}})
			}, func(w io.Writer, page wire.Page[wire.Finding]) error {
				t := newTable("NUMBER", "KIND", "DIRECTORY", "NAME", "ATTRIBUTE", "VALUE", "PROPOSAL", "DETAIL")
				for _, f := range page.Items {
					t.add(f.Number, f.Code, f.Directory, f.Name, or(f.Attribute, "-"), or(f.Value, "-"), proposalText(f.Action, f.Proposal), f.Detail)
				}
				if err := t.print(w); err != nil {
					return err
				}
				if rest := page.Total - len(page.Items); rest > 0 {
					fmt.Fprintf(w, "and %d more: give --limit, or 'kambrel survey export'\n", rest)
				}
				return nil
			})
		},
	}
	command.Flags().StringVar(&kind, "kind", "", "only this kind of finding")
	command.Flags().StringVar(&text, "text", "", "only where a name or value holds this")
	command.Flags().StringVar(&directory, "directory", "", "only of this directory")
	command.Flags().IntVar(&limit, "limit", 100, "at most so many, up to 1000")
	return command
}

func proposalText(action, proposal string) string {
	switch action {
	case "set":
		return proposal
	case "remove":
		return "(take away)"
	}
	return "-"
}

func newSurveyExportCommand(d *deps) *cobra.Command {
	var kind string
	command := &cobra.Command{
		Use: "export [SURVEY]", Short: "Print the findings as CSV to edit", Args: cobra.MaximumNArgs(1),
		Long: `Prints the findings as CSV (RFC 4180). Edit the column proposal; the column action
takes set, remove or none. 'kambrel survey repair --csv FILE' writes it.`,
		Example: "  kambrel survey export > findings.csv",
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := surveyArgument(args)
			if err != nil {
				return err
			}
			c, err := d.client()
			if err != nil {
				return err
			}
			return c.FindingsCSV(cmd.Context(), id, url.Values{"code": {kind}}, cmd.OutOrStdout())
		},
	}
	command.Flags().StringVar(&kind, "kind", "", "only this kind of finding")
	return command
}

func newSurveyRepairCommand(d *deps) *cobra.Command {
	var in wire.ChooseRepairs
	var pattern survey.Pattern
	var file, replace string
	var dry, yes bool
	command := &cobra.Command{
		Use: "repair [SURVEY]", Short: "Write proposed or edited values to the directory", Args: cobra.MaximumNArgs(1),
		Long: `Shows each value that would be written, asks, and writes them through the agents:
each with its result, and undone by 'kambrel survey undo'. New values are the
proposals, or made by a pattern (--from, --trim, --lower, --replace-suffix), or
read from an edited CSV.

Exit status: 0 all written, 2 some refused, 1 nothing written.`,
		Example: "  kambrel survey repair --kind suffix-not-verified\n  kambrel survey repair --kind suffix-not-verified --replace-suffix @corp.halvard.example=@halvard.example --yes\n  kambrel survey repair --csv findings.csv --dry-run",
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := surveyArgument(args)
			if err != nil {
				return err
			}
			if replace != "" {
				var ok bool
				if pattern.Suffix, pattern.With, ok = strings.Cut(replace, "="); !ok {
					return fmt.Errorf("--replace-suffix %q: write OLD=NEW, as in @corp.halvard.example=@halvard.example", replace)
				}
			}
			if !pattern.IsZero() {
				in.Pattern = &pattern
			}
			if file != "" {
				text, err := terminal.ReadFile(cmd, file)
				if err != nil {
					return err
				}
				in.CSV = string(text)
			}
			return d.repair(cmd, id, in, dry, yes)
		},
	}
	flags := command.Flags()
	flags.StringVar(&in.Code, "kind", "", "all findings of this kind")
	flags.IntSliceVar(&in.Numbers, "number", nil, "these findings, by number")
	flags.StringVar(&file, "csv", "", "an edited export; - for standard input")
	flags.StringVar(&pattern.From, "from", "", "take the value from this attribute of the entry")
	flags.BoolVar(&pattern.Trim, "trim", false, "take spaces away around the value")
	flags.BoolVar(&pattern.Lower, "lower", false, "write the value in small letters")
	flags.StringVar(&replace, "replace-suffix", "", "replace the end of the value: OLD=NEW")
	flags.BoolVar(&dry, "dry-run", false, "only show what would be written")
	flags.BoolVar(&yes, "yes", false, "write without asking")
	return command
}

func (d *deps) repair(cmd *cobra.Command, id int64, in wire.ChooseRepairs, dry, yes bool) error {
	c, err := d.client()
	if err != nil {
		return err
	}
	chosen, err := c.ChooseRepairs(cmd.Context(), id, in)
	if err != nil {
		return err
	}
	if len(chosen.Items) == 0 {
		return fmt.Errorf("there is nothing to write: of %s none has a new value", plural(chosen.Left, "chosen finding"))
	}
	show := func(w io.Writer) error {
		t := newTable("DIRECTORY", "NAME", "ATTRIBUTE", "NOW", "WILL BE")
		for _, item := range chosen.Items {
			t.add(item.Directory, or(item.Name, item.DN), item.Attribute, or(item.Before, "(nothing)"), or(item.After, "(nothing)"))
		}
		if err := t.print(w); err != nil {
			return err
		}
		if chosen.Left > 0 {
			fmt.Fprintf(w, "%s left as they are: there is no new value for them\n", plural(chosen.Left, "finding"))
		}
		return nil
	}
	if dry {
		return d.print(cmd.OutOrStdout(), chosen, show)
	}
	if err := show(cmd.ErrOrStderr()); err != nil {
		return err
	}
	if !yes {
		if err := terminal.Confirm(cmd, fmt.Sprintf("Write %s to the directory?", plural(len(chosen.Items), "value")), "yes", "--yes"); err != nil {
			return err
		}
	}
	repair, err := c.Repair(cmd.Context(), wire.NewRepair{Items: chosen.Items})
	if err != nil {
		return err
	}
	return d.waitRepair(cmd, repair.ID)
}

func (d *deps) waitRepair(cmd *cobra.Command, id int64) error {
	c, err := d.client()
	if err != nil {
		return err
	}
	repair, err := c.WaitRepair(cmd.Context(), id, nil)
	if err != nil {
		return err
	}
	if err := d.print(cmd.OutOrStdout(), repair, func(w io.Writer) error { return printRepair(w, repair) }); err != nil {
		return err
	}
	if repair.Failed > 0 {
		return statusError(statusProblems)
	}
	return nil
}

func printRepair(w io.Writer, r wire.Repair) error {
	fmt.Fprintf(w, "Repair %d by %s, %s: %d done, %d failed, %d waiting\n", r.ID, r.By, when(&r.Created), r.Done, r.Failed, r.Waiting)
	if r.Undoes > 0 {
		fmt.Fprintf(w, "It undoes repair %d.\n", r.Undoes)
	}
	t := newTable("STATE", "DIRECTORY", "ENTRY", "ATTRIBUTE", "BEFORE", "AFTER", "ANSWER")
	for _, i := range r.Items {
		t.add(i.State, i.Directory, i.DN, i.Attribute, or(i.Before, "(nothing)"), or(i.After, "(nothing)"), or(i.Answer, "-"))
	}
	if err := t.print(w); err != nil {
		return err
	}
	if r.Done > 0 {
		fmt.Fprintf(w, "'kambrel survey undo %d' brings the old values back.\n", r.ID)
	}
	return nil
}

func newSurveyRepairsCommand(d *deps) *cobra.Command {
	return &cobra.Command{
		Use: "repairs [REPAIR]", Short: "List what was written to directories, or show one repair", Args: cobra.MaximumNArgs(1), Example: "  kambrel survey repairs\n  kambrel survey repairs 3",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := d.client()
			if err != nil {
				return err
			}
			if len(args) == 1 {
				id, err := surveyArgument(args)
				if err != nil {
					return err
				}
				repair, err := c.RepairOf(cmd.Context(), id)
				if err != nil {
					return err
				}
				return d.print(cmd.OutOrStdout(), repair, func(w io.Writer) error { return printRepair(w, repair) })
			}
			repairs, err := c.Repairs(cmd.Context())
			if err != nil {
				return err
			}
			return d.print(cmd.OutOrStdout(), repairs, func(w io.Writer) error {
				t := newTable("REPAIR", "WHEN", "BY", "STATE", "DONE", "FAILED", "UNDOES")
				for _, r := range repairs {
					undoes := "-"
					if r.Undoes > 0 {
						undoes = strconv.FormatInt(r.Undoes, 10)
					}
					t.add(r.ID, when(&r.Created), r.By, r.State, r.Done, r.Failed, undoes)
				}
				return t.print(w)
			})
		},
	}
}

func newSurveyUndoCommand(d *deps) *cobra.Command {
	var yes bool
	command := &cobra.Command{
		Use: "undo REPAIR", Short: "Write back what a repair has replaced", Args: terminal.OneArgument("the number of a repair"), Example: "  kambrel survey undo 3\n  kambrel survey undo 3 --yes",
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := surveyArgument(args)
			if err != nil {
				return err
			}
			c, err := d.client()
			if err != nil {
				return err
			}
			if !yes {
				before, err := c.RepairOf(cmd.Context(), id)
				if err != nil {
					return err
				}
				if before.Done > 0 {
					if err := printUndo(cmd.ErrOrStderr(), before); err != nil {
						return err
					}
					if err := terminal.Confirm(cmd, fmt.Sprintf("Write %s back to the directory?", plural(before.Done, "value")), "yes", "--yes"); err != nil {
						return err
					}
				}
			}
			repair, err := c.UndoRepair(cmd.Context(), id)
			if err != nil {
				return err
			}
			return d.waitRepair(cmd, repair.ID)
		},
	}
	command.Flags().BoolVar(&yes, "yes", false, "write without asking")
	return command
}

// printUndo shows what an undo would write.
func printUndo(w io.Writer, repair wire.Repair) error {
	t := newTable("DIRECTORY", "ENTRY", "ATTRIBUTE", "NOW", "WILL BE")
	for _, i := range repair.Items {
		if i.State == "done" {
			t.add(i.Directory, i.DN, i.Attribute, or(i.After, "(nothing)"), or(i.Before, "(nothing)"))
		}
	}
	return t.print(w)
}
