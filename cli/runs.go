package cli

import (
	"fmt"
	"io"
	"net/url"
	"strconv"

	"github.com/spf13/cobra"

	"kambrel.example/kambrel/client"
	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/core/rules"
	"kambrel.example/kambrel/protocol/wire"
)

func newRunsCommand(d *deps) *cobra.Command {
	command := &cobra.Command{Use: "runs", Short: "List runs, show or export one, release held removals"}
	command.AddCommand(newRunsListCommand(d), newRunsShowCommand(d), newRunsExportCommand(d), newRunsReleaseCommand(d))
	return command
}

func newRunsListCommand(d *deps) *cobra.Command {
	var limit int
	var changed bool
	command := &cobra.Command{
		Use: "list", Short: "List runs, the newest first", Args: noArguments,
		Example: "  kambrel runs list\n  kambrel runs list --changed --limit 100",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if limit < 1 || limit > 500 {
				return fmt.Errorf("--limit %d: give a number from 1 to 500", limit)
			}
			c, err := d.client()
			if err != nil {
				return err
			}
			page, err := c.Runs(cmd.Context(), url.Values{"limit": {strconv.Itoa(limit)}, "changed": {strconv.FormatBool(changed)}})
			if err != nil {
				return err
			}
			return d.print(cmd.OutOrStdout(), page.Items, func(w io.Writer) error {
				t := newTable("RUN", "FOR", "STATE", "STARTED", "TOOK", "CHANGES", "PROBLEMS", "BY")
				for _, run := range page.Items {
					t.add(run.ID, run.Purpose, stateText(run), when(run.Started), took(run.Started, run.Ended), run.Counts.Changes, run.Counts.Problems+run.Counts.Held, run.By)
				}
				return t.print(w)
			})
		},
	}
	command.Flags().IntVar(&limit, "limit", 20, "how many")
	command.Flags().BoolVar(&changed, "changed", false, "only runs that changed or found something")
	return command
}

func newRunsShowCommand(d *deps) *cobra.Command {
	var state, operation, kind, text string
	var limit int
	command := &cobra.Command{
		Use: "show N", Short: "Show a run and its changes, before and after", Args: oneArgument("the run's number"),
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
			changes, err := c.Changes(cmd.Context(), run.ID, query)
			if err != nil {
				return err
			}
			return d.print(cmd.OutOrStdout(), map[string]any{"run": run, "changes": changes.Items, "total": changes.Total}, func(w io.Writer) error {
				if err := printRun(w, run); err != nil {
					return err
				}
				return printChanges(w, run, changes)
			})
		},
	}
	command.Flags().StringVar(&state, "state", "", "only changes in a state: planned, sent, done, failed, held, superseded, blocked, noted, unconfirmed, unanswered")
	command.Flags().StringVar(&operation, "operation", "", "only one operation: create, adopt, update, restore, suspend, delete, none")
	command.Flags().StringVar(&kind, "kind", "", "only one kind: user, group, contact")
	command.Flags().StringVar(&text, "text", "", "only logins or names that contain this")
	command.Flags().IntVar(&limit, "limit", 200, "how many changes, at most 1000")
	return command
}

func newRunsExportCommand(d *deps) *cobra.Command {
	return &cobra.Command{
		Use: "export N", Short: "Print the changes and problems of a run as CSV", Args: oneArgument("the run's number"),
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
	command := &cobra.Command{
		Use: "release N", Short: "Let through what the guard has held in a run", Args: oneArgument("the run's number"),
		Long: `Starts a run that carries out what the guard held in run N, and nothing else
beyond the guard. Without --yes it only says what it would do.`,
		Example: "  kambrel runs release 12\n  kambrel runs release 12 --yes",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, run, err := d.runNamed(cmd, args[0])
			if err != nil {
				return err
			}
			if !yes {
				fmt.Fprintf(cmd.OutOrStdout(), "Run %d holds %s%s. Released, they would %s.\nLook at them with 'kambrel runs show %d --state held'; do it with --yes.\n", run.ID, plural(run.Counts.Held, "change"), hanging(run.Counts), run.Counts.HeldText(), run.ID)
				return nil
			}
			next, err := c.Release(cmd.Context(), run.ID)
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

func printChanges(w io.Writer, run wire.Run, page wire.Page[wire.Change]) error {
	for _, change := range page.Items {
		state := change.State
		if run.Purpose.Rehearses() && state == "planned" {
			state = "would be done"
		}
		operation := change.Operation
		if operation == "none" {
			operation = "nothing"
		}
		fmt.Fprintf(w, "\n%s %s %s  [%s]\n  %s\n", operation, change.Kind, change.Name, state, change.DN)
		if change.ResourceID != "" {
			fmt.Fprintf(w, "  resource %s\n", change.ResourceID)
		}
		if change.Answer != "" {
			fmt.Fprintf(w, "  %s: %s\n", or(change.Code, "answer"), change.Answer)
		}
		printDiffs(w, change.Diffs)
	}
	if more := page.Total - len(page.Items); more > 0 {
		fmt.Fprintf(w, "\n%d more: 'kambrel runs show %d --limit %d'\n", more, run.ID, min(page.Total, 1000))
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
