package cli

import (
	"context"
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"kambrel.example/kambrel/cli/terminal"
	"kambrel.example/kambrel/client"
	"kambrel.example/kambrel/protocol/wire"
)

func newFirstDayCommand(d *deps) *cobra.Command {
	return &cobra.Command{
		Use: "first-day", Short: "Show how far the installation is, and what to do next", Args: terminal.NoArguments,
		Long: `Lists what leads from an empty service to people who are kept in step, and what can come
later but should. Nothing of it is remembered: each step is looked at, so that it is true
whoever did it, and you can leave it and go on another day. It changes nothing and needs the
role administrator.

Exit status: 0 all is done that the first run needs, 2 something of it is not.`,
		Example: "  kambrel first-day\n  kambrel first-day -o json | jq -r .next",
		RunE: func(cmd *cobra.Command, _ []string) error {
			begun := false
			err := ask(d, cmd, func(ctx context.Context, c *client.Client) (wire.FirstDay, error) {
				day, err := c.FirstDay(ctx)
				begun = day.Begun
				return day, err
			}, printFirstDay)
			if err == nil && !begun {
				return statusError(statusProblems)
			}
			return err
		},
	}
}

// printFirstDay begins with what to do now.
func printFirstDay(w io.Writer, day wire.FirstDay) error {
	done, needed := 0, 0
	for _, step := range day.Steps {
		if !step.Later {
			needed++
			if step.Done {
				done++
			}
		}
	}
	switch {
	case !day.Begun:
		fmt.Fprintf(w, "%d of %d steps to the first run are done.\n", done, needed)
	case day.Next != "":
		fmt.Fprintln(w, "The first run has ended well. What is open below can come later, and should.")
	default:
		fmt.Fprintln(w, "All is done.")
	}
	for _, later := range []bool{false, true} {
		fmt.Fprintln(w)
		if later {
			fmt.Fprintln(w, "Later, in any order:")
		}
		t := newTable("STATE", "WHAT", "DETAIL")
		for _, step := range day.Steps {
			if step.Later != later {
				continue
			}
			detail := or(step.Detail, "-")
			if later && !step.Done {
				detail = strings.TrimPrefix(detail+". "+step.Do, "-. ")
			}
			t.add(map[bool]string{true: "done", false: "to do"}[step.Done], step.Text, detail)
		}
		if err := t.print(w); err != nil {
			return err
		}
	}
	for _, step := range day.Steps {
		if step.Key == day.Next && !day.Begun {
			fmt.Fprintf(w, "\nNext: %s.\n%s\n", step.Text, step.Do)
		}
	}
	return nil
}
