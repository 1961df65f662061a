package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"

	"github.com/spf13/cobra"
	"golang.org/x/sync/errgroup"

	"kambrel.example/kambrel/cli/terminal"
	"kambrel.example/kambrel/client"
	"kambrel.example/kambrel/core/change"
	"kambrel.example/kambrel/core/compare"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/protocol/wire"
)

// comparison is what two services would do, and in what that differs.
type comparison struct {
	Here   wire.Run             `json:"here"`
	There  wire.Run             `json:"there"`
	Alike  int                  `json:"alike" doc:"Objects for which both plan the same"`
	Differ []compare.Difference `json:"differ"`
}

func newCompareCommand(d *deps) *cobra.Command {
	var with, token string
	var limit int
	command := &cobra.Command{
		Use: "compare", Short: "Compare what another service would do with what this one would", Args: terminal.NoArguments,
		Long: `Lets two services forecast everybody and tells for whom they would do something
else: before an upgrade, or before settings are changed on one that runs in
earnest. The other is a shadow: a service of the new version or with the new
settings, on a copy of the records, started with 'kambrel serve --shadow', which
writes nothing.

Exit status: 0 both would do the same, 2 they would not, 1 failed.`,
		Example: "  kambrel compare --with http://127.0.0.1:7700\n  kambrel compare --with https://shadow.halvard.example --with-token $TOKEN -o json",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if with == "" {
				return errors.New("give the other service with --with URL")
			}
			here, err := d.client()
			if err != nil {
				return err
			}
			if token == "" { // the records of a shadow are a copy, tokens and all
				token = here.Token()
			}
			p, err := findProfile(with, token)
			if err != nil {
				return err
			}
			there, err := p.client()
			if err != nil {
				return err
			}
			var c comparison
			var mine, theirs []compare.Change
			group, ctx := errgroup.WithContext(cmd.Context())
			group.Go(func() (err error) {
				mine, c.Here, err = planned(ctx, here)
				return err
			})
			group.Go(func() (err error) {
				if theirs, c.There, err = planned(ctx, there); err != nil {
					err = fmt.Errorf("%s: %w", with, err)
				}
				return err
			})
			if err := group.Wait(); err != nil {
				return err
			}
			c.Alike, c.Differ = compare.Compare(mine, theirs)
			if err := d.print(cmd.OutOrStdout(), c, func(w io.Writer) error { return printComparison(w, c, limit) }); err != nil {
				return err
			}
			if len(c.Differ) > 0 {
				return statusError(statusProblems)
			}
			return nil
		},
	}
	command.Flags().StringVar(&with, "with", "", "URL of the other service")
	command.Flags().StringVar(&token, "with-token", os.Getenv("KAMBREL_WITH_TOKEN"), "token for the other service, or KAMBREL_WITH_TOKEN; without one the same as for this")
	command.Flags().IntVar(&limit, "limit", 20, "most differences to print")
	return command
}

// planned forecasts everybody and lists what is planned.
func planned(ctx context.Context, c *client.Client) (changes []compare.Change, run wire.Run, err error) {
	if run, err = c.StartForecast(ctx, false); err == nil {
		run, err = c.Wait(ctx, run.ID, nil)
	}
	if err == nil && run.Failure != nil {
		err = failed("forecast", run)
	}
	query := url.Values{"limit": {"500"}}
	for more := true; more && err == nil; {
		var page wire.Page[wire.Change]
		page, err = c.Changes(ctx, run.ID, query)
		for _, one := range page.Items {
			switch one.State {
			case "planned", "held", "blocked":
			default:
				continue // what both forecasts note of what is in step
			}
			written := ""
			if one.Side == change.Directory {
				written = one.ResourceID
			}
			changes = append(changes, compare.Change{
				Entry: one.Directory + "/" + one.EntryID, Written: written, Kind: one.Kind, Name: one.Name, DN: one.DN,
				Plan: compare.Plan{Operation: one.Operation, Code: one.Code, Held: one.State == "held", Diffs: one.Diffs},
			})
		}
		more = page.Next != ""
		query.Set("cursor", page.Next)
	}
	return changes, run, err
}

func printComparison(w io.Writer, c comparison, limit int) error {
	fmt.Fprintf(w, "Here forecast %d by settings revision %d, there forecast %d by revision %d.\n", c.Here.ID, c.Here.Revision, c.There.ID, c.There.Revision)
	if len(c.Differ) == 0 {
		_, err := fmt.Fprintf(w, "Both would do the same: %s looked at here, %d there; %s to do.\n", plural(c.Here.Counts.Planned, "object"), c.There.Counts.Planned, plural(c.Alike, "object"))
		return err
	}
	fmt.Fprintf(w, "%s would be done otherwise; for %d both would do the same.\n", plural(len(c.Differ), "object"), c.Alike)
	for i, one := range c.Differ {
		if i == limit {
			_, err := fmt.Fprintf(w, "\n%d more: --limit %d\n", len(c.Differ)-limit, len(c.Differ))
			return err
		}
		fmt.Fprintf(w, "\n%s %s\n  %s\n", one.Kind, one.Name, one.DN)
		printSide(w, "here", one.Here)
		printSide(w, "there", one.There)
	}
	return nil
}

func printSide(w io.Writer, side string, plans []compare.Plan) {
	if len(plans) == 0 {
		fmt.Fprintf(w, "  %s: nothing\n", side)
	}
	for _, p := range plans {
		text := p.Operation
		if p.Code != "" {
			text = fmt.Sprintf("nothing (%s)", problem.Describe(problem.Code(p.Code)).Title)
		}
		if p.Held {
			text += ", held by the guard"
		}
		fmt.Fprintf(w, "  %s: %s\n", side, text)
		printDiffs(w, p.Diffs)
	}
}
