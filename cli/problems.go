package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/mattn/go-runewidth"
	"github.com/spf13/cobra"

	"kambrel.example/kambrel/cli/terminal"
	"kambrel.example/kambrel/client"
	"kambrel.example/kambrel/core/about"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/protocol/wire"
)

func newProblemsCommand(d *deps) *cobra.Command {
	command := d.watchable(&cobra.Command{
		Use: "problems", Short: "Show what keeps things from being in step, and solve it", Args: terminal.NoArguments,
		Long: `Shows the open problems by what causes them: how many, how many of them sleep,
since when, and what came and went in the last 14 days. 'problems list' names each
thing that has one, with commands that help; 'problems show N' shows one from both
sides. A problem closes by itself when its cause is gone.`,
		Example: "  kambrel problems\n  kambrel problems list --code duplicate-login\n  kambrel problems show 12\n  kambrel problems repair 12 --value ada.lind@halvard.example --yes\n  kambrel problems --watch",
	}, func(cmd *cobra.Command, c *client.Client) error {
		groups, err := c.ProblemGroups(cmd.Context())
		if err != nil {
			return err
		}
		return d.print(cmd.OutOrStdout(), groups, func(w io.Writer) error { return printGroups(w, groups) })
	})
	command.AddCommand(newProblemsListCommand(d), newProblemsShowCommand(d), newProblemsRepairCommand(d), newProblemsKindsCommand(d),
		newProblemsAssignCommand(d), newProblemsNoteCommand(d), newProblemsSleepCommand(d), newProblemsWakeCommand(d))
	return command
}

func printGroups(w io.Writer, groups []wire.ProblemGroup) error {
	open, asleep := 0, 0
	for _, g := range groups {
		open, asleep = open+g.Count, asleep+g.Asleep
	}
	if open == 0 {
		fmt.Fprintln(w, "No open problems.")
		if len(groups) > 0 {
			fmt.Fprintln(w, "What was closed of late: 'kambrel problems list --closed'.")
		}
		return nil
	}
	t := newTable("OPEN", "ASLEEP", "SOMEBODY'S", "SINCE", "14 DAYS", "CODE", "PROBLEM")
	for _, g := range groups {
		opened, closed := 0, 0
		for _, day := range g.Days {
			opened, closed = opened+day.Opened, closed+day.Closed
		}
		if g.Count > 0 {
			t.add(g.Count, or(some(g.Asleep), "-"), or(some(g.Assigned), "-"), when(&g.Since), fmt.Sprintf("+%d -%d", opened, closed), g.Code, g.Title)
		}
	}
	if err := t.print(w); err != nil {
		return err
	}
	fmt.Fprintf(w, "\n%s", plural(open, "open problem"))
	if asleep > 0 {
		fmt.Fprintf(w, ", %d asleep", asleep)
	}
	fmt.Fprintln(w, ". See 'kambrel problems list --code CODE' for who has one, and what can be done.")
	return nil
}

// some is a number, "" for none.
func some(n int) string {
	if n == 0 {
		return ""
	}
	return strconv.Itoa(n)
}

func newProblemsListCommand(d *deps) *cobra.Command {
	var code, of, assigned, text string
	var run int64
	var limit int
	var closed, gone, standing bool
	command := &cobra.Command{
		Use: "list", Short: "List problems with what can be done, the newest first, those that sleep last", Args: terminal.NoArguments,
		Example: "  kambrel problems list\n  kambrel problems list --code duplicate-login\n  kambrel problems list --of agent\n  kambrel problems list --closed\n  kambrel problems list --run 12\n  kambrel problems list --run 12 --gone",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := d.listing(limit)
			if err != nil {
				return err
			}
			query := url.Values{"limit": {strconv.Itoa(limit)}, "code": {code}, "about": {of}, "closed": {strconv.FormatBool(closed)}, "assigned": {assigned}, "text": {text}}
			if run > 0 {
				query.Set("run", strconv.FormatInt(run, 10))
				switch {
				case gone:
					query.Set("share", "gone")
				case standing:
					query.Set("share", "standing")
				}
			} else if gone || standing {
				return errors.New("--gone and --standing are of a run: give --run")
			}
			page, err := c.Problems(cmd.Context(), query)
			if err != nil {
				return err
			}
			return d.print(cmd.OutOrStdout(), page.Items, func(w io.Writer) error {
				if page.Total == 0 {
					fmt.Fprintln(w, map[bool]string{false: "No open problems.", true: "No such problem."}[closed || run > 0 || code+of+assigned+text != ""])
				}
				printProblems(w, page.Items)
				if more := page.Total - len(page.Items); more > 0 {
					fmt.Fprintf(w, "%d more: give --limit\n", more)
				}
				return nil
			})
		},
	}
	command.Flags().BoolVar(&closed, "closed", false, "list those that were closed, the last first")
	command.Flags().StringVar(&code, "code", "", "only problems with this code")
	command.Flags().StringVar(&of, "of", "", "only those of this type of thing: entry, cloud-group, directory, agent, cloud, run, settings, service")
	command.Flags().StringVar(&assigned, "assigned", "", "only those that this one looks after")
	command.Flags().StringVar(&text, "text", "", "only those whose name or detail contains this")
	command.Flags().Int64Var(&run, "run", 0, "those that this run has opened; with --gone those that it has closed, with --standing those that it found and left")
	command.Flags().BoolVar(&gone, "gone", false, "with --run, those that it has closed")
	command.Flags().BoolVar(&standing, "standing", false, "with --run, those that were there before and still are")
	command.MarkFlagsMutuallyExclusive("gone", "standing", "closed")
	command.Flags().IntVar(&limit, "limit", 50, "how many, at most 500")
	return command
}

