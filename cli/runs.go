package cli

import (
	"errors"
	"fmt"
	"io"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"kambrel.example/kambrel/cli/terminal"
	"kambrel.example/kambrel/client"
	"kambrel.example/kambrel/core/plan"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/core/rules"
	"kambrel.example/kambrel/protocol/wire"
)

func newRunsCommand(d *deps) *cobra.Command {
	command := &cobra.Command{Use: "runs", Short: "List runs, show, export or undo one, release or discard what one holds"}
	command.AddCommand(newRunsListCommand(d), newRunsShowCommand(d), newRunsExportCommand(d), newRunsReleaseCommand(d), newRunsDiscardCommand(d), newRunsUndoCommand(d))
	return command
}

func newRunsListCommand(d *deps) *cobra.Command {
	var limit int
	var all bool
	command := d.watchable(&cobra.Command{
		Use: "list", Short: "List runs that changed something, opened or closed a problem, or have not ended well, the newest first", Args: terminal.NoArguments,
		Example: "  kambrel runs list\n  kambrel runs list --all --limit 100\n  kambrel runs list --all --watch",
	}, func(cmd *cobra.Command, c *client.Client) error {
		if err := mayList(limit); err != nil {
			return err
		}
		page, err := c.Runs(cmd.Context(), url.Values{"limit": {strconv.Itoa(limit)}, "changed": {strconv.FormatBool(!all)}})
		if err != nil {
			return err
		}
		return d.print(cmd.OutOrStdout(), page.Items, func(w io.Writer) error {
			if page.Total == 0 {
				fmt.Fprintln(w, map[bool]string{true: "No run yet.", false: "No run has changed anything yet; --all lists all."}[all])
				return nil
			}
			t := newTable("RUN", "FOR", "STATE", "STARTED", "TOOK", "CHANGES", "HELD", "PROBLEMS", "BY")
			for _, run := range page.Items {
				t.add(run.ID, run.Purpose, stateText(run), when(run.Started), took(run.Started, run.Ended), run.Counts.Changes, or(some(run.Counts.Held), "-"), problemsText(run), run.By)
			}
			return t.print(w)
		})
	})
	command.Flags().IntVar(&limit, "limit", 20, "how many")
	command.Flags().BoolVar(&all, "all", false, "also runs that changed nothing")
	return command
}

// problemsText is what a run has to do with problems: what it opened and closed, and of a
// rehearsal how many it met.
func problemsText(run wire.Run) string {
	c := run.Counts
	switch {
	case run.Purpose.Rehearses():
		return or(some(c.Problems), "-")
	case c.ProblemsNew+c.ProblemsGone > 0:
		return fmt.Sprintf("+%d -%d", c.ProblemsNew, c.ProblemsGone)
	}
	return "-"
}

// listing is the client for a list of up to limit lines, which the interface gives in
// one page.
func (d *deps) listing(limit int) (*client.Client, error) {
	if err := mayList(limit); err != nil {
		return nil, err
	}
	return d.client()
}

func mayList(limit int) error {
	if limit < 1 || limit > 500 {
		return fmt.Errorf("--limit %d: give a number from 1 to 500", limit)
	}
	return nil
}

func newRunsShowCommand(d *deps) *cobra.Command {
	var state, operation, kind, text string
	var limit int
	var values bool
	command := &cobra.Command{
		Use: "show N", Short: "Show a run and its changes, before and after", Args: terminal.OneArgument("the run's number"),
		Example: "  kambrel runs show 7\n  kambrel runs show 7 --operation suspend\n  kambrel runs show 7 --text lind -o json",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, run, err := d.runNamed(cmd, args[0])
			if err != nil {
				return err
			}
			query := url.Values{"limit": {strconv.Itoa(limit)}}
			for name, value := range map[string]string{"state": state, "operation": operation, "kind": kind, "text": text} {
				if value != "" {
					query.Set(name, value)
				}
			}
			narrowed := state+operation+kind+text != ""
			if d.output == "table" && !narrowed && !run.Purpose.Rehearses() {
				query.Set("without", "blocked") // they are told as problems
			}
			changes, err := c.Changes(cmd.Context(), run.ID, query)
			if err != nil {
				return err
			}
			var news runProblems
			if !narrowed {
				if news, err = problemsOfRun(cmd.Context(), c, run); err != nil {
					return err
				}
			}
			return d.print(cmd.OutOrStdout(), map[string]any{"run": run, "changes": changes.Items, "total": changes.Total, "atLeast": changes.AtLeast}, func(w io.Writer) error {
				if err := printRun(w, run); err != nil {
					return err
				}
				if err := printChanges(w, run, changes, values); err != nil {
					return err
				}
				news.print(w, run)
				return nil
			})
		},
	}
	command.Flags().StringVar(&state, "state", "", "only changes in a state: planned, sent, done, failed, held, discarded, superseded, blocked, noted, unconfirmed, unanswered")
	command.Flags().StringVar(&operation, "operation", "", "only one operation: create, adopt, update, restore, suspend, delete, none")
	command.Flags().StringVar(&kind, "kind", "", "only one kind: user, group, contact")
	command.Flags().StringVar(&text, "text", "", "only logins or names that contain this")
	command.Flags().BoolVar(&values, "values", false, "print every value of what was created")
	command.Flags().IntVar(&limit, "limit", 200, "how many changes, at most 1000")
	return command
}

