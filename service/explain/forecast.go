package explain

import (
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"strings"

	"kambrel.example/kambrel/core/change"
	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/core/sheet"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/formula"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/reason"
	"kambrel.example/kambrel/protocol/wire"
	"kambrel.example/kambrel/service/store"
	"kambrel.example/kambrel/service/views"
)

// Leavers lists whose resources are deleted when their grace time is over, the first
// ones first.
func (e *Explain) Leavers(ctx context.Context, offset, limit int) ([]store.Leaver, int, error) {
	active, _, err := e.store.Settings.Active(ctx)
	if err != nil {
		return nil, 0, err
	}
	return e.store.Links.Leavers(ctx, store.GraceOf(active.Document), offset, limit)
}

// Forecast starts a rehearsal of everybody: by the draft, or by the active
// settings.
func (e *Explain) Forecast(ctx context.Context, by string, draft bool) (int64, error) {
	if draft {
		return e.setup.Impact(ctx, by)
	}
	if err := e.someActive(ctx); err != nil {
		return 0, err
	}
	return e.jobs.Request(ctx, store.Run{Purpose: purpose.Forecast, By: by})
}

// someActive tells what to do instead where no settings are active yet.
func (e *Explain) someActive(ctx context.Context) error {
	draft, active, err := e.store.Settings.CurrentDraft(ctx)
	switch {
	case err != nil || active.Revision > 0:
		return err
	case draft.Version > 0:
		return problem.New(problem.NoSettings, "there is a draft, version %d: 'kambrel forecast --draft' forecasts by it, 'kambrel settings activate' makes it the active settings.", draft.Version)
	}
	return problem.New(problem.NoSettings, "begin with a directory in the draft: 'kambrel directory add NAME --dialect ad --base DC=...'.")
}

// ForecastOf counts what a rehearsal of everybody came to; 0 is the newest.
func (e *Explain) ForecastOf(ctx context.Context, id int64) (wire.Forecast, error) {
	run, err := e.forecastRun(ctx, id)
	if err != nil {
		return wire.Forecast{}, err
	}
	out := wire.Forecast{Run: views.Run(run)}
	outcomes, err := e.store.Changes.Outcomes(ctx, run.ID)
	out.Outcomes = views.List(outcomes, views.Outcome)
	return out, err
}

func (e *Explain) forecastRun(ctx context.Context, id int64) (store.Run, error) {
	if id == 0 {
		run, ok, err := e.store.Runs.LastForecast(ctx)
		if err == nil && !ok {
			err = problem.New(problem.NotFound, "nothing was forecast yet: run 'kambrel forecast'.")
		}
		return run, err
	}
	run, err := e.store.Runs.Get(ctx, id)
	if store.NotFound(err) || err == nil && run.Purpose != purpose.Forecast && run.Purpose != purpose.Impact {
		err = problem.New(problem.NotFound, "run %d is no forecast.", id)
	}
	return run, err
}

// Unclaimed lists resources that no entry has or would have after a forecast.
func (e *Explain) Unclaimed(ctx context.Context, id int64, q store.UnclaimedQuery) ([]store.CloudOnly, int, error) {
	run, err := e.forecastRun(ctx, id)
	if err != nil {
		return nil, 0, err
	}
	q.Run = run.ID
	return e.store.Resources.Unclaimed(ctx, q)
}

// exportPage is how many changes an export holds at once.
const exportPage = 1000

var changeColumns = []string{"kind", "outcome", "state", "name", "dn", "directory", "entry", "resource", "detail", "changes"}

// ExportChanges writes the changes and problems of a run, such as a forecast, as
// CSV (RFC 4180).
func (e *Explain) ExportChanges(ctx context.Context, q store.ChangeQuery, to io.Writer) error {
	w := csv.NewWriter(to)
	_ = w.Write(changeColumns) // errors are told by Error
	q.Limit = exportPage
	for {
		changes, _, err := e.store.Changes.List(ctx, q)
		if err != nil {
			return fmt.Errorf("export the changes of run %d: %w", q.Run, err)
		}
		for _, c := range changes {
			outcome := c.Operation
			if c.Code != "" {
				outcome = c.Code
			}
			texts := make([]string, 0, len(c.Diffs))
			for _, node := range change.Explain(c.Diffs) {
				texts = append(texts, node.Text+": "+node.Value+" ("+node.Source+")")
			}
			_ = w.Write(sheet.Cells(string(c.Kind), outcome, c.State, c.Name, c.DN, c.Directory, c.EntryID, c.ResourceID, c.Answer, strings.Join(texts, "\n")))
		}
		if w.Flush(); w.Error() != nil || len(changes) < exportPage {
			return w.Error()
		}
		q.After = changes[len(changes)-1].ID
	}
}

// TryFormula works a formula out on an entry of the mirror or on typed values.
func (e *Explain) TryFormula(ctx context.Context, in wire.TryFormula) (wire.TriedFormula, error) {
	out := wire.TriedFormula{Faults: []problem.Fault{}, Parts: []reason.Node{}, Reads: []string{}}
	compile := formula.Compile
	if in.Over == "resource" {
		compile = formula.CompileOfResource
	}
	compiled, err := compile(in.Formula)
	var failure *formula.CompileError
	switch {
	case errors.As(err, &failure):
		for _, f := range failure.Faults {
			out.Faults = append(out.Faults, problem.Fault{Path: "formula", Message: f.Message, Line: f.Line, Column: f.Column})
		}
		return out, nil
	case err != nil:
		return out, err
	}
	out.Reads = append(out.Reads, compiled.Attributes()...)
	on := entry.Entry{DN: in.DN, Kind: entry.User, Attributes: in.Attributes, AllGroups: in.Groups}
	switch {
	case in.Entry != "" && in.Over == "resource":
		group, err := e.store.Resources.GroupNamed(ctx, in.Entry)
		if store.NotFound(err) {
			return out, problem.New(problem.NotFound, "the cloud has no group %q", in.Entry)
		}
		if err != nil {
			return out, err
		}
		on = entry.Entry{Kind: entry.Group, Attributes: group.Flat()}
	case in.Entry != "":
		if on, err = e.entryNamed(ctx, in.Entry); err != nil {
			return out, err
		}
	}
	out.DN, out.Attributes = on.DN, map[string][]string{}
	for _, name := range compiled.Attributes() {
		out.Attributes[name] = append([]string{}, on.Attributes.All(name)...)
	}
	node := compiled.Explain(on)
	out.Parts = append(out.Parts, node.Children...)
	if _, err := compiled.Evaluate(on); err != nil {
		out.Error = err.Error()
		return out, nil
	}
	out.Value = node.Value
	return out, nil
}

// entryNamed finds an entry with the groups that hold it.
func (e *Explain) entryNamed(ctx context.Context, text string) (entry.Entry, error) {
	hit, err := e.ResolveEntry(ctx, text)
	if err != nil {
		return entry.Entry{}, err
	}
	if hit.EntryID == "" {
		return entry.Entry{}, problem.New(problem.BadInput, "%q is a resource that no entry owns.", text)
	}
	ref, err := RefOf(hit)
	if err != nil {
		return entry.Entry{}, err
	}
	found, err := e.store.Entries.Get(ctx, ref.Directory, ref.ID)
	if err != nil {
		return found, err
	}
	return found, e.store.Facts.FillGroups(ctx, []*entry.Entry{&found})
}