func newProblemsKindsCommand(d *deps) *cobra.Command {
	return &cobra.Command{
		Use: "kinds", Short: "List every kind of problem there is, with its cause and what to do", Args: terminal.NoArguments, Example: "  kambrel problems kinds\n  kambrel problems kinds -o json",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return ask(d, cmd, func(ctx context.Context, c *client.Client) ([]wire.ProblemKind, error) { return c.ProblemKinds(ctx) }, func(w io.Writer, kinds []wire.ProblemKind) error {
				for _, kind := range kinds {
					touches := "answers a request"
					if kind.Touches != "" {
						touches = "of: " + string(kind.Touches)
					}
					if _, err := fmt.Fprintf(w, "%s  [%s]  %s\n  %s\n  %s\n\n", kind.Title, kind.Code, touches, kind.Cause, kind.Remedy); err != nil {
						return err
					}
				}
				return nil
			})
		},
	}
}

// shownProblem is a problem with the objects that it is about: the one that has it first.
type shownProblem struct {
	wire.ProblemView
	Sides []wire.Object `json:"sides"`
}

// mostSides is how many objects stand next to each other.
const mostSides = 3

func newProblemsShowCommand(d *deps) *cobra.Command {
	return &cobra.Command{
		Use: "show N", Short: "Show one problem from both sides, why it is there, and what can be done", Args: terminal.OneArgument("the problem's number"),
		Long: `Shows one problem: since when it is there and who looks after it, the objects that it
is about next to each other, the decisions that led to it, the values that could be
repaired, what was done about it, and the commands that help.`,
		Example: "  kambrel problems show 12\n  kambrel problems show 12 -o json",
		RunE: func(cmd *cobra.Command, args []string) error {
			return ask(d, cmd, func(ctx context.Context, c *client.Client) (shownProblem, error) {
				out := shownProblem{Sides: []wire.Object{}}
				id, err := problemNumber(args[0])
				if err == nil {
					out.ProblemView, err = c.Problem(ctx, id)
				}
				if err != nil {
					return out, err
				}
				for _, text := range sidesOf(out.Problem) {
					object, err := c.Object(ctx, text)
					if err != nil { // gone meanwhile; the problem is shown all the same
						continue
					}
					out.Sides = append(out.Sides, object)
				}
				return out, nil
			}, printProblem)
		},
	}
}

func problemNumber(text string) (int64, error) {
	id, err := strconv.ParseInt(text, 10, 64)
	if err != nil || id < 1 {
		return 0, fmt.Errorf("%q is no problem's number: 'kambrel problems list' shows them", text)
	}
	return id, nil
}

// sidesOf are the ids of the objects that a problem is about: the one that has it, then
// those that stand in its way, or that it may be the same with.
func sidesOf(p wire.Problem) []string {
	var ids []string
	add := func(id string) {
		if id != "" && !slices.Contains(ids, id) && len(ids) < mostSides {
			ids = append(ids, id)
		}
	}
	add(p.EntryID)
	for _, e := range p.Facts.Entries {
		add(e.ID)
	}
	for _, r := range p.Facts.Resources {
		if r.ID != p.ResourceID {
			add(r.ID)
		}
	}
	return ids
}

