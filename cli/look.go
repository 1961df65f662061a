package cli

import (
	"context"
	"fmt"
	"io"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"kambrel.example/kambrel/cli/terminal"
	"kambrel.example/kambrel/client"
	"kambrel.example/kambrel/core/pause"
	"kambrel.example/kambrel/core/reason"
	"kambrel.example/kambrel/protocol/wire"
)

func newFindCommand(d *deps) *cobra.Command {
	var limit int
	var state string
	command := &cobra.Command{
		Use: "find TEXT", Short: "Find anything by name, login, address, id or number", Args: terminal.OneArgument("the text to look for"),
		Long: `Looks in directories and cloud alike; whoever is called just so comes first. An id
is understood in every form: textual UUID, hex, base64, in the byte order of either
side. A text that begins with a parenthesis is a filter (RFC 4515) over all attributes
that were read. Beside objects it finds containers, directories, agents, causes of open
problems, and by their numbers problems, runs and revisions of the settings.`,
		Example: "  kambrel find 'run 12'\n  kambrel find '(&(title=Mate)(!(mail=*)))'\n  kambrel find lind\n  kambrel find ada.lind@halvard.example\n  kambrel find y/m6+44rxkCtb7Nz5GqnjQ==",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := d.client()
			if err != nil {
				return err
			}
			query := url.Values{"text": {args[0]}, "limit": {strconv.Itoa(limit)}}
			if state != "" {
				query.Set("state", state)
			}
			page, err := c.Find(cmd.Context(), query)
			if err != nil {
				return err
			}
			found := wire.Everything{Objects: page.Items, Total: page.Total, AtLeast: page.AtLeast, Others: []wire.Found{}}
			if state == "" { // nothing but objects is in such a state
				all, err := c.Search(cmd.Context(), args[0])
				if err != nil {
					return err
				}
				found.Others = all.Others
			}
			if err := d.print(cmd.OutOrStdout(), found, func(w io.Writer) error {
				if page.Total+len(found.Others) == 0 {
					fmt.Fprintf(w, "Nothing fits %q.\n", args[0])
					return nil
				}
				if err := printFound(w, found.Others); err != nil || page.Total == 0 {
					return err
				}
				if len(found.Others) > 0 {
					fmt.Fprintln(w)
				}
				t := newTable("NAME", "LOGIN", "STATE", "WHERE", "ENTRY", "RESOURCE")
				for _, hit := range page.Items {
					where := hit.DN
					if hit.Type == "resource" {
						where = "(cloud only)"
					}
					t.add(hit.Name, or(hit.Login, "-"), hit.State, where, or(hit.EntryID, "-"), or(hit.ResourceID, "-"))
				}
				if err := t.print(w); err != nil {
					return err
				}
				if more := page.Total - len(page.Items); more > 0 {
					fmt.Fprintf(w, "%s more: narrow the text, or give --limit\n", atLeast(more, page.AtLeast))
				}
				return nil
			}); err != nil {
				return err
			}
			if page.Total+len(found.Others) == 0 {
				return statusError(statusFailed)
			}
			return nil
		},
	}
	command.Flags().IntVar(&limit, "limit", 20, "how many objects, at most 500")
	command.Flags().StringVar(&state, "state", "", "only objects in a state: in-step, suspended, leaving, left, problem, changing, not-synced, cloud-only, removed")
	return command
}

// looks are the commands that show what was found.
var looks = map[string]string{
	"problem": "problems show %s", "run": "runs show %s", "revision": "settings show %s", "container": "find %q",
	"directory": "directory show %s", "agent": "agent list", "cause": "problems list --code %s",
}

// printFound prints what was found beside objects, with the command that shows it.
func printFound(w io.Writer, others []wire.Found) error {
	if len(others) == 0 {
		return nil
	}
	t := newTable("FOUND", "", "LOOK WITH")
	for _, o := range others {
		look := looks[o.Sort]
		if strings.Contains(look, "%") {
			look = fmt.Sprintf(look, o.Key)
		}
		name := o.Name
		if o.Sort != "problem" && o.Sort != "run" && o.Sort != "revision" { // their names begin so
			name = o.Sort + " " + name
		}
		t.add(name, o.More, "kambrel "+look)
	}
	return t.print(w)
}

func newWhyCommand(d *deps) *cobra.Command {
	at := ""
	command := &cobra.Command{
		Use: "why ID|DN|LOGIN", Short: "Explain why an object does or does not sync", Args: terminal.OneArgument("an id, a distinguished name or a login"),
		Long: `Explains every decision about one object: scope, match, rules and plan, with the
value of each condition on this entry. The statements that decided are marked.`,
		Example: "  kambrel why ada.lind@halvard.example\n  kambrel why 'CN=svc-backup,OU=Service Accounts,DC=corp,DC=halvard,DC=example'\n  kambrel why ada.lind@halvard.example --at 2h",
		RunE: func(cmd *cobra.Command, args []string) error {
			return ask(d, cmd, func(ctx context.Context, c *client.Client) (wire.Why, error) {
				if at == "" {
					return c.Why(ctx, args[0])
				}
				moment, err := momentOf(at, time.Now())
				if err != nil {
					return wire.Why{}, err
				}
				object, err := c.ObjectAt(ctx, args[0], moment)
				return object.Why, err
			}, func(w io.Writer, why wire.Why) error {
				fmt.Fprintf(w, "%s\n%s\n", why.Subject, why.Summary)
				printOthers(w, why)
				for _, step := range why.Steps {
					fmt.Fprintln(w)
					printReason(w, step, 0)
				}
				return nil
			})
		},
	}
	command.Flags().StringVar(&at, "at", "", atHelp)
	return command
}

