package cli

import (
	"fmt"
	"io"
	"net/url"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"kambrel.example/kambrel/cli/terminal"
	"kambrel.example/kambrel/client"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/protocol/wire"
)

func newSyncCommand(d *deps) *cobra.Command {
	var full bool
	command := &cobra.Command{
		Use: "sync", Short: "Bring the cloud in step now", Args: terminal.NoArguments,
		Long: `Starts a run, waits for it, and prints what it did. A delta run looks at what
changed since the last one; --full looks at everything again.

Exit status: 0 in step, 2 finished with problems, 1 failed.`,
		Example: "  kambrel sync\n  kambrel sync --full\n  kambrel sync -o json | jq .counts.changes",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return d.runAndWait(cmd, wire.NewRun{Purpose: either(full, purpose.Full, purpose.Sync)})
		},
	}
	command.Flags().BoolVar(&full, "full", false, "read and compare everything")
	return command
}

func newRehearseCommand(d *deps) *cobra.Command {
	var full bool
	command := &cobra.Command{
		Use: "rehearse", Short: "Show what a run would do, without writing", Args: terminal.NoArguments,
		Long: `Reads and plans like a run and keeps the plan for reading, but writes nothing to
the cloud. 'kambrel runs show N' shows each planned change.`,
		Example: "  kambrel rehearse\n  kambrel rehearse --full",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return d.runAndWait(cmd, wire.NewRun{Purpose: either(full, purpose.Forecast, purpose.Rehearsal)})
		},
	}
	command.Flags().BoolVar(&full, "full", false, "read and plan everything")
	return command
}

func either(full bool, all, changed purpose.Purpose) purpose.Purpose {
	if full {
		return all
	}
	return changed
}

func (d *deps) runAndWait(cmd *cobra.Command, request wire.NewRun) error {
	c, err := d.client()
	if err != nil {
		return err
	}
	run, err := c.StartRun(cmd.Context(), request)
	if err != nil {
		return err
	}
	return d.wait(cmd, c, run.ID)
}

// wait follows a run with progress on a terminal and prints how it ended.
func (d *deps) wait(cmd *cobra.Command, c *client.Client, id int64) error {
	run, err := d.watch(cmd, c, id)
	if cmd.Context().Err() != nil {
		return fmt.Errorf("no longer waiting; the run goes on. See 'kambrel runs show %d'", id)
	}
	if err != nil {
		return err
	}
	var changes wire.Page[wire.Change]
	var news runProblems
	if d.output == "table" {
		query := url.Values{"limit": {"15"}}
		if !run.Purpose.Rehearses() {
			query.Set("without", "blocked")
		}
		if changes, err = c.Changes(cmd.Context(), id, query); err != nil {
			return err
		}
		if news, err = problemsOfRun(cmd.Context(), c, run); err != nil {
			return err
		}
	}
	if err := d.print(cmd.OutOrStdout(), run, func(w io.Writer) error {
		if err := printRun(w, run); err != nil {
			return err
		}
		if err := printChanges(w, run, alikeOnce(w, changes), false); err != nil {
			return err
		}
		news.print(w, run)
		return nil
	}); err != nil {
		return err
	}
	switch run.State {
	case progress.Failed:
		return statusError(statusFailed)
	case progress.Problems:
		return statusError(statusProblems)
	}
	return nil
}

// watch waits for a run and shows how far it is.
func (d *deps) watch(cmd *cobra.Command, c *client.Client, id int64) (wire.Run, error) {
	line := newStatusLine(cmd.ErrOrStderr(), d.output == "table")
	defer line.clear()
	return c.Wait(cmd.Context(), id, line.show)
}

// failed tells why a run, or what it was for, has failed.
func failed(what string, run wire.Run) error {
	return fmt.Errorf("%s %d: %s: %s. %s", what, run.ID, run.Failure.Title, run.Failure.Detail, run.Failure.Remedy)
}

// statusLine shows one changing line on a terminal, and nothing elsewhere.
type statusLine struct {
	to    io.Writer
	shown bool
}

func newStatusLine(to io.Writer, wanted bool) *statusLine {
	file, ok := to.(*os.File)
	if !wanted || !ok || !term.IsTerminal(int(file.Fd())) {
		return &statusLine{}
	}
	return &statusLine{to: to}
}