func newProblemsRepairCommand(d *deps) *cobra.Command {
	var attribute, before, value, code string
	var proposed, yes bool
	command := &cobra.Command{
		Use: "repair N|ENTRY", Short: "Correct in the directory the value that a problem is about", Args: cobra.MaximumNArgs(1),
		Long: `Writes another value to the directory, through its agent, for the attribute from which
the rules make what is missing, refused or taken; the directory must have the feature
repair. The value must still be as it is shown; a sync looks then whether the problem is
solved. With --code, what is proposed for all
open problems of a kind. Each value is in the audit, and 'kambrel survey undo N' writes
back what was there. Without --yes it only tells what would be written.`,
		Example: "  kambrel problems repair 12\n  kambrel problems repair 12 --value ada.lind@halvard.example --yes\n  kambrel problems repair --code login-suffix-not-verified --proposed --yes",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := d.client()
			if err != nil {
				return err
			}
			query := url.Values{"code": {code}}
			switch {
			case code == "" && len(args) == 0, code != "" && len(args) == 1:
				return errors.New("say which: the number of a problem, an entry, or --code for all of a kind")
			case code != "" && !proposed:
				return errors.New("--code repairs many at once, with what is proposed for each: give --proposed")
			case len(args) == 1:
				id, err := d.problemOf(cmd, c, args[0])
				if err != nil {
					return err
				}
				query = url.Values{"id": {strconv.FormatInt(id, 10)}}
			}
			items, err := c.OfferedRepairs(cmd.Context(), query)
			if err != nil {
				return err
			}
			if items, err = chosenRepairs(items, attribute, before, value, cmd.Flags().Changed("value"), proposed); err != nil {
				return err
			}
			if !yes || len(items) == 0 {
				return d.print(cmd.OutOrStdout(), items, func(w io.Writer) error { return printOffers(w, items) })
			}
			repair, err := c.Repair(cmd.Context(), wire.NewRepair{Items: items})
			if err != nil {
				return err
			}
			if err := d.waitRepair(cmd, repair.ID); err != nil {
				return err
			}
			if d.output == "table" { // whether it has helped
				fmt.Fprintln(cmd.OutOrStdout())
				return d.runAndWait(cmd, wire.NewRun{Purpose: purpose.Sync})
			}
			run, err := c.StartRun(cmd.Context(), wire.NewRun{Purpose: purpose.Sync})
			if err != nil {
				return err
			}
			return d.waitQuietly(cmd, c, run.ID)
		},
	}
	command.Flags().StringVar(&code, "code", "", "all open problems of this kind, with --proposed")
	command.Flags().StringVar(&attribute, "attribute", "", "the attribute of the directory, where several would do")
	command.Flags().StringVar(&before, "before", "", "which of several values is replaced")
	command.Flags().StringVar(&value, "value", "", "the new value")
	command.Flags().BoolVar(&proposed, "proposed", false, "write what is proposed")
	command.Flags().BoolVar(&yes, "yes", false, "do it")
	command.MarkFlagsMutuallyExclusive("value", "proposed")
	return command
}

// problemOf is the number of a problem, or of the open one of an entry.
func (d *deps) problemOf(cmd *cobra.Command, c *client.Client, text string) (int64, error) {
	if id, err := problemNumber(text); err == nil {
		return id, nil
	}
	object, err := c.Object(cmd.Context(), text)
	switch {
	case err != nil:
		return 0, err
	case object.Problem == nil:
		return 0, fmt.Errorf("%s has no open problem", object.Why.Subject)
	}
	return object.Problem.ID, nil
}

// chosenRepairs are the offers that are meant, with their new values; all of them, where
// no value is given.
func chosenRepairs(items []wire.RepairItem, attribute, before, value string, given, proposed bool) ([]wire.RepairItem, error) {
	items = slices.DeleteFunc(items, func(i wire.RepairItem) bool {
		return attribute != "" && !strings.EqualFold(i.Attribute, attribute) || before != "" && i.Before != before || proposed && i.After == i.Before
	})
	if len(items) == 0 {
		return nil, errors.New("there is no value of the directory that Kambrel could write and that would help; see what the problem says")
	}
	if !given {
		return items, nil
	}
	if len(items) > 1 {
		return nil, fmt.Errorf("%d values would do; name one with --attribute or --before:\n%s", len(items), offersText(items))
	}
	items[0].After = value
	return items, nil
}

func offersText(items []wire.RepairItem) string {
	var lines []string
	for _, i := range items {
		lines = append(lines, fmt.Sprintf("  %s of %s is %s", i.Attribute, i.DN, quotedOrNothing(i.Before)))
	}
	return strings.Join(lines, "\n")
}

func quotedOrNothing(text string) string {
	if text == "" {
		return "empty"
	}
	return strconv.Quote(text)
}

