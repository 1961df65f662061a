package cli

import (
	"context"
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"kambrel.example/kambrel/client"
	"kambrel.example/kambrel/core/rules"
	"kambrel.example/kambrel/wire"
)

func newShowCommand(d *deps) *cobra.Command {
	return &cobra.Command{
		Use: "show ID|DN|LOGIN", Short: "Show one object: entries, link and resource side by side", Args: oneArgument("an id, a distinguished name or a login"),
		Long: `Shows one person, group or contact from all sides: its entries, its ids in every
form, its link, and each attribute as the rules want it beside what the cloud
has, with where it comes from. A difference is marked with *. Of a group it also
names the members that the cloud does not have, and why.`,
		Example: "  kambrel show ada.lind@halvard.example\n  kambrel show 'CN=Pilot,OU=Teams,DC=corp,DC=halvard,DC=example'\n  kambrel show y/m6+44rxkCtb7Nz5GqnjQ== -o json",
		RunE: func(cmd *cobra.Command, args []string) error {
			return ask(d, cmd, func(ctx context.Context, c *client.Client) (wire.Object, error) { return c.Object(ctx, args[0]) }, printObject)
		},
	}
}

// idForms are the forms of an id in the order in which they are shown.
var idForms = []struct{ key, title string }{{"uuid", "uuid"}, {"hex", "hex"}, {"base64", "base64"}, {"objectGUIDHex", "objectGUID, hex"}, {"objectGUIDBase64", "objectGUID, base64"}}

func printObject(w io.Writer, o wire.Object) error {
	fmt.Fprintf(w, "%s\n%s\n\n", o.Why.Subject, o.Why.Summary)
	if o.Entry != nil {
		gone := ""
		if o.Entry.Gone {
			gone = ", deleted there"
		}
		fmt.Fprintf(w, "entry     %s   (%s of %s%s)\n", o.Entry.DN, o.Entry.Kind, o.Entry.Directory, gone)
		for _, form := range idForms {
			fmt.Fprintf(w, "          %-18s  %s\n", form.title, o.Entry.Forms[form.key])
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
	if o.Problem != nil {
		fmt.Fprintf(w, "problem   %s: %s   (since %s)\n          %s\n", o.Problem.Title, o.Problem.Detail, when(&o.Problem.Since), o.Problem.Remedy)
	}
	if err := printSides(w, o.Attributes); err != nil {
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

// printSides shows what the rules want beside what is in the cloud.
func printSides(w io.Writer, attributes []wire.AttributeView) error {
	if len(attributes) == 0 {
		return nil
	}
	fmt.Fprintln(w)
	t := newTable("  ATTRIBUTE", "SHOULD BE", "IN THE CLOUD", "FROM")
	for _, a := range attributes {
		mark, desired, source := "  ", or(rules.Show(a.Desired), "-"), a.Source
		if !a.Same {
			mark = "* "
		}
		if !a.Managed {
			desired, source = "", "no rule: left alone"
		}
		t.add(mark+a.Target, desired, or(rules.Show(a.Actual), "-"), source)
	}
	return t.print(w)
}

func printMembers(w io.Writer, list wire.MemberList) {
	fmt.Fprintf(w, "\nmembers   %d in the directory, %d in the cloud\n", list.Total, list.InCloud)
	for _, m := range list.Items {
		if m.LeftOut != "" {
			fmt.Fprintf(w, "          %s is left out: %s\n", strings.TrimSpace(m.Name), m.LeftOut)
		}
	}
}