func newRunsExportCommand(d *deps) *cobra.Command {
	return &cobra.Command{
		Use: "export N", Short: "Print the changes and problems of a run as CSV", Args: terminal.OneArgument("the run's number"),
		Long: "Prints every change and problem of a run as CSV (RFC 4180).", Example: "  kambrel runs export 12 > run.csv",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, run, err := d.runNamed(cmd, args[0])
			if err != nil {
				return err
			}
			return c.ChangesCSV(cmd.Context(), run.ID, nil, cmd.OutOrStdout())
		},
	}
}

func newRunsReleaseCommand(d *deps) *cobra.Command {
	var yes bool
	var only []int64
	command := &cobra.Command{
		Use: "release N", Short: "Let through what the guard has held in a run", Args: terminal.OneArgument("the run's number"),
		Long: `Starts a run that carries out what the guard held in run N, and nothing else
beyond the guard. Without --yes it only says what it would do.`,
		Example: "  kambrel runs release 12\n  kambrel runs release 12 --yes\n  kambrel runs release 12 --change 4711 --change 4712 --yes",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, run, err := d.runNamed(cmd, args[0])
			if err != nil {
				return err
			}
			if run.Counts.Held == 0 {
				return fmt.Errorf("run %d holds nothing", run.ID)
			}
			if !yes && len(only) > 0 {
				fmt.Fprintf(cmd.OutOrStdout(), "Of what run %d holds, %s would be let through. Do it with --yes.\n", run.ID, plural(len(only), "change"))
				return nil
			}
			if !yes {
				fmt.Fprintf(cmd.OutOrStdout(), "Run %d holds %s%s. Released, they would %s.\nLook at them with 'kambrel runs show %d --state held'; do it with --yes.\n", run.ID, plural(run.Counts.Held, "change"), hanging(run.Counts), run.Counts.HeldText(), run.ID)
				return nil
			}
			next, err := c.Release(cmd.Context(), run.ID, only...)
			if err != nil {
				return err
			}
			return d.wait(cmd, c, next.ID)
		},
	}
	command.Flags().BoolVar(&yes, "yes", false, "do it")
	command.Flags().Int64SliceVar(&only, "change", nil, "only the change of this number; can be given several times")
	return command
}

func newRunsDiscardCommand(d *deps) *cobra.Command {
	var yes bool
	var only []int64
	var reason string
	command := &cobra.Command{
		Use: "discard N", Short: "Keep what the guard has held in a run", Args: terminal.OneArgument("the run's number"),
		Long: `Keeps in the cloud what run N would have taken away and the guard has held. It
does not come back until what caused it changes: until the entry is deleted in
another way, gets the value again and loses it, and so on. Who did it and why
stays on record ('kambrel kept list'). Without --yes it only says what it would do.`,
		Example: "  kambrel runs discard 12 --reason 'a read right was lost' --yes\n  kambrel runs discard 12 --change 4711 --reason 'on leave, not gone' --yes",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, run, err := d.runNamed(cmd, args[0])
			if err != nil {
				return err
			}
			if run.Counts.Held == 0 {
				return fmt.Errorf("run %d holds nothing", run.ID)
			}
			if strings.TrimSpace(reason) == "" {
				return errors.New("say why with --reason: it is shown with what is kept")
			}
			if !yes {
				what := "what would " + run.Counts.HeldText()
				if len(only) > 0 {
					what = plural(len(only), "change")
				}
				fmt.Fprintf(cmd.OutOrStdout(), "Of run %d, %s would be discarded: it stays in the cloud until the cause changes. Do it with --yes.\n", run.ID, what)
				return nil
			}
			next, err := c.Discard(cmd.Context(), run.ID, wire.DiscardHeld{Changes: only, Reason: reason})
			if err != nil {
				return err
			}
			return d.wait(cmd, c, next.ID)
		},
	}
	command.Flags().BoolVar(&yes, "yes", false, "do it")
	command.Flags().Int64SliceVar(&only, "change", nil, "only the change of this number; can be given several times")
	command.Flags().StringVar(&reason, "reason", "", "why")
	return command
}

