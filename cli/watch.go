package cli

import (
	"context"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"kambrel.example/kambrel/client"
)

// clearScreen clears the screen and goes to its beginning (ECMA-48, CUP and ED).
const clearScreen = "\x1b[H\x1b[2J"

// watchable gives a command --watch: what it shows is shown again whenever something has
// happened, until somebody ends it.
func (d *deps) watchable(command *cobra.Command, show func(*cobra.Command, *client.Client) error) *cobra.Command {
	var watch bool
	command.Flags().BoolVarP(&watch, "watch", "w", false, "go on, and show it again whenever something has happened")
	command.RunE = func(cmd *cobra.Command, _ []string) error {
		c, err := d.client()
		if err != nil {
			return err
		}
		if !watch {
			return show(cmd, c)
		}
		out := cmd.OutOrStdout()
		err = c.Watch(cmd.Context(), func(context.Context) error {
			if d.output == "table" {
				if widthOf(out) > 0 {
					fmt.Fprint(out, clearScreen)
				}
				fmt.Fprintf(out, "%s, %s; Ctrl C ends it\n\n", cmd.CommandPath(), time.Now().Format(time.TimeOnly))
			}
			return ignoringStatus(show(cmd, c))
		})
		if cmd.Context().Err() != nil {
			return nil
		}
		return err
	}
	return command
}

// ignoringStatus is an error that is not only how a command would end.
func ignoringStatus(err error) error {
	if _, only := err.(statusError); only {
		return nil
	}
	return err
}
