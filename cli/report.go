package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/url"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"kambrel.example/kambrel/cli/terminal"
	"kambrel.example/kambrel/client"
	"kambrel.example/kambrel/protocol/wire"
)

func newReportCommand(d *deps) *cobra.Command {
	var days int
	var from, to string
	var asCSV, mail bool
	command := &cobra.Command{
		Use: "report", Short: "Tell what came of a day, a week or a month, to be sent on", Args: terminal.NoArguments,
		Long: `Tells what was done: who came, changed and left, who let removals through, what failed,
which problems came and went, and who did what. By default of the last 7 days.`,
		Example: "  kambrel report\n  kambrel report --days 1\n  kambrel report --from 2026-11-01 --to 2026-12-01\n  kambrel report --days 30 --csv > november.csv\n  kambrel report --days 30 --mail",
		RunE: func(cmd *cobra.Command, _ []string) error {
			now := time.Now()
			end, start := now, now.AddDate(0, 0, -days)
			var err error
			if to != "" {
				if end, err = momentOf(to, now.AddDate(1, 0, 0)); err != nil {
					return fmt.Errorf("--to: %w", err)
				}
			}
			if from != "" {
				if start, err = momentOf(from, now); err != nil {
					return fmt.Errorf("--from: %w", err)
				}
			} else if to != "" {
				return errors.New("--to needs --from")
			}
			query := url.Values{"from": {start.Format(time.RFC3339Nano)}, "to": {end.Format(time.RFC3339Nano)}}
			if mail {
				return ask(d, cmd, func(ctx context.Context, c *client.Client) (wire.MailedReport, error) {
					return c.MailReport(ctx, wire.MailReport{From: start, To: end})
				}, func(w io.Writer, m wire.MailedReport) error {
					_, err := fmt.Fprintf(w, "Mailed to %s. 'kambrel notices list' says whether it was taken.\n", strings.Join(m.Recipients, ", "))
					return err
				})
			}
			if asCSV {
				c, err := d.client()
				if err != nil {
					return err
				}
				return c.ReportCSV(cmd.Context(), query, cmd.OutOrStdout())
			}
			return ask(d, cmd, func(ctx context.Context, c *client.Client) (wire.Report, error) { return c.Report(ctx, query) }, printReport)
		},
	}
	command.Flags().IntVar(&days, "days", 7, "of the last so many days")
	command.Flags().StringVar(&from, "from", "", "from a time: 2026-11-01, '2026-11-01 17:30', or RFC 3339")
	command.Flags().StringVar(&to, "to", "", "until a time")
	command.Flags().BoolVar(&asCSV, "csv", false, "print everything that is named as CSV (RFC 4180)")
	command.Flags().BoolVar(&mail, "mail", false, "mail it to those who get reports by the settings (notices.recipients)")
	command.MarkFlagsMutuallyExclusive("csv", "mail")
	return command
}

// mostOfReport is how many things of a part are printed.
const mostOfReport = 15

func printReport(w io.Writer, r wire.Report) error {
	fmt.Fprintf(w, "From %s to %s: %s, %d failed\n", r.From.Local().Format("2006-01-02 15:04"), r.To.Local().Format("2006-01-02 15:04"), plural(r.Runs, "run"), r.Failures)
	if len(r.Counts) > 0 {
		fmt.Fprintln(w)
		t := newTable("KIND", "DONE", "HOW MANY")
		for _, c := range r.Counts {
			t.add(c.Kind, c.Operation, c.Count)
		}
		if err := t.print(w); err != nil {
			return err
		}
	}
	for _, part := range []struct {
		title string
		of    wire.ReportPart
	}{{"Came", r.Came}, {"Left", r.Left}, {"Failed", r.Failed}} {
		if part.of.Total == 0 {
			continue
		}
		fmt.Fprintf(w, "\n%s (%d)\n", part.title, part.of.Total)
		t := newTable("  AT", "WHAT", "KIND", "NAME", "RUN", "BY")
		for i, l := range part.of.Items {
			if i == mostOfReport {
				break
			}
			by := l.By
			if l.Released {
				by += ", who let it through"
			}
			t.add("  "+when(&l.At), l.Operation, l.Kind, l.Name, l.RunID, by)
		}
		if err := t.print(w); err != nil {
			return err
		}
		if more := part.of.Total - min(len(part.of.Items), mostOfReport); more > 0 {
			fmt.Fprintf(w, "  and %d more: --csv has all\n", more)
		}
	}
	if len(r.Problems) > 0 {
		fmt.Fprintln(w)
		t := newTable("OPENED", "CLOSED", "OPEN", "PROBLEM")
		for _, p := range r.Problems {
			t.add(p.Opened, p.Closed, p.Open, p.Title)
		}
		if err := t.print(w); err != nil {
			return err
		}
	}
	if len(r.Acts) > 0 {
		fmt.Fprintln(w)
		t := newTable("BY", "TIMES", "ACT")
		for _, a := range r.Acts {
			t.add(a.By, a.Count, a.Title)
		}
		return t.print(w)
	}
	return nil
}
