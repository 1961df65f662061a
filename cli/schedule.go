package cli

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"kambrel.example/kambrel/cli/terminal"
	"kambrel.example/kambrel/client"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/protocol/wire"
)

// scheduled is a schedule with when it starts runs.
type scheduled struct {
	Schedule settings.Schedule  `json:"schedule"`
	Times    wire.ScheduleTimes `json:"times"`
	Pauses   []wire.Pause       `json:"pauses"`
}

func newScheduleCommand(d *deps) *cobra.Command {
	command := &cobra.Command{
		Use: "schedule", Short: "Show when runs start by themselves", Args: terminal.NoArguments,
		Example: "  kambrel schedule\n  kambrel schedule set --every 5m --hours 06:00-20:00 --days mon-fri --full 03:00",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return ask(d, cmd, func(ctx context.Context, c *client.Client) (scheduled, error) {
				active, err := c.Settings(ctx)
				if err != nil {
					return scheduled{}, err
				}
				out := scheduled{Schedule: active.Document.Schedule}
				if out.Times, err = c.TrySchedule(ctx, out.Schedule); err != nil {
					return out, err
				}
				out.Pauses, err = c.Pauses(ctx)
				return out, err
			}, func(w io.Writer, s scheduled) error {
				printSchedule(w, s.Schedule, s.Times)
				if len(s.Pauses) > 0 {
					fmt.Fprintln(w)
					return printPauses(w, s.Pauses)
				}
				return nil
			})
		},
	}
	command.AddCommand(newScheduleSetCommand(d))
	return command
}

func newScheduleSetCommand(d *deps) *cobra.Command {
	var in settings.Schedule
	var hours string
	var days []string
	command := &cobra.Command{
		Use: "set", Short: "Change in the draft when runs start by themselves", Args: terminal.NoArguments,
		Long: `Changes what is given, in the draft, and tells when the next runs would be. It counts
once the draft is activated.

Out of the hours nothing begins by itself, also no run of a live change; what was
missed is made up once when they begin. The full comparison does not heed them.`,
		Example: `  kambrel schedule set --every 10m
  kambrel schedule set --hours 22:00-06:00 --days mon-fri --zone Europe/Oslo
  kambrel schedule set --hours all --full 03:00
  kambrel schedule set --every off --live on --full never`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			given := cmd.Flags().Changed
			var edited settings.Schedule
			if err := d.editDraft(cmd, func(document *settings.Document) error {
				s := &document.Schedule
				for name, set := range map[string]func(){
					"every": func() { s.Every = in.Every }, "live": func() { s.Live = in.Live }, "zone": func() { s.Zone = in.Zone },
					"full": func() { s.Full = strings.TrimPrefix(in.Full, "never") },
				} {
					if given(name) {
						set()
					}
				}
				if err := setHours(s, hours, days, given("hours"), given("days")); err != nil {
					return err
				}
				edited = *s
				return nil
			}); err != nil || d.output != "table" {
				return err
			}
			return ask(d, cmd, func(ctx context.Context, c *client.Client) (wire.ScheduleTimes, error) {
				return c.TrySchedule(ctx, edited)
			}, func(w io.Writer, times wire.ScheduleTimes) error {
				fmt.Fprintln(w)
				printSchedule(w, edited, times)
				return nil
			})
		},
	}
	flags := command.Flags()
	flags.StringVar(&in.Every, "every", "", "the time between runs, such as 30s, 2m or 1h; off for none")
	flags.StringVar(&in.Live, "live", "", "on or off: whether a change in a directory starts a run")
	flags.StringVar(&hours, "hours", "", "the hours within which runs begin, such as 06:00-20:00; all for no limit")
	flags.StringSliceVar(&days, "days", nil, "on which days the hours begin, such as mon-fri or sat,sun; all for every day")
	flags.StringVar(&in.Full, "full", "", "when each day everything is compared, such as 03:00; never for not at all")
	flags.StringVar(&in.Zone, "zone", "", "the time zone of all of these, such as Europe/Oslo; empty for that of the service")
	return command
}

// setHours changes the hours of a schedule and the days on which they begin.
func setHours(s *settings.Schedule, hours string, days []string, withHours, withDays bool) error {
	if withHours && hours == "all" {
		s.Hours = nil
		withHours = false
	}
	if withHours {
		from, to, both := strings.Cut(hours, "-")
		if !both {
			return fmt.Errorf("--hours %q: write them as 06:00-20:00, or all", hours)
		}
		if s.Hours == nil {
			s.Hours = &settings.Hours{}
		}
		s.Hours.From, s.Hours.To = strings.TrimSpace(from), strings.TrimSpace(to)
	}
	if !withDays {
		return nil
	}
	if s.Hours == nil {
		return fmt.Errorf("--days are those on which the hours begin: give --hours too, such as 00:00-23:59")
	}
	s.Hours.Days = nil
	for _, text := range days {
		if text == "all" {
			continue
		}
		from, to, span := strings.Cut(text, "-")
		if !span {
			to = from
		}
		first, last := slices.Index(settings.Days, from), slices.Index(settings.Days, to)
		if first < 0 || last < 0 {
			return fmt.Errorf("--days %q: write days as %s, or a span such as mon-fri", text, strings.Join(settings.Days, ", "))
		}
		for day := first; ; day = (day + 1) % len(settings.Days) {
			if s.Hours.Days = append(s.Hours.Days, settings.Days[day]); day == last {
				break
			}
		}
	}
	return nil
}

func printSchedule(w io.Writer, s settings.Schedule, times wire.ScheduleTimes) {
	every := "no runs at intervals"
	if s.Every != "off" {
		every = "a run every " + s.Every
	}
	live := "live is off"
	if s.IsLive() {
		live = "live: a change in a directory that is watched starts one at once"
	}
	fmt.Fprintf(w, "Runs       %s; %s\n", every, live)
	zone := or(s.Zone, "of the service")
	if h := s.Hours; h != nil {
		days := "every day"
		if len(h.Days) > 0 {
			days = strings.Join(h.Days, ", ")
		}
		now := "closed now"
		if times.Within {
			now = "open now"
		}
		fmt.Fprintf(w, "Hours      %s to %s, %s; %s\n", h.From, h.To, days, now)
	}
	if s.Full != "" {
		fmt.Fprintf(w, "Compared   in full each day at %s\n", s.Full)
	}
	if s.Hours != nil || s.Full != "" {
		fmt.Fprintf(w, "Time zone  %s\n", zone)
	}
	for _, fault := range times.Faults {
		fmt.Fprintf(w, "Fault      %s\n", fault)
	}
	// In the schedule's own zone, if it names one.
	at := func(t time.Time) string {
		if s.Zone == "" {
			return when(&t)
		}
		return t.In(s.Location()).Format("2006-01-02 15:04:05")
	}
	texts := make([]string, len(times.Next))
	for i, next := range times.Next {
		texts[i] = at(next)
	}
	if len(texts) > 0 {
		fmt.Fprintf(w, "Next runs  %s\n", strings.Join(texts, ", "))
	}
	if times.Full != nil {
		fmt.Fprintf(w, "Next full  %s\n", at(*times.Full))
	}
}
