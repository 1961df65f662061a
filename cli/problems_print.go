package cli

import (
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"kambrel.example/kambrel/core/about"
	"kambrel.example/kambrel/core/act"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/remedy"
	"kambrel.example/kambrel/protocol/wire"
)

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
		general := sharedRemedies(list)
		for _, p := range list {
			detail := p.Detail
			if domains != "" { // said above
				p.Facts.Domains = nil
				detail = problem.Of(problem.Code(p.Code), p.Facts).Detail
			}
			number := ""
			if p.ID != 0 {
				number = fmt.Sprintf("  (problem %d)", p.ID)
			}
			fmt.Fprintf(w, "  %s%s\n    %s\n", thingText(p.About, p.Name), number, detail)
			if since == "" {
				fmt.Fprintf(w, "    %s\n", sinceText(p))
			}
			for _, line := range marksOf(p) {
				fmt.Fprintf(w, "    %s\n", line)
			}
			printRemedies(w, "    ", slices.DeleteFunc(slices.Clone(p.Remedies), func(r remedy.Remedy) bool { return len(general) > 0 && isGeneral(r) }))
		}
		printRemedies(w, "  ", general)
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
	case p.Closed != nil && p.ClosedRun > 0:
		return fmt.Sprintf("from %s to %s: %s, as run %d has found", when(&p.Since), when(p.Closed), p.Closing, p.ClosedRun)
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

// isGeneral tells whether a remedy may help with anything of its kind: the same one for
// each is said once.
func isGeneral(r remedy.Remedy) bool {
	return r.Act == act.RepairValue || r.Act == act.Activate || r.Act == act.SyncOne || r.Act == act.StartRun
}

// sharedRemedies are those that may help with each of several problems, with a place for
// the one that is meant; none where there is one problem, or they are closed.
func sharedRemedies(list []wire.Problem) (general []remedy.Remedy) {
	if len(list) < 2 {
		return nil
	}
	for _, p := range list {
		for _, r := range p.Remedies {
			if r.Entry != "" {
				r.Command = strings.ReplaceAll(r.Command, r.Entry, "ENTRY")
			}
			if isGeneral(r) && !slices.ContainsFunc(general, func(other remedy.Remedy) bool { return other.Command == r.Command && other.Title == r.Title }) {
				general = append(general, r)
			}
		}
	}
	return general
}

// marksOf is what people say of a problem, a line each.
func marksOf(p wire.Problem) (lines []string) {
	if p.Assigned != "" {
		lines = append(lines, p.Assigned+" looks after it")
	}
	if p.Asleep != nil && p.Asleep.After(time.Now()) {
		lines = append(lines, "asleep until "+p.Asleep.Local().Format(time.DateOnly))
	}
	if p.Note != "" {
		lines = append(lines, fmt.Sprintf("note of %s: %s", p.MarkedBy, p.Note))
	}
	return lines
}
