package cli

import (
	"context"
	"fmt"
	"io"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"kambrel.example/kambrel/cli/terminal"
	"kambrel.example/kambrel/client"
	"kambrel.example/kambrel/core/plan"
	"kambrel.example/kambrel/core/settings"
)

// guarded is the guard with how many there are of whom it holds some.
type guarded struct {
	Guard  settings.Guard `json:"guard"`
	Linked int            `json:"linked"` // entries of all kinds that have a resource and have not left
}

func newGuardCommand(d *deps) *cobra.Command {
	command := &cobra.Command{
		Use: "guard", Short: "Show how much may be taken away at once", Args: terminal.NoArguments,
		Long: `Shows the limits of the guard. What passes one of them, by its number and by its share
alike, is held until somebody releases or discards it; 'kambrel runs' shows what is.`,
		Example: "  kambrel guard\n  kambrel guard set --removals 10 --share 2",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return ask(d, cmd, func(ctx context.Context, c *client.Client) (guarded, error) {
				active, err := c.Settings(ctx)
				if err != nil {
					return guarded{}, err
				}
				health, err := c.Health(ctx)
				of := health.Objects
				return guarded{active.Document.Guard.Whole(), of.Linked - of.Suspended + of.Groups + of.Contacts}, err
			}, func(w io.Writer, g guarded) error { return printGuard(w, g) })
		},
	}
	command.AddCommand(newGuardSetCommand(d))
	return command
}

// limits are those of a guard beside removals, by the names of their flags.
func limits(g *settings.Guard) []struct {
	name, holds string
	limit       **settings.Limit
} {
	return []struct {
		name, holds string
		limit       **settings.Limit
	}{
		{"members", "members that groups lose who are still there, of all members", &g.Members},
		{"group", "the same of one group, of its members", &g.Group},
		{"values", "people of whom one attribute is emptied", &g.Values},
		{"access", "people of whom one loses roles or entitlements", &g.Access},
		{"logins", "people whose login changes", &g.Logins},
	}
}

func printGuard(w io.Writer, g guarded) error {
	t := newTable("LIMIT", "NUMBER", "SHARE", "HOLDS")
	removals := settings.Limit{Number: g.Guard.Removals, Share: g.Guard.Share}
	holds := "who are suspended or deleted within " + g.Guard.Within
	if from := plan.HoldsFrom(removals, g.Linked); g.Linked > 0 && from > g.Linked {
		holds += fmt.Sprintf("; of the %d that are linked now, none: lower it", g.Linked)
	} else if g.Linked > 0 {
		holds += fmt.Sprintf("; of the %d that are linked now, %d and more", g.Linked, from)
	}
	t.add("removals", removals.Number, strconv.Itoa(removals.Share)+" %", holds)
	for _, one := range limits(&g.Guard) {
		t.add(one.name, (*one.limit).Number, strconv.Itoa((*one.limit).Share)+" %", one.holds)
	}
	return t.print(w)
}

func newGuardSetCommand(d *deps) *cobra.Command {
	var in settings.Guard
	given := map[string]*string{}
	command := &cobra.Command{
		Use: "set", Short: "Change in the draft how much may be taken away at once", Args: terminal.NoArguments,
		Long: `Changes what is given, in the draft; it counts once the draft is activated. Something is
held when it is more than the number and more than the share: 20 and 5 % let 20 people
go from a small directory, and 5 in a hundred from a large one.`,
		Example: `  kambrel guard set --removals 10 --share 2
  kambrel guard set --within 4h
  kambrel guard set --members 50,5 --logins 0,0`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			changed := cmd.Flags().Changed
			return d.editDraft(cmd, func(document *settings.Document) error {
				g := &document.Guard
				if changed("removals") {
					g.Removals = in.Removals
				}
				if changed("share") {
					g.Share = in.Share
				}
				if changed("within") {
					g.Within = in.Within
				}
				for _, one := range limits(g) {
					if !changed(one.name) {
						continue
					}
					limit, err := parseLimit(*given[one.name])
					if err != nil {
						return fmt.Errorf("--%s %q: %w", one.name, *given[one.name], err)
					}
					*one.limit = limit
				}
				return nil
			})
		},
	}
	flags := command.Flags()
	flags.IntVar(&in.Removals, "removals", 0, "how many people may go at once")
	flags.IntVar(&in.Share, "share", 0, "how many of a hundred people may go at once")
	flags.StringVar(&in.Within, "within", "", "how long what went counts together with what would go, such as 1h; 0s for each run by itself")
	for _, one := range limits(&in) {
		given[one.name] = flags.String(one.name, "", one.holds+": number,share in percent")
	}
	return command
}

// parseLimit reads a number and a share with a comma between.
func parseLimit(text string) (*settings.Limit, error) {
	number, share, both := strings.Cut(strings.ReplaceAll(text, " ", ""), ",")
	limit := &settings.Limit{}
	var err error
	if limit.Number, err = strconv.Atoi(number); err == nil {
		limit.Share, err = strconv.Atoi(strings.TrimSuffix(share, "%"))
	}
	if err != nil || !both {
		return nil, fmt.Errorf("write the number and the share in percent, as 20,5")
	}
	return limit, nil
}

func newLeaversPolicyCommand(d *deps) *cobra.Command {
	var policy, grace string
	command := &cobra.Command{
		Use: "policy KIND", Short: "Change in the draft what becomes of those who leave", Args: terminal.OneArgument("users, groups or contacts"),
		Long: `Changes in the draft what becomes of the resource of somebody who is gone from the
directory or out of scope: suspend (people cannot sign in; all of theirs stays), keep
(nothing), or delete, once the grace time is over; until then people are suspended.`,
		Example: "  kambrel leavers policy users --policy delete --grace 720h\n  kambrel leavers policy contacts --policy keep",
		RunE: func(cmd *cobra.Command, args []string) error {
			kind, err := kindArgument(args[0])
			if err != nil {
				return err
			}
			if policy == "" && grace == "" {
				return fmt.Errorf("give --policy, --grace or both")
			}
			return d.editDraft(cmd, func(document *settings.Document) error {
				of := document.Of(kind)
				if policy != "" {
					of.Leavers = settings.Policy(policy)
				}
				if grace != "" {
					of.Grace = grace
				}
				return nil
			})
		},
	}
	command.Flags().StringVar(&policy, "policy", "", "suspend, keep or delete")
	command.Flags().StringVar(&grace, "grace", "", "how long before they are deleted, such as 720h")
	return command
}

func newRememberCommand(d *deps) *cobra.Command {
	return &cobra.Command{
		Use: "remember DAYS", Short: "Change in the draft for how long it is known how things were", Args: terminal.OneArgument("days, 7 to 3660"),
		Long: `Changes in the draft for how many days runs and their changes, closed problems, and each
version of entries and resources are kept; before that, history, undo and reports end.
Links, decisions and the audit are kept for good.`,
		Example: "  kambrel settings remember 365",
		RunE: func(cmd *cobra.Command, args []string) error {
			days, err := strconv.Atoi(args[0])
			if err != nil {
				return fmt.Errorf("%q is no number of days", args[0])
			}
			return d.editDraft(cmd, func(document *settings.Document) error {
				document.History.Days = days
				return nil
			})
		},
	}
}
