package cli

import (
	"errors"
	"fmt"
	"io"
	"net/url"
	"strconv"

	"github.com/spf13/cobra"

	"kambrel.example/kambrel/cli/terminal"
	"kambrel.example/kambrel/core/decide"
	"kambrel.example/kambrel/core/rules"
	"kambrel.example/kambrel/core/undo"
	"kambrel.example/kambrel/protocol/wire"
)

func newRunsUndoCommand(d *deps) *cobra.Command {
	var in wire.NewUndo
	command := &cobra.Command{
		Use: "undo N", Short: "Put back what a run has done", Args: terminal.OneArgument("the run's number"),
		Long: `Puts back what run N has done: values, members, links, suspensions, adoptions, and what
was created or deleted. What somebody has changed since stays, and is named with the
reason. It is done by a run of its own, under the guard.

Rules and scope would do the same again at once, so what is put back is pinned: it stays
until somebody lifts it ('kambrel pins lift'), or until rules and scope come to the same by
themselves. Where settings were wrong, --return-settings makes the revision active again
by which runs worked before, in the same act; then hardly a pin is needed.

Without --yes it only says what it would do.`,
		Example: "  kambrel runs undo 12\n  kambrel runs undo 12 --yes\n  kambrel runs undo 12 --return-settings --yes\n  kambrel runs undo 12 --change 4711 --yes",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, run, err := d.runNamed(cmd, args[0])
			if err != nil {
				return err
			}
			out, err := c.UndoRun(cmd.Context(), run.ID, in)
			if err != nil {
				return err
			}
			if err := d.print(cmd.OutOrStdout(), out, func(w io.Writer) error { return printUndoing(w, out, in) }); err != nil || !out.Done {
				return err
			}
			if d.output == "table" {
				return d.wait(cmd, c, out.NextRun)
			}
			return d.waitQuietly(cmd, c, out.NextRun)
		},
	}
	command.Flags().BoolVar(&in.ReturnSettings, "return-settings", false, "make the settings active again by which runs worked before")
	command.Flags().Int64SliceVar(&in.Changes, "change", nil, "only this change of the run; may be given several times")
	command.Flags().BoolVar(&in.Do, "yes", false, "do it")
	return command
}

// mostUndone is how many things of a kind are printed; -o json has more.
const mostUndone = 15

func printUndoing(w io.Writer, u wire.Undo, in wire.NewUndo) error {
	word := "would go"
	if u.Done {
		word = "go"
	}
	fmt.Fprintf(w, "Of run %d, %s %s back; %d are as they were already, %d cannot go back.\n", u.RunID, plural(u.Back, "thing"), word, u.Already, u.Cannot)
	if s := u.Settings; s != nil {
		switch {
		case u.Done && in.ReturnSettings:
			fmt.Fprintf(w, "Revision %d of the settings is active again.\n", s.Before)
		case in.ReturnSettings:
			fmt.Fprintf(w, "Revision %d of the settings would be active again; %d of %s differs from it in %s.\n", s.Before, s.Active, s.By, plural(s.Differences, "place"))
		case !u.Done:
			fmt.Fprintf(w, "Runs before it worked by revision %d of the settings; %d of %s differs from it in %s.\nWhere they were wrong, give --return-settings: that revision becomes active again in the same act.\n", s.Before, s.Active, s.By, plural(s.Differences, "place"))
		}
	}
	printed := map[string]int{}
	last := ""
	for _, item := range u.Items {
		if printed[item.Outcome]++; printed[item.Outcome] > mostUndone || u.Done && item.Outcome == "back" { // the run tells
			continue
		}
		if item.Outcome == "cannot" && printed["cannot"] == 1 {
			fmt.Fprintln(w, "\nCannot go back:")
		}
		if item.DN != last {
			last = item.DN
			fmt.Fprintf(w, "  %s   (%s)\n", item.Name, item.Operation)
		}
		fmt.Fprintf(w, "    %s\n", undoText(item))
	}
	if more := u.Back - min(printed["back"], mostUndone); more > 0 && !u.Done {
		fmt.Fprintf(w, "  and %d more that go back\n", more)
	}
	if u.Cannot > mostUndone {
		fmt.Fprintln(w, "\nIn all:")
		for _, r := range u.Reasons {
			fmt.Fprintf(w, "  %d times: %s\n", r.Count, r.Why)
		}
	}
	if !u.Done {
		fmt.Fprintln(w, "Nothing was done yet: add --yes.")
	}
	return nil
}

// undoText says of one thing what stands there and what goes back.
func undoText(item wire.UndoItem) string {
	target := shortTarget(item.Target)
	switch {
	case item.Target == undo.Presence:
		target = "the account"
		if item.Kind != "user" {
			target = "the " + item.Kind
		}
	case item.Member != nil:
		target += " " + or(item.Member.Name, item.Member.Value)
	}
	text := target
	if item.Outcome == "back" {
		text = fmt.Sprintf("%s: %s -> %s", target, or(rules.Show(item.Now), "(nothing)"), or(rules.Show(item.Was), "(nothing)"))
	}
	if item.Why != "" {
		text += "; " + item.Why
	}
	return text
}

