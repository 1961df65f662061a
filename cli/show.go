package cli

import (
	"context"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"

	"github.com/mattn/go-runewidth"
	"github.com/spf13/cobra"

	"kambrel.example/kambrel/cli/terminal"
	"kambrel.example/kambrel/client"
	"kambrel.example/kambrel/core/rules"
	"kambrel.example/kambrel/protocol/wire"
)

func newShowCommand(d *deps) *cobra.Command {
	at := ""
	command := &cobra.Command{
		Use: "show ID|DN|LOGIN", Short: "Show one object: entries, link and resource side by side", Args: terminal.OneArgument("an id, a distinguished name or a login"),
		Long: `Shows one person, group or contact from all sides: its entries, its ids in every
form, its link, and each attribute as the rules want it beside what the cloud
has, with where it comes from. A difference is marked with *. Of a group it also
names the members that the cloud does not have, and why. The cloud is asked what
it has at this moment, and where that differs from the mirror is told.

With --at it is shown as it was at a time: entry, link, resource, and why, by the
settings of then. 'kambrel history' tells what happened when.`,
		Example: "  kambrel show ada.lind@halvard.example\n  kambrel show 'CN=Pilot,OU=Teams,DC=corp,DC=halvard,DC=example'\n  kambrel show ada.lind@halvard.example --at 2h\n  kambrel show ada.lind@halvard.example --at '2026-11-25 17:30'\n  kambrel show y/m6+44rxkCtb7Nz5GqnjQ== -o json",
		RunE: func(cmd *cobra.Command, args []string) error {
			if at != "" {
				return d.showAt(cmd, args[0], at)
			}
			return ask(d, cmd, func(ctx context.Context, c *client.Client) (shownObject, error) {
				object, err := c.Object(ctx, args[0])
				out := shownObject{Object: object}
				if err != nil || object.Resource == nil {
					return out, err
				}
				now, err := c.ObjectNow(ctx, object.Resource.ID())
				if err != nil { // what is known is shown all the same
					out.NowFailed = err.Error()
					return out, nil
				}
				out.Now = &now
				return out, nil
			}, printObject)
		},
	}
	command.Flags().StringVar(&at, "at", "", atHelp)
	return command
}

// shownObject is an object with what the cloud says of it at this moment.
type shownObject struct {
	wire.Object
	Now       *wire.CloudNow `json:"now,omitempty"`
	NowFailed string         `json:"nowFailed,omitempty"`
}

// printNow tells whether the mirror is true.
func printNow(w io.Writer, o shownObject) {
	switch now := o.Now; {
	case o.NowFailed != "":
		fmt.Fprintf(w, "now       the cloud could not be asked: %s\n", o.NowFailed)
	case now == nil:
	case !now.Found:
		fmt.Fprintln(w, "now       THE CLOUD DOES NOT HAVE IT ANY MORE; 'kambrel sync --full' sees that")
	case now.Same():
		fmt.Fprintln(w, "now       the cloud has what is shown")
	default:
		fmt.Fprintln(w, "now       THE CLOUD HAS SOMETHING ELSE THAN THE MIRROR; 'kambrel sync --full' puts it right")
		for _, d := range now.Differences {
			fmt.Fprintf(w, "          %s: %s, and the mirror has %s\n", shortTarget(d.Target), shown(d.Now), shown(d.Mirror))
		}
		printNames(w, "missing", now.MembersLost, now.Lost)
		printNames(w, "too many", now.MembersMore, now.More)
	}
}

func printNames(w io.Writer, what string, n int, names []string) {
	if n > 0 {
		more := ""
		if n > len(names) {
			more = fmt.Sprintf(" and %d more", n-len(names))
		}
		fmt.Fprintf(w, "          %s %s: %s%s\n", plural(n, "member"), what, strings.Join(names, ", "), more)
	}
}

