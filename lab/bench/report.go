package main

import (
	"fmt"
	"runtime"
	"strings"
	"time"
)

// report writes the figures as a page: each target with what was measured, the
// raw limit beside it, and whether it holds.
func report(all []figures, at time.Time) string {
	var b strings.Builder
	largest, smallest := all[len(all)-1], all[0]
	fmt.Fprintf(&b, "# Performance\n\nMeasured by `make bench` on %s with %d cores, everything on one machine: OpenLDAP, agent, service,\nPostgreSQL and the cloud stand-in. Times move from run to run; each figure stands beside a raw limit measured in the\nsame run.\n\n",
		at.Format("2006-01-02"), runtime.NumCPU())
	fmt.Fprintf(&b, "| what | %s | raw limit | ratio | bound | |\n| --- | --- | --- | --- | --- | --- |\n", sizes(all))
	row := func(what string, pick func(figures) float64, unit string, raw func(figures) float64, bound string, holds bool) {
		cells := make([]string, len(all))
		for i, f := range all {
			cells[i] = number(pick(f), unit)
		}
		limit, ratio := "", ""
		if raw != nil {
			limit, ratio = number(raw(largest), unit), fmt.Sprintf("%.1f", pick(largest)/raw(largest))
		}
		verdict := ""
		if bound != "" {
			verdict = map[bool]string{true: "holds", false: "**missed**"}[holds]
		}
		fmt.Fprintf(&b, "| %s | %s | %s | %s | %s | %s |\n", what, strings.Join(cells, " | "), limit, ratio, bound, verdict)
	}
	rawFirst := func(f figures) float64 { return f.RawRead + f.RawCopy + f.RawCreate }
	row("first run", func(f figures) float64 { return f.FirstRun }, "s", rawFirst, "60 s", largest.FirstRun <= 60)
	row("— of this read", func(f figures) float64 { return f.FirstRead }, "s", func(f figures) float64 { return f.RawRead }, "", true)
	row("— of this write", func(f figures) float64 { return f.FirstWrite }, "s", func(f figures) float64 { return f.RawCreate }, "", true)
	row("first delta, which reads back what was written", func(f figures) float64 { return f.ReadBack }, "s", nil, "", true)
	row("delta without a change", func(f figures) float64 { return f.Idle }, "s", nil, "", true)
	row("delta of 100 changes", func(f figures) float64 { return f.Delta }, "s", func(f figures) float64 { return f.RawDelta }, "2 s", largest.Delta <= 2)
	if len(all) > 1 {
		ratio := largest.Delta / smallest.Delta
		fmt.Fprintf(&b, "| the same, compared with %s people |%s %.2f times | | | 1.5 times | %s |\n", thousands(smallest.People), strings.Repeat(" |", len(all)-1), ratio, map[bool]string{true: "holds", false: "**missed**"}[ratio <= 1.5])
	}
	row("a title changed in the directory, until the cloud has it, live, 95 of 100", func(f figures) float64 { return f.Live }, "s", nil, "1 s", largest.Live <= 1)
	row("the same while everybody is rehearsed", func(f figures) float64 { return f.LiveBeside }, "s", nil, "1 s", largest.LiveBeside <= 1)
	row("rehearsal of everything, plan", func(f figures) float64 { return f.Rehearsal }, "s", func(f figures) float64 { return f.RawPass }, "12 s", largest.Rehearsal <= 12)
	row("impact of a draft that excludes one in forty", func(f figures) float64 { return f.Impact }, "s", func(f figures) float64 { return f.RawPass }, "12 s", largest.Impact <= 12)
	row("survey of everybody", func(f figures) float64 { return f.Survey }, "s", func(f figures) float64 { return f.RawPass }, "10 s", largest.Survey <= 10)
	row("live count of a filter while it is edited", func(f figures) float64 { return f.Preview }, "s", func(f figures) float64 { return f.RawPass }, "", true)
	row("container tree with counts", func(f figures) float64 { return f.Tree * 1000 }, "ms", nil, "200 ms", largest.Tree <= 0.2)
	row("why, one entry", func(f figures) float64 { return f.Why * 1000 }, "ms", nil, "", true)
	row("find, one page", func(f figures) float64 { return f.Find * 1000 }, "ms", nil, "", true)
	row("find by a filter over all attributes", func(f figures) float64 { return f.FindFilter }, "s", func(f figures) float64 { return f.RawPass }, "", true)
	row("first run of groups: one of 20 members for every 50 people, and one of half of all", func(f figures) float64 { return f.Groups }, "s", nil, "60 s", largest.Groups <= 60)
	row("one member more in that largest group", func(f figures) float64 { return f.OneMember }, "s", func(f figures) float64 { return f.RawMember }, "0.3 s", largest.OneMember <= 0.3)
	row("delta of 100 changes, with groups", func(f figures) float64 { return f.GroupDelta }, "s", func(f figures) float64 { return f.RawDelta }, "2 s", largest.GroupDelta <= 2)
	row("why, one entry, with groups", func(f figures) float64 { return f.WhyGroups * 1000 }, "ms", nil, "50 ms", largest.WhyGroups <= 0.05)
	row("preview of undoing the first run", func(f figures) float64 { return f.Undo }, "s", nil, "", true)
	row("a thousand runs, of one change each, one after the other", func(f figures) float64 { return f.Runs }, "s", nil, "", true)
	row("data of the console's pages with their history, 95 of 100 answers", func(f figures) float64 { return f.Pages * 1000 }, "ms", nil, "200 ms", largest.Pages <= 0.2)
	row("— the slowest of all answers", func(f figures) float64 { return f.Slowest * 1000 }, "ms", nil, "500 ms", largest.Slowest <= 0.5)
	row("password reset in the cloud, from request to answer, 95 of 100", func(f figures) float64 { return f.Reset * 1000 }, "ms", func(f figures) float64 { return f.RawReset * 1000 }, "300 ms", largest.Reset <= 0.3)
	row("the same while everybody is read and compared", func(f figures) float64 { return f.ResetRun * 1000 }, "ms", func(f figures) float64 { return f.RawReset * 1000 }, "300 ms", largest.ResetRun <= 0.3)
	row("service memory, peak", func(f figures) float64 { return f.ServiceMB }, "MB", nil, "300 MB", largest.ServiceMB < 300)
	row("agent memory, peak", func(f figures) float64 { return f.AgentMB }, "MB", nil, "", true)
	fmt.Fprintf(&b, "\nThe raw limit of the first run is the sum of `ldapsearch` of the same tree (%.1f s), COPY of as many rows (%.1f s) and\nthe stand-in's own create rate in bulk requests (%.1f s). That of a delta is 100 entries read and 100 PATCHes, one after\nanother, that of one member the whole group read and one PATCH. That of a rehearsal, an impact and a survey is one pass over the mirror in SQL. `slapadd` loaded the people in %.1f s. Runs are timed\nfrom being asked for to their end; the delta of 100 changes is the median of %d.\n",
		largest.RawRead, largest.RawCopy, largest.RawCreate, largest.Load, tries)
	return b.String()
}

func sizes(all []figures) string {
	cells := make([]string, len(all))
	for i, f := range all {
		cells[i] = thousands(f.People) + " people"
	}
	return strings.Join(cells, " | ")
}

func thousands(n int) string {
	if n >= 1000 {
		return fmt.Sprintf("%d,%03d", n/1000, n%1000)
	}
	return fmt.Sprint(n)
}

func number(value float64, unit string) string {
	switch {
	case unit == "MB":
		return fmt.Sprintf("%.0f %s", value, unit)
	case value < 10:
		return fmt.Sprintf("%.2f %s", value, unit)
	}
	return fmt.Sprintf("%.1f %s", value, unit)
}
