package cli

import (
	"context"
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

const atHelp = "as it was at a time: 2h for two hours ago, 17:30, 2026-11-25, '2026-11-25 17:30', or RFC 3339"

// momentOf reads a time: one that is over.
func momentOf(text string, now time.Time) (time.Time, error) {
	if ago, err := time.ParseDuration(text); err == nil && ago > 0 {
		return now.Add(-ago), nil
	}
	if at, ok := timeOf(text, now); ok {
		return past(at, now)
	}
	return time.Time{}, fmt.Errorf("%q is no time: give %s", text, strings.TrimPrefix(atHelp, "as it was at a time: "))
}

// timeOf reads a date, a time or both; a time alone is today's.
func timeOf(text string, now time.Time) (time.Time, bool) {
	if at, err := time.Parse(time.RFC3339, text); err == nil {
		return at, true
	}
	for _, form := range []string{"2006-01-02 15:04:05", "2006-01-02 15:04", "2006-01-02T15:04:05", "2006-01-02T15:04", time.DateOnly} {
		if at, err := time.ParseInLocation(form, text, time.Local); err == nil {
			return at, true
		}
	}
	for _, form := range []string{"15:04:05", "15:04"} {
		if at, err := time.ParseInLocation(form, text, time.Local); err == nil {
			today := now.Local()
			return time.Date(today.Year(), today.Month(), today.Day(), at.Hour(), at.Minute(), at.Second(), 0, time.Local), true
		}
	}
	return time.Time{}, false
}

func past(at, now time.Time) (time.Time, error) {
	if at.After(now) {
		return at, fmt.Errorf("%s is still to come", at.Local().Format("2006-01-02 15:04:05"))
	}
	return at, nil
}

// showAt shows an object as it was.
func (d *deps) showAt(cmd *cobra.Command, text, at string) error {
	return ask(d, cmd, func(ctx context.Context, c *client.Client) (wire.ObjectAt, error) {
		moment, err := momentOf(at, time.Now())
		if err != nil {
			return wire.ObjectAt{}, err
		}
		return c.ObjectAt(ctx, text, moment)
	}, func(w io.Writer, o wire.ObjectAt) error {
		fmt.Fprintf(w, "As it was on %s, by settings revision %d\n\n", o.At.Local().Format("2006-01-02 15:04:05"), o.Revision)
		if err := printObject(w, shownObject{Object: o.Object}); err != nil {
			return err
		}
		if len(o.Why.Steps) > 0 {
			fmt.Fprintln(w, "\nWhy, by the settings of then:")
		}
		for _, step := range o.Why.Steps {
			printReason(w, step, 1)
		}
		for _, note := range o.Notes {
			fmt.Fprintf(w, "Note: %s.\n", note)
		}
		return nil
	})
}

func newHistoryCommand(d *deps) *cobra.Command {
	before := ""
	command := &cobra.Command{
		Use: "history ID|DN|LOGIN", Short: "Tell what happened to an object, the newest first", Args: terminal.OneArgument("an id, a distinguished name or a login"),
		Long: `Tells what happened to one object and its resource: what was seen to change in the
directory, what runs have done by which rule and which settings, what others have changed in
the cloud, its problems, and what people did. 'kambrel show --at' shows how it was.`,
		Example: "  kambrel history ada.lind@halvard.example\n  kambrel history ada.lind@halvard.example --before '2026-11-25 17:30'",
		RunE: func(cmd *cobra.Command, args []string) error {
			return ask(d, cmd, func(ctx context.Context, c *client.Client) (wire.ObjectHistory, error) {
				query := url.Values{"text": {args[0]}}
				if before != "" {
					moment, err := momentOf(before, time.Now())
					if err != nil {
						return wire.ObjectHistory{}, err
					}
					query.Set("before", moment.Format(time.RFC3339Nano))
				}
				return c.ObjectHistory(ctx, query)
			}, printHistory)
		},
	}
	command.Flags().StringVar(&before, "before", "", "only what was before a time, as of --at of 'kambrel show'")
	return command
}

func printHistory(w io.Writer, h wire.ObjectHistory) error {
	fmt.Fprintln(w, h.Name)
	if len(h.Moments) == 0 {
		fmt.Fprintf(w, "Nothing happened to it since %s.\n", when(&h.Since))
	}
	for _, m := range h.Moments {
		text := m.Text
		if m.Kind == "change" {
			text = "written: " + text
		}
		if m.State != "" && m.State != "done" {
			text += " (" + m.State + ")"
		}
		var sign []string
		if m.By != "" {
			sign = append(sign, m.By)
		}
		if m.RunID > 0 {
			sign = append(sign, fmt.Sprintf("run %d", m.RunID))
		}
		if m.Revision > 0 {
			sign = append(sign, fmt.Sprintf("settings %d", m.Revision))
		}
		if len(sign) > 0 {
			text += "   (" + strings.Join(sign, ", ") + ")"
		}
		fmt.Fprintf(w, "%s  %s\n", m.At.Local().Format("2006-01-02 15:04:05"), text)
		if m.Detail != "" {
			fmt.Fprintf(w, "    %s\n", m.Detail)
		}
		printDiffs(w, m.Diffs)
	}
	if h.Before != nil {
		fmt.Fprintf(w, "More: --before %s\n", h.Before.Local().Format(time.RFC3339))
	}
	return nil
}
