package cli

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/url"
	"strconv"

	"github.com/mattn/go-runewidth"
	"github.com/spf13/cobra"

	"kambrel.example/kambrel/core/act"
	"kambrel.example/kambrel/protocol/wire"
)

func newActsCommand(d *deps) *cobra.Command {
	var kind, by, of, key string
	var limit int
	command := &cobra.Command{
		Use: "acts", Short: "List who did what, with before and after", Args: noArguments,
		Long:    "Lists what operators, agents and the host did that changed something, the newest first.\nWith -o json each has what was before and after as data.",
		Example: "  kambrel acts\n  kambrel acts --kind activate-settings -o json\n  kambrel acts --of operator --key ingrid",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := d.client()
			if err != nil {
				return err
			}
			page, err := c.Acts(cmd.Context(), url.Values{"kind": {kind}, "by": {by}, "about": {of}, "key": {key}, "limit": {strconv.Itoa(limit)}})
			if err != nil {
				return err
			}
			return d.print(cmd.OutOrStdout(), page.Items, func(w io.Writer) error {
				if page.Total == 0 {
					fmt.Fprintln(w, "Nothing like that was done.")
				}
				for _, a := range page.Items {
					printAct(w, a)
				}
				if more := page.Total - len(page.Items); more > 0 {
					fmt.Fprintf(w, "%d older: give --limit\n", more)
				}
				return nil
			})
		},
	}
	command.Flags().StringVar(&kind, "kind", "", "only acts of this kind, such as link or activate-settings")
	command.Flags().StringVar(&by, "by", "", "only what this one did")
	command.Flags().StringVar(&of, "of", "", "only what was done to this type of thing: entry, directory, agent, run, settings, operator, token")
	command.Flags().StringVar(&key, "key", "", "only to this one, with --of: a name, id or number")
	command.Flags().IntVar(&limit, "limit", 20, "how many, at most 500")
	return command
}

// mostSide is how much of one side of an act is printed; -o json has all of it.
const mostSide = 160

func printAct(w io.Writer, a wire.Act) {
	result := ""
	if a.Result != act.Done {
		result = " (" + string(a.Result) + ")"
	}
	fmt.Fprintf(w, "%s  %s  %s%s: %s\n", when(&a.At), a.By, a.Kind, result, thingText(a.About, a.Name))
	for _, side := range []struct {
		word string
		text json.RawMessage
	}{{"before", a.Before}, {"after ", a.After}} {
		if len(side.text) > 0 && !bytes.Equal(side.text, []byte("{}")) {
			fmt.Fprintf(w, "    %s  %s\n", side.word, runewidth.Truncate(string(side.text), mostSide, "…"))
		}
	}
	if a.Note != "" {
		fmt.Fprintf(w, "    %s\n", a.Note)
	}
}