func newKeptCommand(d *deps) *cobra.Command {
	command := &cobra.Command{Use: "kept", Short: "List what was discarded and stays, let a run decide about it again"}
	command.AddCommand(newKeptListCommand(d), newKeptEndCommand(d))
	return command
}

func newLeaversCommand(d *deps) *cobra.Command {
	command := &cobra.Command{Use: "leavers", Short: "Whose resources are deleted when their grace time is over; keep them or let them return"}
	command.AddCommand(newLeaversListCommand(d), newLeaversPolicyCommand(d),
		d.decideCommand("keep", "keep ENTRY", "Keep a leaver's resource from its deletion", `Keeps the resource of somebody who has left, by the leaver policy 'delete': it stays
suspended, and is not deleted when the grace time is over. 'kambrel pins lift ENTRY'
lets the policy decide again.`, "  kambrel leavers keep ada.lind@halvard.example\n  kambrel leavers keep ada.lind@halvard.example --yes", 1),
		d.decideCommand("return", "return ENTRY", "Let a leaver take part again, whatever the scope says", `Lets somebody take part again who has left: the same resource is made active again with
all that it owns. It stays so until the entry is in scope by itself, or until
'kambrel pins lift ENTRY' lets the scope decide again.`, "  kambrel leavers return ada.lind@halvard.example\n  kambrel leavers return ada.lind@halvard.example --yes", 1))
	return command
}