func printOffers(w io.Writer, items []wire.RepairItem) error {
	changes := 0
	for _, i := range items {
		if i.After == i.Before {
			fmt.Fprintf(w, "%s\n  %s: %s   give the new one with --value\n", i.DN, i.Attribute, quotedOrNothing(i.Before))
			continue
		}
		changes++
		fmt.Fprintf(w, "%s\n  %s: %s -> %s\n", i.DN, i.Attribute, quotedOrNothing(i.Before), quotedOrNothing(i.After))
	}
	if changes > 0 {
		fmt.Fprintf(w, "Nothing was written yet: %s would be, with --proposed --yes.\n", plural(changes, "value"))
		return nil
	}
	fmt.Fprintln(w, "Nothing was written.")
	return nil
}

// newMarkCommand says something of problems that are named by number, or of all that have
// a code.
func (d *deps) newMarkCommand(use, short, example string, prepare func(cmd *cobra.Command, args []string) (wire.MarkProblems, []string, error)) *cobra.Command {
	var code string
	command := &cobra.Command{
		Use: use, Short: short, Example: example,
		RunE: func(cmd *cobra.Command, args []string) error {
			in, names, err := prepare(cmd, args)
			if err != nil {
				return err
			}
			c, err := d.client()
			if err != nil {
				return err
			}
			in.Code = code
			for _, name := range names {
				id, err := d.problemOf(cmd, c, name)
				if err != nil {
					return err
				}
				in.IDs = append(in.IDs, id)
			}
			if (len(in.IDs) == 0) == (code == "") {
				return errors.New("say which problems: numbers or entries, or --code for all of a kind")
			}
			marked, err := c.MarkProblems(cmd.Context(), in)
			if err != nil {
				return err
			}
			return d.print(cmd.OutOrStdout(), marked, func(w io.Writer) error {
				fmt.Fprintf(w, "Kept of %s.\n", plural(marked.Marked, "problem"))
				return nil
			})
		},
	}
	command.Flags().StringVar(&code, "code", "", "all open problems of this kind")
	return command
}

func newProblemsAssignCommand(d *deps) *cobra.Command {
	to := ""
	command := d.newMarkCommand("assign [N|ENTRY...]", "Say who looks after problems", "  kambrel problems assign 12 13 --to ingrid\n  kambrel problems assign --code near-miss --to ingrid\n  kambrel problems assign 12 --to ''", func(cmd *cobra.Command, args []string) (wire.MarkProblems, []string, error) {
		if !cmd.Flags().Changed("to") {
			return wire.MarkProblems{}, nil, errors.New("say to whom: --to NAME, or --to '' for nobody")
		}
		return wire.MarkProblems{Assigned: &to}, args, nil
	})
	command.Flags().StringVar(&to, "to", "", "who looks after them; '' for nobody")
	return command
}

func newProblemsNoteCommand(d *deps) *cobra.Command {
	text := ""
	command := d.newMarkCommand("note [N|ENTRY...]", "Note something with problems", "  kambrel problems note 12 --text 'asked the personnel office on Monday'\n  kambrel problems note 12 --text ''", func(cmd *cobra.Command, args []string) (wire.MarkProblems, []string, error) {
		if !cmd.Flags().Changed("text") {
			return wire.MarkProblems{}, nil, errors.New("say what: --text NOTE, or --text '' for none")
		}
		return wire.MarkProblems{Note: &text}, args, nil
	})
	command.Flags().StringVar(&text, "text", "", "the note; '' for none")
	return command
}

func newProblemsSleepCommand(d *deps) *cobra.Command {
	until := ""
	command := d.newMarkCommand("sleep [N|ENTRY...]", "Let problems stand behind the others until a date", "  kambrel problems sleep 12 --until 2027-01-04\n  kambrel problems sleep --code near-miss --until 2027-01-04", func(_ *cobra.Command, args []string) (wire.MarkProblems, []string, error) {
		at, err := time.ParseInLocation(time.DateOnly, until, time.Local)
		switch {
		case err != nil:
			return wire.MarkProblems{}, nil, fmt.Errorf("--until %q: give a date as in 2027-01-04", until)
		case !at.After(time.Now()):
			return wire.MarkProblems{}, nil, fmt.Errorf("--until %s has passed: give a date to come", until)
		}
		return wire.MarkProblems{Asleep: &at}, args, nil
	})
	command.Long = "Lets problems stand behind the others until a date: they are listed last, and do not ask\nfor attention. They wake when the date has come, or when the cause becomes another."
	command.Flags().StringVar(&until, "until", "", "the date, as in 2027-01-04")
	return command
}

