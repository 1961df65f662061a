package cli

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"github.com/mattn/go-runewidth"
	"github.com/spf13/cobra"

	"kambrel.example/kambrel/client"
	"kambrel.example/kambrel/core/about"
	"kambrel.example/kambrel/core/act"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/remedy"
	"kambrel.example/kambrel/protocol/wire"
)

func newProblemsCommand(d *deps) *cobra.Command {
	var code, of string
	var limit int
	var kinds, closed bool
	command := &cobra.Command{
		Use: "problems", Short: "List what keeps things from being in step, and what can be done", Args: noArguments,
		Example: "  kambrel problems\n  kambrel problems --code duplicate-login\n  kambrel problems --of agent\n  kambrel problems --closed\n  kambrel problems --kinds",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := d.client()
			if err != nil {
				return err
			}
			if kinds {
				return d.printKinds(cmd, c)
			}
			page, err := c.Problems(cmd.Context(), url.Values{"limit": {strconv.Itoa(limit)}, "code": {code}, "about": {of}, "closed": {strconv.FormatBool(closed)}})
			if err != nil {
				return err
			}
			return d.print(cmd.OutOrStdout(), page.Items, func(w io.Writer) error {
				if page.Total == 0 {
					fmt.Fprintln(w, map[bool]string{false: "No open problems.", true: "No problem has been closed yet."}[closed])
				}
				printProblems(w, page.Items)
				if more := page.Total - len(page.Items); more > 0 {
					fmt.Fprintf(w, "%d more: give --limit\n", more)
				}
				return nil
			})
		},
	}
	command.Flags().BoolVar(&kinds, "kinds", false, "list every kind there is, with its cause and what to do")
	command.Flags().BoolVar(&closed, "closed", false, "list those that were closed, the last first")
	command.Flags().StringVar(&code, "code", "", "only problems with this code")
	command.Flags().StringVar(&of, "of", "", "only those of this type of thing: entry, directory, agent, cloud, run, settings, service")
	command.Flags().IntVar(&limit, "limit", 50, "how many, at most 500")
	return command
}

// printProblems says what is the same for a code once, and beneath it each thing
// that has the problem.
func printProblems(w io.Writer, problems []wire.Problem) {
	var codes []string
	byCode := map[string][]wire.Problem{}
	for _, p := range problems {
		if byCode[p.Code] == nil {
			codes = append(codes, p.Code)
		}
		byCode[p.Code] = append(byCode[p.Code], p)
	}
	for _, code := range codes {
		list := byCode[code]
		fmt.Fprintf(w, "%s  [%s]\n  %s\n", list[0].Title, code, list[0].Cause)
		if list[0].Closed == nil {
			fmt.Fprintf(w, "  %s\n", list[0].Remedy)
		}
		domains, since := shared(list, func(p wire.Problem) string { return p.Facts.DomainsText() }), shared(list, sinceText)
		for _, line := range []string{domains, since} {
			if line != "" {
				fmt.Fprintf(w, "  All %d: %s\n", len(list), line)
			}
		}
		if domains == "" {
			fmt.Fprintln(w)
		}
		list = printAlike(w, list)
		for _, p := range list {
			detail := p.Detail
			if domains != "" { // said above
				p.Facts.Domains = nil
				detail = problem.Of(problem.Code(p.Code), p.Facts).Detail
			}
			fmt.Fprintf(w, "  %s\n    %s\n", thingText(p.About, p.Name), detail)
			if since == "" {
				fmt.Fprintf(w, "    %s\n", sinceText(p))
			}
			printRemedies(w, "    ", p.Remedies)
		}
		fmt.Fprintln(w)
	}
}

// mostAlike is from how many alike ones on one line stands for all.
const mostAlike = 4

// sayOnce lets say tell once of those that have the same key, where they are many, and
// returns the others; "" is the key of none.
func sayOnce[T any](list []T, key func(T) string, say func(key string, alike []T)) (others []T) {
	alike := map[string][]T{}
	for _, one := range list {
		alike[key(one)] = append(alike[key(one)], one)
	}
	said := map[string]bool{"": true}
	for _, one := range list {
		of := key(one)
		switch {
		case of == "" || len(alike[of]) < mostAlike:
			others = append(others, one)
		case !said[of]:
			said[of] = true
			say(of, alike[of])
		}
	}
	return others
}

// printAlike says once what many problems have in common, with whom they have, and
// returns the others.
func printAlike(w io.Writer, list []wire.Problem) []wire.Problem {
	return sayOnce(list, func(p wire.Problem) string { return p.Facts.Alike() }, func(what string, alike []wire.Problem) {
		names := make([]string, mostAlike)
		for i := range names {
			names[i] = alike[i].Name
		}
		more := ""
		if len(alike) > mostAlike {
			more = fmt.Sprintf(" and %d more; -o json has them all", len(alike)-mostAlike)
		}
		fmt.Fprintf(w, "  %d times: %s\n    %s%s\n", len(alike), what, strings.Join(names, "; "), more)
	})
}

// sinceText tells when a problem was there.
func sinceText(p wire.Problem) string {
	switch {
	case p.Closed != nil:
		return fmt.Sprintf("from %s to %s: %s", when(&p.Since), when(p.Closed), p.Closing)
	case p.Times > 1:
		return fmt.Sprintf("since %s, met by %d runs", when(&p.Since), p.Times)
	}
	return "since " + when(&p.Since)
}

// shared is the text that all of several problems have, "" where there is none.
func shared(list []wire.Problem, text func(wire.Problem) string) string {
	first := text(list[0])
	if len(list) == 1 || slices.ContainsFunc(list, func(p wire.Problem) bool { return text(p) != first }) {
		return ""
	}
	return first
}

// thingText says what something is about: by its name, where it has one.
func thingText(thing about.Thing, name string) string {
	switch {
	case name == "":
		return string(thing.Type)
	case name == thing.Key && thing.Type != about.Operator && thing.Type != about.Directory:
		return string(thing.Type) + " " + name
	}
	return name
}

// mostRemedies is how many commands are printed for one problem.
const mostRemedies = 4

// printRemedies prints what can be done as commands, with when each is right.
func printRemedies(w io.Writer, indent string, remedies []remedy.Remedy) {
	for i, r := range remedies {
		if i == mostRemedies {
			fmt.Fprintf(w, "%s  and %d more\n", indent, len(remedies)-i)
			return
		}
		fmt.Fprintf(w, "%s> %s   %s\n", indent, r.Command, r.Reason())
	}
}

func (d *deps) printKinds(cmd *cobra.Command, c *client.Client) error {
	kinds, err := c.ProblemKinds(cmd.Context())
	if err != nil {
		return err
	}
	return d.print(cmd.OutOrStdout(), kinds, func(w io.Writer) error {
		for _, kind := range kinds {
			if _, err := fmt.Fprintf(w, "%s  [%s]\n  %s\n  %s\n\n", kind.Title, kind.Code, kind.Cause, kind.Remedy); err != nil {
				return err
			}
		}
		return nil
	})
}

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