func newLeaversListCommand(d *deps) *cobra.Command {
	var limit int
	command := &cobra.Command{
		Use: "list", Short: "List who goes and when, the first ones first", Args: terminal.NoArguments,
		Long: `Lists those who have left, by the leaver policy 'delete', and the day on which
their resource is deleted from the cloud. Who is back in scope before is not, and who
is kept by hand is in 'kambrel pins list'.`,
		Example: "  kambrel leavers list\n  kambrel leavers list -o json | jq '.[].on'",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := d.listing(limit)
			if err != nil {
				return err
			}
			page, err := c.Leavers(cmd.Context(), url.Values{"limit": {strconv.Itoa(limit)}})
			if err != nil {
				return err
			}
			return d.print(cmd.OutOrStdout(), page.Items, func(w io.Writer) error {
				if len(page.Items) == 0 {
					_, err := fmt.Fprintln(w, "Nobody: no resource waits for its deletion.")
					return err
				}
				t := newTable("DELETED ON", "KIND", "NAME", "WHY", "LEFT", "DIRECTORY", "DN")
				for _, l := range page.Items {
					why := "out of scope"
					if l.Gone {
						why = "deleted from the directory"
					}
					t.add(l.On.Local().Format(time.DateOnly), l.Kind, l.Name, why, when(&l.Left), l.Directory, l.DN)
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
	command.Flags().IntVar(&limit, "limit", 100, "how many")
	return command
}

func newKeptListCommand(d *deps) *cobra.Command {
	var limit int
	command := &cobra.Command{
		Use: "list", Short: "List what runs would have taken away and operators have discarded, the newest first", Args: terminal.NoArguments,
		Example: "  kambrel kept list\n  kambrel kept list -o json",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := d.listing(limit)
			if err != nil {
				return err
			}
			page, err := c.Kept(cmd.Context(), url.Values{"limit": {strconv.Itoa(limit)}})
			if err != nil {
				return err
			}
			return d.print(cmd.OutOrStdout(), page.Items, func(w io.Writer) error {
				if page.Total == 0 {
					fmt.Fprintln(w, "Nothing was discarded: whatever a run takes away goes, or waits for somebody to decide.")
					return nil
				}
				why := ""
				for _, k := range page.Items { // those that were discarded together say so once
					if together := fmt.Sprintf("Kept by %s on %s: %s (run %d held it)", k.By, k.Made.Local().Format("2006-01-02 15:04"), k.Reason, k.RunID); together != why {
						why = together
						fmt.Fprintln(w, why)
					}
					fmt.Fprintf(w, "  %s: %s\n", k.DN, k.What)
				}
				if more := page.Total - len(page.Items); more > 0 {
					fmt.Fprintf(w, "%d more: 'kambrel kept list --limit %d'\n", more, min(page.Total, 500))
				}
				return nil
			})
		},
	}
	command.Flags().IntVar(&limit, "limit", 50, "how many")
	return command
}

func newKeptEndCommand(d *deps) *cobra.Command {
	var yes bool
	command := &cobra.Command{
		Use: "end ENTRY", Short: "Let the next run decide again about what is kept of an entry", Args: terminal.OneArgument("an entry: id, distinguished name, login or address"),
		Long:    "Ends all that is kept of an entry, and starts a run. Without --yes it only says what it would do.",
		Example: "  kambrel kept end ingrid.moe@halvard.example --yes",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := d.client()
			if err != nil {
				return err
			}
			object, err := c.Object(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if object.Entry == nil {
				return fmt.Errorf("%q is a resource that no entry owns", args[0])
			}
			if !yes {
				fmt.Fprintf(cmd.OutOrStdout(), "All that is kept of %s would be decided about again; the guard asks as for anybody. Do it with --yes.\n", object.Entry.DN)
				return nil
			}
			next, err := c.EndKept(cmd.Context(), object.Entry.Directory, object.Entry.ID.String())
			if err != nil {
				return err
			}
			return d.wait(cmd, c, next.ID)
		},
	}
	command.Flags().BoolVar(&yes, "yes", false, "do it")
	return command
}

// runNamed fetches the run whose number was given.
func (d *deps) runNamed(cmd *cobra.Command, text string) (*client.Client, wire.Run, error) {
	id, err := strconv.ParseInt(text, 10, 64)
	if err != nil || id < 1 {
		return nil, wire.Run{}, fmt.Errorf("%q is no run number: 'kambrel runs list' shows them", text)
	}
	c, err := d.client()
	if err != nil {
		return nil, wire.Run{}, err
	}
	run, err := c.Run(cmd.Context(), id)
	return c, run, err
}

// alikeOnce says once what many entries wait for, and leaves them out of what is listed.
func alikeOnce(w io.Writer, page wire.Page[wire.Change]) wire.Page[wire.Change] {
	rest := sayOnce(page.Items, func(change wire.Change) string {
		if change.State != "blocked" {
			return ""
		}
		return change.Code
	}, func(code string, alike []wire.Change) {
		fmt.Fprintf(w, "\n%s, at least %d times: %s and others. See 'kambrel problems list --code %s'\n", problem.Describe(problem.Code(code)).Title, len(alike), alike[0].Name, code)
	})
	page.Total -= len(page.Items) - len(rest)
	page.Items = rest
	return page
}

// printChanges prints changes; of what is created only how many values it gets, unless all
// are asked for.
func printChanges(w io.Writer, run wire.Run, page wire.Page[wire.Change], values bool) error {
	for _, change := range page.Items {
		state := change.State
		if run.Purpose.Rehearses() && state == "planned" {
			state = "would be done"
		}
		operation := change.Operation
		if operation == "none" {
			operation = "nothing"
		}
		name := change.Name
		if string(change.Side) == "directory" {
			name += ", kept in " + change.Directory
		}
		fmt.Fprintf(w, "\n%s %s %s  [%s]\n  %s\n", operation, change.Kind, name, state, change.DN)
		if change.ResourceID != "" {
			fmt.Fprintf(w, "  resource %s\n", change.ResourceID)
		}
		if change.State == "held" && !change.Hangs {
			fmt.Fprintf(w, "  change %d\n", change.ID)
		}
		if change.Answer != "" {
			fmt.Fprintf(w, "  %s: %s\n", or(change.Code, "answer"), change.Answer)
		}
		if change.Operation == string(plan.Create) && !values {
			fmt.Fprintf(w, "    %s\n", plural(len(change.Diffs), "attribute"))
			continue
		}
		printDiffs(w, change.Diffs)
	}
	if more := page.Total - len(page.Items); more > 0 {
		fmt.Fprintf(w, "\n%s more: 'kambrel runs show %d --limit %d'\n", atLeast(more, page.AtLeast), run.ID, min(page.Total, 1000))
	}
	return nil
}

func quoted(value any) string {
	switch v := value.(type) {
	case nil:
		return "(nothing)"
	case string:
		return strconv.Quote(v)
	}
	return rules.Show(value)
}

// hanging tells what waits with the removals that are held.
func hanging(c progress.Counts) string {
	if c.Hanging == 0 {
		return ""
	}
	return fmt.Sprintf(" and, with them, %d memberships and references to them", c.Hanging)
}