func newProblemsWakeCommand(d *deps) *cobra.Command {
	return d.newMarkCommand("wake [N|ENTRY...]", "Let problems that sleep ask for attention again", "  kambrel problems wake 12", func(_ *cobra.Command, args []string) (wire.MarkProblems, []string, error) {
		now := time.Now()
		return wire.MarkProblems{Asleep: &now}, args, nil
	})
}

func printProblem(w io.Writer, p shownProblem) error {
	fmt.Fprintf(w, "Problem %d: %s  [%s]\n%s\n  %s\n\n%s\n%s\n\n", p.ID, p.Title, p.Code, thingText(p.About, p.Name), p.Detail, p.Cause, p.Remedy)
	fmt.Fprintf(w, "%s\n", sinceText(p.Problem))
	for _, line := range marksOf(p.Problem) {
		fmt.Fprintln(w, line)
	}
	if len(p.Sides) > 0 && p.About.Type == about.Entry {
		fmt.Fprintln(w)
		if err := printNextTo(w, p.Sides); err != nil {
			return err
		}
		if p.Closed == nil {
			fmt.Fprintln(w, "\nWhy:")
			for _, step := range p.Sides[0].Why.Steps {
				printReason(w, step, 1)
			}
		}
	}
	if len(p.Repairs) > 0 {
		fmt.Fprintf(w, "\nWhat could be another in the directory ('kambrel problems repair %d --value VALUE'):\n", p.ID)
		for _, i := range p.Repairs {
			proposal := ""
			if i.After != i.Before {
				proposal = ", proposed is " + strconv.Quote(i.After)
			}
			fmt.Fprintf(w, "  %s is %s%s\n", i.Attribute, quotedOrNothing(i.Before), proposal)
		}
	}
	if len(p.Remedies) > 0 {
		fmt.Fprintln(w, "\nWhat can be done:")
		printRemedies(w, "  ", p.Remedies)
	}
	if len(p.Acts) > 0 {
		fmt.Fprintln(w, "\nWhat was done:")
		for _, a := range p.Acts {
			printAct(w, a)
		}
	}
	return nil
}

// printNextTo shows objects in columns, the one that has the problem first.
func printNextTo(w io.Writer, sides []wire.Object) error {
	titles := []string{"", "THIS ONE"}
	for i := range sides[1:] {
		titles = append(titles, map[bool]string{true: "THE OTHER", false: fmt.Sprintf("OTHER %d", i+1)}[len(sides) == 2])
	}
	t := newTable(titles...)
	facts := make([]map[string]string, len(sides))
	for i, side := range sides {
		facts[i] = sideOf(side)
	}
	for _, name := range sideFacts {
		row := []any{name}
		some := false
		for _, f := range facts {
			row, some = append(row, runewidth.Truncate(or(f[name], "-"), widestSide, "…")), some || f[name] != ""
		}
		if some {
			t.add(row...)
		}
	}
	if err := t.print(w); err != nil {
		return err
	}
	for i, side := range sides[1:] {
		fmt.Fprintf(w, "%s: %s\n", titles[i+2], side.Why.Summary)
	}
	return nil
}

// widestSide is how much of one value stands next to another; 'kambrel show' has all of it.
const widestSide = 62

// sideFacts are what people compare of two objects, in the order in which they do.
var sideFacts = []string{"entry", "directory", "login", "name", "addresses", "title", "department", "number", "resource", "login in the cloud", "name in the cloud", "addresses in the cloud", "active"}

func sideOf(o wire.Object) map[string]string {
	facts := map[string]string{}
	if e := o.Entry; e != nil {
		facts["entry"], facts["directory"] = e.DN, e.Directory
		if e.Gone {
			facts["directory"] += ", deleted there"
		}
		facts["login"] = or(e.Attributes.First("userPrincipalName"), e.Attributes.First("uid"))
		facts["name"] = or(e.Attributes.First("displayName"), e.Attributes.First("cn"))
		facts["addresses"] = strings.Join(append(e.Attributes.All("mail"), e.Attributes.All("proxyAddresses")...), ", ")
		facts["title"], facts["department"] = e.Attributes.First("title"), e.Attributes.First("department")
		facts["number"] = or(e.Attributes.First("employeeID"), e.Attributes.First("employeeNumber"))
	}
	if r := o.Resource; r != nil {
		facts["resource"], facts["login in the cloud"], facts["name in the cloud"] = r.ID(), r.Login(), r.DisplayName()
		facts["addresses in the cloud"] = strings.Join(r.Addresses(), ", ")
		if o.Entry == nil || o.Entry.Kind == entry.User {
			facts["active"] = map[bool]string{true: "yes", false: "no"}[r.Active()]
		}
	}
	return facts
}