func (p *statusLine) show(run wire.Run) {
	if p.to == nil {
		return
	}
	text := fmt.Sprintf("run %d waits", run.ID)
	switch c := run.Counts; run.Stage {
	case "read":
		text = fmt.Sprintf("run %d reads: %d entries, %d resources", run.ID, c.EntriesRead, c.ResourcesRead)
	case "plan":
		text = fmt.Sprintf("run %d plans: %d looked at, %d changes", run.ID, c.Planned, c.Changes)
	case "survey":
		text = fmt.Sprintf("run %d surveys: %d entries", run.ID, c.Surveyed)
	case "write":
		text = fmt.Sprintf("run %d writes: %d of %d changes", run.ID, c.Done, c.Changes)
	}
	if until := pausedUntil(run); until != nil {
		text += "; the cloud asks to wait until " + when(until)
	}
	fmt.Fprintf(p.to, "\r\x1b[2K%s", text)
	p.shown = true
}

// pausedUntil is until when the run waits for the cloud; nil when it does not.
func pausedUntil(run wire.Run) *time.Time {
	for _, stage := range run.Stages {
		if stage.PausedUntil != nil && !run.State.Ended() {
			return stage.PausedUntil
		}
	}
	return nil
}

func (p *statusLine) clear() {
	if p.shown {
		fmt.Fprint(p.to, "\r\x1b[2K")
	}
}

// stateText is a run's state in a sentence.
func stateText(run wire.Run) string {
	switch run.State {
	case progress.InStep:
		if run.Purpose == purpose.Look {
			return "read"
		}
		if run.Purpose == purpose.Survey {
			return "nothing found"
		}
		if run.Purpose.Rehearses() {
			return "rehearsed: no problems"
		}
		return "in step"
	case progress.Problems:
		if run.Purpose == purpose.Survey {
			return plural(run.Counts.Findings, "finding")
		}
		if run.Purpose.Rehearses() {
			return "rehearsed: with problems"
		}
		return "finished with problems"
	case progress.Failed:
		return "failed"
	case progress.Cancelled:
		if run.Failure != nil && run.Failure.Code == string(problem.Paused) {
			return "stopped by a pause"
		}
		return "cancelled"
	case progress.Running:
		if until := pausedUntil(run); until != nil {
			return fmt.Sprintf("running: %s, the cloud asks to wait until %s; %s left", run.Stage, when(until), plural(run.Counts.Changes-run.Counts.Done-run.Counts.Failed, "change"))
		}
		return "running: " + or(run.Stage, "begins")
	}
	return "waiting"
}

// purposeText says what a run is.
var purposeText = map[purpose.Purpose]string{
	purpose.Sync: "sync of what changed", purpose.Full: "sync of everything", purpose.Release: "release of held removals", purpose.Single: "sync of one object", purpose.Undo: "undo",
	purpose.Rehearsal: "rehearsal of a sync", purpose.Forecast: "forecast for everybody", purpose.Impact: "impact of the draft", purpose.Trial: "trial of one object",
	purpose.Look: "reading", purpose.Survey: "survey",
}

