package cli

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/url"
	"strconv"
	"time"

	"github.com/mattn/go-runewidth"
	"github.com/spf13/cobra"

	"kambrel.example/kambrel/cli/terminal"
	"kambrel.example/kambrel/core/act"
	"kambrel.example/kambrel/protocol/wire"
)

func newActsCommand(d *deps) *cobra.Command {
	var kind, by, of, key, result, text, since, until string
	var limit int
	var asCSV bool
	command := &cobra.Command{
		Use: "acts", Short: "List who did what, with before and after", Args: terminal.NoArguments,
		Long:    "Lists what operators, agents and the host did that changed something, the newest first:\nwho, from where, to what, with before and after, and what came of it. With -o json each has\nwhat was before and after as data; --csv prints all that fit as CSV (RFC 4180).",
		Example: "  kambrel acts\n  kambrel acts --kind activate-settings -o json\n  kambrel acts --of operator --key ingrid\n  kambrel acts --since 24h --by ingrid\n  kambrel acts --since 2026-11-01 --csv > acts.csv",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := d.client()
			if err != nil {
				return err
			}
			query := url.Values{"kind": {kind}, "by": {by}, "about": {of}, "key": {key}, "result": {result}, "text": {text}, "limit": {strconv.Itoa(limit)}}
			for name, given := range map[string]string{"since": since, "until": until} {
				if given == "" {
					continue
				}
				moment, err := momentOf(given, time.Now())
				if err != nil {
					return fmt.Errorf("--%s: %w", name, err)
				}
				query.Set(name, moment.Format(time.RFC3339Nano))
			}
			if asCSV {
				query.Del("limit")
				return c.ActsCSV(cmd.Context(), query, cmd.OutOrStdout())
			}
			page, err := c.Acts(cmd.Context(), query)
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
	command.Flags().StringVar(&result, "result", "", "only what came to this: done, refused, failed")
	command.Flags().StringVar(&text, "text", "", "only acts of which a name, the note, or what was before or after contains this")
	command.Flags().StringVar(&since, "since", "", "only since a time: 2h for two hours ago, 17:30, 2026-11-25, '2026-11-25 17:30', or RFC 3339")
	command.Flags().StringVar(&until, "until", "", "only before a time")
	command.Flags().BoolVar(&asCSV, "csv", false, "print all that fit as CSV (RFC 4180)")
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
	from := ""
	if a.Origin != "" {
		from = " from " + a.Origin
	}
	fmt.Fprintf(w, "%s  %s%s  %s%s: %s\n", when(&a.At), a.By, from, a.Kind, result, thingText(a.About, a.Name))
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