// printOthers tells who else is called as somebody was asked for.
func printOthers(w io.Writer, why wire.Why) {
	for _, other := range why.Others {
		what := "in the cloud only"
		switch {
		case other.Gone:
			what = "deleted from " + other.Directory
		case other.EntryID != "":
			what = "of " + other.Directory
		}
		fmt.Fprintf(w, "  called so too: %s, %s; 'kambrel why %s'\n", or(other.DN, other.Name), what, or(other.EntryID, other.ResourceID))
	}
}

var signs = map[reason.Outcome]string{reason.Yes: "+", reason.No: "-", reason.Note: " ", reason.Bad: "!"}

func printReason(w io.Writer, node reason.Node, depth int) {
	line := strings.Repeat("  ", depth) + signs[node.Outcome] + " " + node.Text
	if node.Value != "" {
		if !strings.HasSuffix(line, "?") {
			line += ":"
		}
		line += " " + node.Value
	}
	if node.Source != "" {
		line += "   (" + node.Source + ")"
	}
	if node.Deciding && depth > 0 {
		line += "   <- decides"
	}
	fmt.Fprintln(w, line)
	for _, child := range node.Children {
		printReason(w, child, depth+1)
	}
}

func newHealthCommand(d *deps) *cobra.Command {
	return d.watchable(&cobra.Command{
		Use: "health", Short: "Show the state of everything", Args: terminal.NoArguments,
		Long:    "Exit status: 0 well, 2 needs attention, 1 broken.",
		Example: "  kambrel health\n  kambrel health --watch\n  kambrel health -o json | jq .state",
	}, func(cmd *cobra.Command, c *client.Client) error {
		health, err := c.Health(cmd.Context())
		if err != nil {
			return err
		}
		if err := d.print(cmd.OutOrStdout(), health, func(w io.Writer) error { return printHealth(w, health) }); err != nil {
			return err
		}
		switch health.State {
		case "broken":
			return statusError(statusFailed)
		case "attention":
			return statusError(statusProblems)
		}
		return nil
	})
}

func printHealth(w io.Writer, h wire.Health) error {
	fmt.Fprintf(w, "%s\n", h.Summary)
	said := ""
	for _, a := range h.Attention {
		since := ""
		if a.Since != nil {
			since = ", since " + when(a.Since)
		}
		fmt.Fprintf(w, "  ! %s: %s%s\n", a.Title, a.Detail, since)
		if a.Remedy != said { // of several alike, once
			fmt.Fprintf(w, "    %s\n", a.Remedy)
		}
		said = a.Remedy
		printRemedies(w, "    ", a.Remedies)
	}
	for _, run := range h.Beside {
		fmt.Fprintf(w, "Beside     run %d, %s: %s\n", run.ID, purposeText[run.Purpose], stateText(run))
	}
	if h.Current != nil {
		fmt.Fprintf(w, "Now        run %d, %s\n", h.Current.ID, stateText(*h.Current))
	}
	if h.LastRun != nil {
		fmt.Fprintf(w, "Last run   %d, %s at %s, %s\n", h.LastRun.ID, stateText(*h.LastRun), when(h.LastRun.Ended), plural(h.LastRun.Counts.Changes, "change"))
	}
	next := "the schedule is off"
	if h.NextRun != nil {
		next = "within seconds"
		if until := time.Until(*h.NextRun); until > 0 {
			next = "at " + when(h.NextRun) + ", in " + until.Round(time.Second).String()
		}
	}
	if slices.ContainsFunc(h.Pauses, func(p wire.Pause) bool { return p.Of == string(pause.Everything) }) {
		next = "none: everything is paused"
	} else if h.Live {
		next = "with the next change in a directory that is watched; by the schedule " + next
	}
	fmt.Fprintf(w, "Next run   %s\n", next)
	if h.NextFull != nil {
		fmt.Fprintf(w, "Compared   in full at %s\n", when(h.NextFull))
	}
	fmt.Fprintf(w, "Objects    %d users in directories, %d linked (%d suspended), %d groups and %d contacts linked, %d in the cloud only\n", h.Objects.Entries, h.Objects.Linked, h.Objects.Suspended, h.Objects.Groups, h.Objects.Contacts, h.Objects.CloudOnly)
	if h.Pins > 0 {
		fmt.Fprintf(w, "Put back   %s held against rules or scope: see 'kambrel pins list'\n", plural(h.Pins, "thing"))
	}
	printGoing(w, "Leavers    ", h.Going)
	takes := ""
	if h.Cloud.RequestsPerMinute > 0 {
		takes = fmt.Sprintf(", takes %d requests a minute", h.Cloud.RequestsPerMinute)
	}
	fmt.Fprintf(w, "Cloud      %s, last read %s%s\n", h.Cloud.URL, when(h.Cloud.LastRead), takes)
	for _, dir := range h.Directory {
		fmt.Fprintf(w, "Directory  %s (%s), %d users, last read %s, %s online\n", dir.Name, dir.Base, dir.Entries, when(dir.LastRead), plural(dir.Agents, "agent"))
	}
	if h.Passwords.State != "off" {
		fmt.Fprintf(w, "Passwords  %s\n", h.Passwords.Summary)
	}
	for _, one := range h.Passwords.Digests {
		oldest := ""
		if one.Oldest != nil {
			oldest = ", the oldest change since " + when(one.Oldest)
		}
		fmt.Fprintf(w, "Digests    %s: %s%s\n", one.Directory, one.Step.Detail, oldest)
	}
	return nil
}