func printObject(w io.Writer, o shownObject) error {
	fmt.Fprintf(w, "%s\n%s\n", o.Why.Subject, o.Why.Summary)
	printOthers(w, o.Why)
	fmt.Fprintln(w)
	if o.Entry != nil {
		gone := ""
		if o.Entry.Gone {
			gone = ", deleted there"
		}
		fmt.Fprintf(w, "entry     %s   (%s of %s%s)\n", o.Entry.DN, o.Entry.Kind, o.Entry.Directory, gone)
		for _, form := range o.Entry.Forms {
			fmt.Fprintf(w, "          %-18s  %s\n", form.Name, form.Text)
		}
	}
	for _, one := range o.Person {
		if o.Entry == nil || one.EntryID == o.Entry.ID.String() {
			continue
		}
		how := "leads: it bears the link"
		if !one.Leads {
			how = "one person with it, by " + one.Rule
		}
		fmt.Fprintf(w, "also      %s   (%s, %s)\n", one.DN, one.Directory, how)
	}
	if o.Resource != nil {
		state := "active"
		if !o.Resource.Active() {
			state = "not active"
		}
		fmt.Fprintf(w, "resource  %s   (%s)\n", o.Resource.ID(), state)
	}
	if o.Link != nil {
		left := ""
		if o.Link.Left != nil {
			left = "; left " + when(o.Link.Left)
		}
		fmt.Fprintf(w, "link      %s   (%s by run %d, %s%s)\n", o.Link.LinkKey, o.Link.How, o.Link.RunID, when(&o.Link.Since), left)
	}
	printNow(w, o)
	if o.Problem != nil {
		fmt.Fprintf(w, "problem   %s: %s   (since %s)\n          %s\n", o.Problem.Title, o.Problem.Detail, when(&o.Problem.Since), o.Problem.Remedy)
	}
	if err := printSides(w, o.Object); err != nil {
		return err
	}
	if o.Members != nil {
		printMembers(w, *o.Members)
	}
	if len(o.Changes) > 0 {
		fmt.Fprintln(w)
		t := newTable("RUN", "AT", "CHANGE", "STATE", "ANSWER")
		for _, change := range o.Changes {
			t.add(change.RunID, when(change.Answered), change.Operation, change.State, or(change.Answer, "-"))
		}
		return t.print(w)
	}
	return nil
}

// printSides shows what is in the cloud, and what the rules want where that
// differs.
func printSides(w io.Writer, o wire.Object) error {
	title := "IN THE CLOUD"
	if o.Resource == nil {
		title = "WOULD BE"
	}
	t := newTable("  ATTRIBUTE", title, "FROM")
	for _, a := range o.Attributes {
		mark, value, source := "  ", shown(a.Actual), runewidth.Truncate(a.Source, mostSource, "…")
		switch {
		case o.Resource == nil:
			value = shown(a.Desired)
		case !a.Same:
			mark, value = "* ", value+", should be "+shown(a.Desired)
		}
		if !a.Managed {
			source = "no rule: left alone"
		}
		t.add(mark+shortTarget(a.Target), value, source)
	}
	if len(o.Attributes) == 0 {
		for _, name := range slices.Sorted(maps.Keys(o.Resource)) {
			if name != "id" && name != "schemas" && name != "meta" {
				t.add("  "+shortTarget(name), shown(o.Resource[name]), "the cloud's own")
			}
		}
	}
	if len(t.rows) == 1 {
		return nil
	}
	fmt.Fprintln(w)
	return t.print(w)
}

// mostSource is how much of a rule a row shows, in cells of the terminal.
const mostSource = 60

// shortTarget leaves the name of an extension's schema out, but for its last
// word; -o json has it whole.
func shortTarget(target string) string {
	words := strings.Split(target, ":")
	last := len(words) - 1
	for _, word := range slices.Backward(words[:last]) {
		if strings.ToLower(word) == word && strings.Trim(word, "0123456789.") != "" {
			return words[last] + " (" + word + ")"
		}
	}
	return target
}

func shown(value any) string { return or(rules.Show(value), "-") }

func printMembers(w io.Writer, list wire.MemberList) {
	fmt.Fprintf(w, "\nmembers   %d in the directory, %d in the cloud\n", list.Total, list.InCloud)
	for _, m := range list.Items {
		if m.LeftOut != "" {
			fmt.Fprintf(w, "          %s is left out: %s\n", strings.TrimSpace(m.Name), m.LeftOut)
		}
	}
}
