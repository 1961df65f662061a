package cli

import (
	"context"
	"fmt"
	"io"
	"net/url"
	"strconv"

	"github.com/spf13/cobra"

	"kambrel.example/kambrel/cli/terminal"
	"kambrel.example/kambrel/client"
	"kambrel.example/kambrel/core/plan"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/protocol/wire"
)

func newForecastCommand(d *deps) *cobra.Command {
	var draft bool
	command := &cobra.Command{
		Use: "forecast", Short: "See what would become of everybody, before anything is written", Args: terminal.NoArguments,
		Long: `Rehearses everybody and counts the outcomes: linked, adopted and by which rule,
created, held since somebody in the cloud looks like the same person, ambiguous,
protected, and what nobody claims in the cloud.

Exit status: 0 nothing stands against it, 2 some need a decision, 1 failed.`,
		Example: "  kambrel forecast\n  kambrel forecast --draft\n  kambrel forecast show near-miss\n  kambrel forecast unclaimed\n  kambrel forecast export > forecast.csv",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := d.client()
			if err != nil {
				return err
			}
			run, err := c.StartForecast(cmd.Context(), draft)
			if err != nil {
				return err
			}
			if run, err = d.watch(cmd, c, run.ID); err != nil {
				return err
			}
			if run.Failure != nil {
				return failed("forecast", run)
			}
			forecast, err := c.Forecast(cmd.Context(), run.ID)
			if err != nil {
				return err
			}
			if err := d.print(cmd.OutOrStdout(), forecast, func(w io.Writer) error { return printForecast(w, forecast) }); err != nil {
				return err
			}
			if run.Counts.Problems > 0 {
				return statusError(statusProblems)
			}
			return nil
		},
	}
	command.Flags().BoolVar(&draft, "draft", false, "by the draft instead of the active settings")
	command.AddCommand(newForecastShowCommand(d), newForecastUnclaimedCommand(d), newForecastExportCommand(d))
	return command
}

func printForecast(w io.Writer, f wire.Forecast) error {
	table := newTable("KIND", "OUTCOME", "COUNT", "MEANS")
	for _, o := range f.Outcomes {
		table.add(o.Kind, o.Outcome, o.Count, outcomeText(o))
	}
	if err := table.print(w); err != nil {
		return err
	}
	if needs := f.Run.Counts.Needs; needs != nil {
		fmt.Fprintf(w, "\nTo carry it out takes %s.\n", needs.Text)
	}
	_, err := fmt.Fprintln(w, "\nSee who: 'kambrel forecast show OUTCOME'; what nobody claims: 'kambrel forecast unclaimed'.")
	return err
}

var outcomeMeanings = map[string]string{
	"same-person": "one person with an entry of another directory, whose resource it shares", "linked": "linked already, and in step", "create": "a new resource would be made", "update": "linked, and would be changed", "restore": "would be active again",
	"suspend": "would be suspended", "leave": "would stay until the grace time is over, and be deleted then", "delete": "would be deleted", "unclaimed": "in the cloud only; nobody claims it, and it is left alone",
}

func outcomeText(o wire.Outcome) string {
	if o.Outcome == "adopt" {
		return "would be adopted, by " + o.Rule
	}
	if text, ok := outcomeMeanings[o.Outcome]; ok {
		return text
	}
	return problem.Describe(problem.Code(o.Outcome)).Title
}

func newForecastShowCommand(d *deps) *cobra.Command {
	var text string
	var limit int
	command := &cobra.Command{
		Use: "show OUTCOME", Short: "List who has an outcome in the newest forecast", Args: terminal.OneArgument("an outcome: create, adopt, near-miss, ..."),
		Example: "  kambrel forecast show adopt\n  kambrel forecast show near-miss -o json",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := d.client()
			if err != nil {
				return err
			}
			forecast, err := c.Forecast(cmd.Context(), 0)
			if err != nil {
				return err
			}
			query := url.Values{"limit": {strconv.Itoa(limit)}, "text": {text}, "operation": {args[0]}}
			if args[0] == string(plan.Follows) || problem.Describe(problem.Code(args[0])).Cause != "" {
				query.Set("operation", "none")
				query.Set("code", args[0])
			}
			changes, err := c.Changes(cmd.Context(), forecast.Run.ID, query)
			if err != nil {
				return err
			}
			return d.print(cmd.OutOrStdout(), changes, func(w io.Writer) error {
				fmt.Fprintf(w, "%s in forecast %d\n", plural(changes.Total, "object"), forecast.Run.ID)
				return printChanges(w, forecast.Run, changes, false)
			})
		},
	}
	command.Flags().StringVar(&text, "text", "", "only logins or names that contain this")
	command.Flags().IntVar(&limit, "limit", 200, "how many, at most 1000")
	return command
}

func newForecastExportCommand(d *deps) *cobra.Command {
	return &cobra.Command{
		Use: "export", Short: "Print the newest forecast as CSV", Args: terminal.NoArguments, Long: "Prints every change and problem of the newest forecast as CSV (RFC 4180).", Example: "  kambrel forecast export > forecast.csv",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := d.client()
			if err != nil {
				return err
			}
			forecast, err := c.Forecast(cmd.Context(), 0)
			if err != nil {
				return err
			}
			return c.ChangesCSV(cmd.Context(), forecast.Run.ID, nil, cmd.OutOrStdout())
		},
	}
}

func newForecastUnclaimedCommand(d *deps) *cobra.Command {
	var text, kind string
	command := &cobra.Command{
		Use: "unclaimed", Short: "List resources of the cloud that nobody claims", Args: terminal.NoArguments, Example: "  kambrel forecast unclaimed\n  kambrel forecast unclaimed --kind group",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return ask(d, cmd, func(ctx context.Context, c *client.Client) (wire.Page[wire.CloudOnly], error) {
				return c.Unclaimed(ctx, 0, url.Values{"text": {text}, "kind": {kind}, "limit": {"1000"}})
			}, func(w io.Writer, page wire.Page[wire.CloudOnly]) error {
				table := newTable("KIND", "NAME", "LOGIN", "ACTIVE", "RESOURCE")
				for _, r := range page.Items {
					table.add(r.Kind, r.Name, r.Login, r.Active, r.ID)
				}
				return table.print(w)
			})
		},
	}
	command.Flags().StringVar(&text, "text", "", "only names, logins and addresses that contain this")
	command.Flags().StringVar(&kind, "kind", "", "only one kind: user, group, contact")
	return command
}