func printRun(w io.Writer, run wire.Run) error {
	c := run.Counts
	works := fmt.Sprintf("settings revision %d", run.Revision)
	if run.Draft > 0 {
		works = fmt.Sprintf("draft version %d", run.Draft)
	}
	fmt.Fprintf(w, "Run %d, %s by %s, %s: %s", run.ID, purposeText[run.Purpose], run.By, works, stateText(run))
	if run.Ended != nil {
		fmt.Fprintf(w, " after %s", took(run.Started, run.Ended))
	}
	fmt.Fprintln(w)
	if run.Undoes > 0 {
		fmt.Fprintf(w, "  puts back what run %d has done\n", run.Undoes)
	}
	if run.Releases > 0 {
		fmt.Fprintf(w, "  lets the held removals of run %d through\n", run.Releases)
	}
	for _, left := range run.LeftOut {
		if len(left.Attributes) > 0 {
			fmt.Fprintf(w, "  left out %s of %s: %s. What entries had of it stays.\n", strings.Join(left.Attributes, ", "), left.Directory, left.Title)
			continue
		}
		if left.Directory == "" {
			fmt.Fprintf(w, "  went on while %s. What has changed is taken up when it goes on.\n", strings.TrimRight(left.Detail, ". "))
			continue
		}
		if left.CloudGroups {
			fmt.Fprintf(w, "  left out the cloud groups of %s: %s: %s. They stay as they were.\n", left.Directory, left.Title, left.Detail)
			continue
		}
		fmt.Fprintf(w, "  left out %s: %s: %s. Its entries stay as they were.\n", left.Directory, left.Title, left.Detail)
	}
	fmt.Fprintf(w, "  read   %d entries (%d changed, %d gone), %d resources (%d changed)\n", c.EntriesRead, c.EntriesChanged, c.EntriesGone, c.ResourcesRead, c.ResourcesChanged)
	if run.Purpose.Plans() {
		printPlan(w, run)
	}
	if run.Purpose == purpose.Survey {
		fmt.Fprintf(w, "  survey %d entries, %s: see 'kambrel survey show %d'\n", c.Surveyed, plural(c.Findings, "finding"), run.ID)
	}
	if f := run.Failure; f != nil {
		fmt.Fprintf(w, "\n%s: %s\n%s %s\n", f.Title, f.Detail, f.Cause, f.Remedy)
	}
	return nil
}

func printPlan(w io.Writer, run wire.Run) {
	c := run.Counts
	fmt.Fprintf(w, "  plan   %d looked at, %s\n", c.Planned, plural(c.Changes, "change"))
	var parts []string
	for _, part := range []struct {
		n    int
		name string
	}{{c.Create, "create"}, {c.Adopt, "adopt"}, {c.Update, "update"}, {c.Restore, "restore"}, {c.Suspend, "suspend"}, {c.Leave, "leave"}, {c.Delete, "delete"}, {c.Unlink, "unlink"}} {
		if part.n > 0 {
			parts = append(parts, fmt.Sprintf("%s %d", part.name, part.n))
		}
	}
	if len(parts) > 0 {
		fmt.Fprintf(w, "         %s\n", strings.Join(parts, ", "))
	}
	if c.Needs != nil {
		fmt.Fprintf(w, "  needs  %s\n", c.Needs.Text)
	}
	if !run.Purpose.Rehearses() {
		fmt.Fprintf(w, "  write  %d done, %d failed\n", c.Done, c.Failed)
	}
	printGoing(w, "  ", c.Going)
	switch {
	case run.Purpose.Rehearses() && c.Problems > 0:
		fmt.Fprintf(w, "  %s: 'kambrel runs show %d --state blocked' names them\n", plural(c.Problems, "problem"), run.ID)
	case run.Ended != nil && c.ProblemsNew+c.ProblemsGone+c.ProblemsStanding > 0:
		fmt.Fprintf(w, "  problems  %d new, %d gone, %d standing\n", c.ProblemsNew, c.ProblemsGone, c.ProblemsStanding)
	}
	if c.Held > 0 {
		fmt.Fprintf(w, "  the guard holds what would %s: look at 'kambrel runs show %d --state held', then 'kambrel runs release %d' if it is meant, or 'kambrel runs discard %d' if not\n", c.HeldText(), run.ID, run.ID, run.ID)
		if earlier := c.EarlierText(); earlier != "" {
			fmt.Fprintf(w, "  %s\n", earlier)
		}
		if c.Hanging > 0 {
			fmt.Fprintf(w, "  with them it holds %d memberships and references to them, which stay as they are until then\n", c.Hanging)
		}
	}
}

// printGoing tells what is deleted later.
func printGoing(w io.Writer, indent string, going []progress.Going) {
	for _, g := range going {
		fmt.Fprintf(w, "%s%s: see 'kambrel leavers list'\n", indent, g.Text)
	}
}

// atLeast is a number of which there may be more.
func atLeast(n int, more bool) string {
	if more {
		return fmt.Sprintf("more than %d", n)
	}
	return fmt.Sprint(n)
}

func plural(n int, word string) string {
	if n == 1 {
		return "1 " + word
	}
	return fmt.Sprintf("%d %ss", n, word)
}