func newPinsCommand(d *deps) *cobra.Command {
	command := &cobra.Command{Use: "pins", Short: "List what was put back and stays so, and lift it"}
	command.AddCommand(newPinsListCommand(d), newPinsLiftCommand(d))
	return command
}

func newPinsListCommand(d *deps) *cobra.Command {
	var limit int
	var run int64
	command := &cobra.Command{
		Use: "list", Short: "List what was put back and stays so, whatever rules and scope say, the newest first", Args: terminal.NoArguments,
		Example: "  kambrel pins list\n  kambrel pins list --run 12\n  kambrel pins list -o json",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := d.listing(limit)
			if err != nil {
				return err
			}
			query := url.Values{"limit": {strconv.Itoa(limit)}}
			if run > 0 {
				query.Set("run", strconv.FormatInt(run, 10))
			}
			page, err := c.Pins(cmd.Context(), query)
			if err != nil {
				return err
			}
			return d.print(cmd.OutOrStdout(), page.Items, func(w io.Writer) error {
				if page.Total == 0 {
					fmt.Fprintln(w, "Nothing is pinned: rules and scope decide about everything.")
					return nil
				}
				why := ""
				for _, p := range page.Items { // what was put back together says so once
					together := fmt.Sprintf("Decided by hand by %s on %s", p.By, p.Made.Local().Format("2006-01-02 15:04"))
					if p.RunID > 0 {
						together = fmt.Sprintf("Put back by %s on %s: undo of run %d", p.By, p.Made.Local().Format("2006-01-02 15:04"), p.RunID)
					}
					if together != why {
						why = together
						fmt.Fprintln(w, why)
					}
					fmt.Fprintf(w, "  %s: %s\n", p.DN, pinText(p))
				}
				if more := page.Total - len(page.Items); more > 0 {
					fmt.Fprintf(w, "%d more: 'kambrel pins list --limit %d'\n", more, min(page.Total, 500))
				}
				return nil
			})
		},
	}
	command.Flags().Int64Var(&run, "run", 0, "only what undoing this run has put back")
	command.Flags().IntVar(&limit, "limit", 50, "how many, at most 500")
	return command
}

// pinText says what a pin holds.
func pinText(p wire.Pin) string {
	switch {
	case p.Target == undo.Presence && p.Value == true:
		return "takes part, whatever the scope says"
	case p.Target == undo.Presence:
		return "takes no part, whatever the scope says"
	case p.Target == decide.PinDeletion:
		return "is not deleted when the grace time is over"
	case p.Element != "" && p.Value == true:
		return fmt.Sprintf("%s keeps %s", shortTarget(p.Target), or(p.Name, p.Element))
	case p.Element != "":
		return fmt.Sprintf("%s is without %s", shortTarget(p.Target), or(p.Name, p.Element))
	}
	return fmt.Sprintf("%s stays %s", shortTarget(p.Target), or(rules.Show(p.Value), "empty"))
}

func newPinsLiftCommand(d *deps) *cobra.Command {
	var in wire.LiftPins
	var yes bool
	command := &cobra.Command{
		Use: "lift [ENTRY]", Short: "Let rules and scope decide again about what was put back", Args: cobra.MaximumNArgs(1),
		Long:    "Lifts what was put back of an entry, or with --run all that undoing a run has put back,\nand starts a run. Without --yes it only says what it would do.",
		Example: "  kambrel pins lift ada.lind@halvard.example --yes\n  kambrel pins lift ada.lind@halvard.example --attribute title --yes\n  kambrel pins lift --run 12 --yes",
		RunE: func(cmd *cobra.Command, args []string) error {
			if (len(args) == 0) == (in.RunID == 0) {
				return errors.New("say which: an entry, or --run for all that undoing a run has put back")
			}
			c, err := d.client()
			if err != nil {
				return err
			}
			query := url.Values{"limit": {"500"}}
			if in.RunID > 0 {
				query.Set("run", strconv.FormatInt(in.RunID, 10))
			} else {
				object, err := c.Object(cmd.Context(), args[0])
				switch {
				case err != nil:
					return err
				case object.Entry == nil:
					return fmt.Errorf("%q is a resource that no entry owns", args[0])
				}
				in.Directory, in.EntryID = object.Entry.Directory, object.Entry.ID.String()
				query.Set("directory", in.Directory)
				query.Set("id", in.EntryID)
			}
			if !yes {
				page, err := c.Pins(cmd.Context(), query)
				if err != nil {
					return err
				}
				return d.print(cmd.OutOrStdout(), page.Items, func(w io.Writer) error {
					for i, p := range page.Items {
						if i < mostUndone {
							fmt.Fprintf(w, "  %s: %s\n", p.DN, pinText(p))
						}
					}
					fmt.Fprintf(w, "%s would be lifted; rules and scope decide then, and the guard asks as for anybody. Do it with --yes.\n", plural(page.Total, "pin"))
					return nil
				})
			}
			next, err := c.LiftPins(cmd.Context(), in)
			if err != nil {
				return err
			}
			return d.wait(cmd, c, next.ID)
		},
	}
	command.Flags().Int64Var(&in.RunID, "run", 0, "all that undoing this run has put back")
	command.Flags().StringVar(&in.Target, "attribute", "", "only of this attribute of the resource, or scope")
	command.Flags().BoolVar(&yes, "yes", false, "do it")
	return command
}
