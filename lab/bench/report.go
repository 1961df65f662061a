package main

import (
	"cmp"
	"fmt"
	"path/filepath"
	"runtime"
	"strings"
	"time"
)

// row is one line of the report.
type row struct {
	what  string
	pick  func(figures) float64
	unit  string
	raw   func(figures) float64 // the raw limit beside it, nil for none
	bound float64               // at 100,000 people, 0 for none
}

func milliseconds(pick func(figures) float64) func(figures) float64 {
	return func(f figures) float64 { return pick(f) * 1000 }
}

func rawFirst(f figures) float64 { return f.RawRead + f.RawCopy + f.RawCreate }

func rows() []row {
	pass := func(f figures) float64 { return f.RawPass }
	delta := func(f figures) float64 { return f.RawDelta }
	reset := milliseconds(func(f figures) float64 { return f.RawReset })
	return []row{
		{"first run", func(f figures) float64 { return f.FirstRun }, "s", rawFirst, 60},
		{"— of this read", func(f figures) float64 { return f.FirstRead }, "s", func(f figures) float64 { return f.RawRead }, 0},
		{"— of this plan", func(f figures) float64 { return f.FirstPlan }, "s", nil, 0},
		{"— of this write", func(f figures) float64 { return f.FirstWrite }, "s", func(f figures) float64 { return f.RawCreate }, 0},
		{"first delta", func(f figures) float64 { return f.ReadBack }, "s", nil, 1},
		{"delta without a change", func(f figures) float64 { return f.Idle }, "s", nil, 0},
		{"delta of 100 changes", func(f figures) float64 { return f.Delta }, "s", delta, 2},
		{"a title changed in the directory, until the cloud has it, live, 95 of 100", func(f figures) float64 { return f.Live }, "s", nil, 1},
		{"the same while everybody is rehearsed", func(f figures) float64 { return f.LiveBeside }, "s", nil, 1},
		{"rehearsal of everything, plan", func(f figures) float64 { return f.Rehearsal }, "s", pass, 12},
		{"impact of a draft that excludes one in forty", func(f figures) float64 { return f.Impact }, "s", pass, 12},
		{"survey of everybody", func(f figures) float64 { return f.Survey }, "s", pass, 10},
		{"count of all by a filter", func(f figures) float64 { return f.Preview }, "s", pass, 0},
		{"estimate of it, which comes first while one edits", func(f figures) float64 { return f.Estimate }, "s", nil, 1},
		{"container tree with counts", milliseconds(func(f figures) float64 { return f.Tree }), "ms", nil, 200},
		{"why, one entry", milliseconds(func(f figures) float64 { return f.Why }), "ms", nil, 20},
		{"find, one page", milliseconds(func(f figures) float64 { return f.Find }), "ms", nil, 200},
		{"find by a filter over all attributes", func(f figures) float64 { return f.FindFilter }, "s", pass, 0},
		{"first run of groups: one of 20 members for every 50 people, and one of half of all", func(f figures) float64 { return f.Groups }, "s", nil, 60},
		{"one member more in that largest group", func(f figures) float64 { return f.OneMember }, "s", func(f figures) float64 { return f.RawMember }, 0.3},
		{"delta of 100 changes, with groups", func(f figures) float64 { return f.GroupDelta }, "s", delta, 2},
		{"why, one entry, with groups", milliseconds(func(f figures) float64 { return f.WhyGroups }), "ms", nil, 50},
		{"preview of undoing the first run", func(f figures) float64 { return f.Undo }, "s", nil, 0},
		{"a thousand runs, of one change each, one after the other", func(f figures) float64 { return f.Runs }, "s", nil, 0},
		{"data of the console's pages, 95 of 100 answers", milliseconds(func(f figures) float64 { return f.Pages }), "ms", nil, 200},
		{"— the slowest of all answers", milliseconds(func(f figures) float64 { return f.Slowest }), "ms", nil, 500},
		{"the console opens in an empty browser: over the wire until it can be used", func(f figures) float64 { return f.ConsoleKB }, "kB", nil, 300},
		{"— with what comes afterwards", func(f figures) float64 { return f.ConsoleAll }, "kB", nil, 0},
		{"— until something is to be seen", milliseconds(func(f figures) float64 { return f.Seen }), "ms", nil, 1000},
		{"— until the largest part is", milliseconds(func(f figures) float64 { return f.Largest }), "ms", nil, 1000},
		{"— for how long it could not answer meanwhile", milliseconds(func(f figures) float64 { return f.Blocked }), "ms", nil, 200},
		{"— how far what was to be seen has moved (of 1)", func(f figures) float64 { return f.Moved }, "shift", nil, 0.1},
		{"password reset in the cloud, from request to answer, 95 of 100", milliseconds(func(f figures) float64 { return f.Reset }), "ms", reset, 300},
		{"the same while everybody is read and compared", milliseconds(func(f figures) float64 { return f.ResetRun }), "ms", reset, 300},
		{"service memory, peak", func(f figures) float64 { return f.ServiceMB }, "MB", nil, 300},
		{"agent memory, peak", func(f figures) float64 { return f.AgentMB }, "MB", nil, 0},
		{"database", func(f figures) float64 { return f.DatabaseMB }, "MB", nil, 0},
	}
}

