package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"time"

	"github.com/spf13/cobra"

	"kambrel.example/kambrel/cli/terminal"
	"kambrel.example/kambrel/client"
	"kambrel.example/kambrel/core/pause"
	"kambrel.example/kambrel/protocol/wire"
)

// part is what of the work a pause is about, as flags name it.
type part struct {
	everything, cloud, directories bool
	directory                      string
}

func (p *part) flags(command *cobra.Command) {
	flags := command.Flags()
	flags.BoolVar(&p.everything, "everything", false, "all: no run begins, and nothing is written anywhere")
	flags.BoolVar(&p.cloud, "cloud", false, "what is written to the cloud; directories are read and written as before")
	flags.BoolVar(&p.directories, "directories", false, "what is written to directories: groups, passwords, repairs")
	flags.StringVar(&p.directory, "directory", "", "one directory, which is neither read nor written; the others go on")
	command.MarkFlagsMutuallyExclusive("everything", "cloud", "directories", "directory")
}

// of is the part that is meant, "" when no flag says.
func (p *part) of() pause.Of {
	switch {
	case p.everything:
		return pause.Everything
	case p.cloud:
		return pause.Cloud
	case p.directories:
		return pause.Directories
	case p.directory != "":
		return pause.Directory
	}
	return ""
}

func newPauseCommand(d *deps) *cobra.Command {
	var what part
	var in wire.NewPause
	var lasts time.Duration
	var until string
	command := &cobra.Command{
		Use: "pause", Short: "Stop all of the work, or a part of it", Args: terminal.NoArguments,
		Long: `Stops what the flag names until somebody resumes it, or until a time. A run that
is under way ends where it is: what it has written stays, the rest is planned
anew later. What changes meanwhile is taken up when the work goes on.`,
		Example: `  kambrel pause --everything --reason "the rules are looked into"
  kambrel pause --cloud --for 2h --reason "maintenance of the cloud"
  kambrel pause --directory hq --until "2026-12-01 06:00" --reason "upgrade of the controllers"`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			in.Of, in.Directory = string(what.of()), what.directory
			if in.Of == "" {
				return errors.New("say what: --everything, --cloud, --directories or --directory NAME")
			}
			if in.Reason == "" {
				return errors.New("say why with --reason, for those who find it paused")
			}
			switch {
			case lasts < 0:
				return fmt.Errorf("--for %s: give a time such as 2h", lasts)
			case lasts > 0:
				end := time.Now().Add(lasts).Truncate(time.Second)
				in.Until = &end
			case until != "":
				end, ok := timeOf(until, time.Now())
				if !ok {
					return fmt.Errorf("--until %q is no time: give 17:30, 2026-12-01, '2026-12-01 06:00' or RFC 3339", until)
				}
				if len(until) <= len("15:04:05") && end.Before(time.Now()) { // tomorrow's
					end = end.AddDate(0, 0, 1)
				}
				in.Until = &end
			}
			return ask(d, cmd, func(ctx context.Context, c *client.Client) ([]wire.Pause, error) { return c.Pause(ctx, in) }, printPauses)
		},
	}
	what.flags(command)
	command.Flags().StringVar(&in.Reason, "reason", "", "why, for those who find it paused")
	command.Flags().DurationVar(&lasts, "for", 0, "for how long, such as 45m or 8h; without it somebody resumes it")
	command.Flags().StringVar(&until, "until", "", "until when, such as 2026-12-01 or \"2026-12-01 06:00\", in local time")
	command.MarkFlagsMutuallyExclusive("for", "until")
	command.AddCommand(&cobra.Command{
		Use: "list", Short: "List what is paused, by whom and why", Args: terminal.NoArguments, Example: "  kambrel pause list",
		RunE: func(cmd *cobra.Command, _ []string) error {
			return ask(d, cmd, func(ctx context.Context, c *client.Client) ([]wire.Pause, error) { return c.Pauses(ctx) }, printPauses)
		},
	})
	return command
}

func newResumeCommand(d *deps) *cobra.Command {
	var what part
	command := &cobra.Command{
		Use: "resume", Short: "Let paused work go on", Args: terminal.NoArguments,
		Long:    "Lets what the flag names go on; without one, the only pause there is. What has changed\nmeanwhile is taken up by a run, at once where there is a schedule or live is on.",
		Example: "  kambrel resume\n  kambrel resume --directory hq",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := d.client()
			if err != nil {
				return err
			}
			of, directory := what.of(), what.directory
			if of == "" {
				pauses, err := c.Pauses(cmd.Context())
				if err != nil {
					return err
				}
				if len(pauses) != 1 {
					if err := printPauses(cmd.ErrOrStderr(), pauses); err != nil {
						return err
					}
					if len(pauses) == 0 {
						return statusError(statusFailed)
					}
					return fmt.Errorf("%d things are paused: say which with a flag", len(pauses))
				}
				of, directory = pause.Of(pauses[0].Of), pauses[0].Directory
			}
			left, err := c.Resume(cmd.Context(), string(of), directory)
			if err != nil {
				return err
			}
			return d.print(cmd.OutOrStdout(), left, func(w io.Writer) error {
				fmt.Fprintln(w, "It goes on.")
				if len(left) == 0 {
					return nil
				}
				return printPauses(w, left)
			})
		},
	}
	what.flags(command)
	return command
}

func printPauses(w io.Writer, pauses []wire.Pause) error {
	if len(pauses) == 0 {
		fmt.Fprintln(w, "Nothing is paused.")
		return nil
	}
	t := newTable("PAUSED", "BY", "SINCE", "UNTIL", "WHY")
	for _, p := range pauses {
		until := "somebody resumes it"
		if p.Until != nil {
			until = when(p.Until)
		}
		t.add(p.What, p.By, when(&p.Since), until, p.Reason)
	}
	return t.print(w)
}
