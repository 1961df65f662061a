package health

import (
	"context"
	"encoding/csv"
	"io"
	"strconv"
	"time"

	"kambrel.example/kambrel/core/act"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/core/sheet"
	"kambrel.example/kambrel/protocol/wire"
	"kambrel.example/kambrel/service/store"
	"kambrel.example/kambrel/service/views"
)

const (
	// mostReported is how many things of a part are named.
	mostReported = 200
	longest      = 366 * 24 * time.Hour
)

// period checks from when until when a report is.
func period(from, to time.Time) (store.Period, error) {
	switch {
	case !from.Before(to):
		return store.Period{}, problem.New(problem.BadInput, "a report is from a time until a later one.")
	case to.Sub(from) > longest:
		return store.Period{}, problem.New(problem.BadInput, "a report is of a year at most.")
	}
	return store.Period{From: from, To: to}, nil
}

// Report tells what came of a time: who came, changed and left, what failed, problems, and
// who did what.
func (e *Health) Report(ctx context.Context, from, to time.Time) (wire.Report, error) {
	report := wire.Report{From: from, To: to}
	p, err := period(from, to)
	if err != nil {
		return report, err
	}
	of := e.store.Reports
	if report.Runs, report.Failures, err = of.RunCounts(ctx, p); err != nil {
		return report, err
	}
	counts, err := of.Counts(ctx, p)
	if err != nil {
		return report, err
	}
	report.Counts = views.List(counts, func(c store.ReportCount) wire.ReportCount { return wire.ReportCount(c) })
	for part, into := range map[store.ReportPart]*wire.ReportPart{store.Came: &report.Came, store.Left: &report.Left, store.Changed: &report.Changed, store.Failed: &report.Failed} {
		lines, total, err := of.Lines(ctx, p, part, mostReported)
		if err != nil {
			return report, err
		}
		*into = wire.ReportPart{Total: total, Items: views.List(lines, reportLine)}
	}
	problems, err := of.Problems(ctx, p)
	if err != nil {
		return report, err
	}
	report.Problems = views.List(problems, func(r store.ReportProblem) wire.ReportProblem {
		return wire.ReportProblem{Code: r.Code, Title: problem.Describe(problem.Code(r.Code)).Title, Opened: r.Opened, Closed: r.Closed, Open: r.Open}
	})
	acts, err := of.Acts(ctx, p)
	report.Acts = views.List(acts, func(a store.ReportAct) wire.ReportAct {
		return wire.ReportAct{By: a.By, Kind: a.Kind, Title: act.Describe(act.Kind(a.Kind)).Title, Count: a.Count}
	})
	return report, err
}

func reportLine(l store.ReportLine) wire.ReportLine {
	return wire.ReportLine{At: l.At, Kind: l.Kind, Name: l.Name, DN: l.DN, Directory: l.Directory, EntryID: l.EntryID, Operation: l.Operation, RunID: l.RunID, By: l.By, Released: purpose.Purpose(l.Purpose) == purpose.Release, Answer: l.Answer}
}

// ReportCSV writes everything that a report names as CSV (RFC 4180).
func (e *Health) ReportCSV(ctx context.Context, from, to time.Time, out io.Writer) error {
	p, err := period(from, to)
	if err != nil {
		return err
	}
	w := csv.NewWriter(out)
	_ = w.Write([]string{"part", "at", "kind", "name", "dn", "directory", "entry_id", "operation", "run", "by", "released", "answer"}) // errors are told by Error
	for _, part := range []store.ReportPart{store.Came, store.Left, store.Changed, store.Failed} {
		lines, _, err := e.store.Reports.Lines(ctx, p, part, 0)
		if err != nil {
			return err
		}
		for _, l := range lines {
			v := reportLine(l)
			_ = w.Write(sheet.Cells(string(part), v.At.UTC().Format(time.RFC3339), v.Kind, v.Name, v.DN, v.Directory, v.EntryID, v.Operation, strconv.FormatInt(v.RunID, 10), v.By, strconv.FormatBool(v.Released), v.Answer))
		}
		w.Flush()
	}
	return w.Error()
}