// report writes the figures as a page: each with the raw limit beside it and whether it is
// within its bound, both at 100,000 people where they were measured. What was not measured
// is left out.
func report(all []figures, at time.Time, plot string) string {
	var b strings.Builder
	reference := all[len(all)-1]
	for _, f := range all {
		if f.People == 100_000 {
			reference = f
		}
	}
	fmt.Fprintf(&b, "# Performance\n\nMeasured by `make bench` on %s with %d cores, everything on one machine: OpenLDAP, agent, service,\nPostgreSQL and the cloud stand-in. Times move from run to run; each figure stands beside a raw limit measured in the\nsame run.\n\n",
		at.Format("2006-01-02"), runtime.NumCPU())
	of := thousands(reference.People)
	fmt.Fprintf(&b, "| what | %s | raw limit at %s | ratio | bound at %s | |\n| --- |%s --- | --- | --- | --- |\n", sizes(all), of, of, strings.Repeat(" --- |", len(all)))
	for _, r := range rows() {
		cells, measured := make([]string, len(all)), false
		for i, f := range all {
			if value := r.pick(f); value > 0 {
				cells[i], measured = number(value, r.unit), true
			}
		}
		if !measured {
			continue
		}
		value, limit, ratio, bound, verdict := r.pick(reference), "", "", "", ""
		if r.raw != nil && r.raw(reference) > 0 && value > 0 {
			limit, ratio = number(r.raw(reference), r.unit), fmt.Sprintf("%.1f", value/r.raw(reference))
		}
		if r.bound > 0 && value > 0 {
			bound, verdict = number(r.bound, r.unit), map[bool]string{true: "holds", false: "**missed**"}[value <= r.bound]
		}
		fmt.Fprintf(&b, "| %s | %s | %s | %s | %s | %s |\n", r.what, strings.Join(cells, " | "), limit, ratio, bound, verdict)
	}
	fmt.Fprintf(&b, "\nThe raw limit of the first run is the sum of `ldapsearch` of the same tree (%.1f s), COPY of as many rows (%.1f s) and\nthe stand-in's own create rate in bulk requests (%.1f s). That of a delta is 100 entries read and 100 PATCHes, one after\nanother, that of one member the whole group read and one PATCH. That of a rehearsal, an impact and a survey is one pass over the mirror in SQL. `slapadd` loaded the people in %.1f s. Runs are timed\nfrom being asked for to their end; the delta of 100 changes is the median of %d.\n",
		reference.RawRead, reference.RawCopy, reference.RawCreate, reference.Load, tries)
	if plot != "" {
		fmt.Fprintf(&b, "\n![How the times grow with the number of people](%s)\n", filepath.Base(plot))
	}
	b.WriteString(onPaper(all))
	b.WriteString(recipe)
	return b.String()
}

// onPaper carries the last step of ten times the people on by one more.
func onPaper(all []figures) string {
	if len(all) < 2 || all[len(all)-1].People != 10*all[len(all)-2].People {
		return ""
	}
	before, last := all[len(all)-2], all[len(all)-1]
	next := func(of func(figures) float64) float64 { return of(last) * of(last) / of(before) }
	return fmt.Sprintf("\n## %s people, on paper\n\nIf each figure grows by the factor of the last step once more: a first run of %.1f hours, a database of %.0f GB, a service of %.1f GB. "+
		"A delta, a live change, why and find look things up by index, so they take about what they take now while the indexes fit into memory; counts of all, rehearsals and surveys look at everybody and take ten times as long.\n",
		thousands(10*last.People), next(func(f figures) float64 { return f.FirstRun })/3600, next(func(f figures) float64 { return f.DatabaseMB })/1000, next(func(f figures) float64 { return f.ServiceMB })/1000)
}

// recipe tells how to find out where time goes.
const recipe = `
## Where the time goes

    make bench ARGS='--profile var/profile --sizes 20000 --only "first run$"'

writes for each figure a file with the seconds of a processor that service, agent, PostgreSQL, stand-in and directory took,
the statements that PostgreSQL was busy with (` + "`pg_stat_statements`" + `, also those within triggers), and, where ` + "`perf`" + ` is
installed, what it saw of all processes; ` + "`perf report -g -i FILE.perf --comm kambrel`" + ` goes on from there. ` + "`--hold`" + ` keeps the
installation, to look at it with ` + "`psql`" + `. Look at the ratio to the raw limit, or at seconds of a processor: times alone differ by
half from one hour to the next on a shared machine.
`

func sizes(all []figures) string {
	cells := make([]string, len(all))
	for i, f := range all {
		cells[i] = thousands(f.People) + " people"
	}
	return strings.Join(cells, " | ")
}

func thousands(n int) string {
	text := fmt.Sprint(n)
	for at := len(text) - 3; at > 0; at -= 3 {
		text = text[:at] + "," + text[at:]
	}
	return text
}

func number(value float64, unit string) string {
	form := "%.1f %s"
	switch {
	case unit == "MB":
		form = "%.0f %s"
	case value < 10:
		form = "%.2f %s"
	}
	return fmt.Sprintf(form, value, cmp.Or(unit, "s"))
}
