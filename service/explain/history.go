package explain

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"time"

	"kambrel.example/kambrel/core/about"
	"kambrel.example/kambrel/core/act"
	"kambrel.example/kambrel/core/change"
	"kambrel.example/kambrel/core/decide"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/plan"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/protocol/wire"
	"kambrel.example/kambrel/service/judging"
	"kambrel.example/kambrel/service/store"
)

// momentsAtOnce is how much of a history is told at once.
const momentsAtOnce = 100

// HistoryOf tells what happened to an object before a time, the newest first: what was seen
// of its entry and its resource, what runs have done, its problems, and what people did.
func (e *Explain) HistoryOf(ctx context.Context, hit store.Hit, before time.Time) (wire.ObjectHistory, error) {
	active, _, err := e.store.Settings.Active(ctx)
	if err != nil {
		return wire.ObjectHistory{}, err
	}
	h := &history{Explain: e, before: before, since: time.Now().Add(-active.Document.History.Keep())}
	if hit.Name, err = e.nameOf(ctx, hit); err != nil {
		return h.view, err
	}
	h.view = wire.ObjectHistory{Name: hit.Name, Since: h.since, Moments: []wire.Moment{}}
	var resources []string
	if hit.EntryID == "" {
		h.view.Thing, resources = about.Thing{Type: about.Resource, Key: hit.ResourceID}, []string{hit.ResourceID}
	} else {
		ref, err := RefOf(hit)
		if err != nil {
			return h.view, err
		}
		h.view.Thing = about.EntryOf(ref)
		links, err := e.store.History.Links(ctx, ref)
		if err != nil {
			return h.view, err
		}
		for _, link := range links {
			if !slices.Contains(resources, link.ResourceID) {
				resources = append(resources, link.ResourceID)
			}
		}
		if err := h.ofEntry(ctx, ref); err != nil {
			return h.view, err
		}
	}
	for _, part := range []func() error{
		func() error { return h.ofResources(ctx, resources) },
		func() error { return h.problems(ctx) },
		func() error { return h.acts(ctx, resources) },
	} {
		if err := part(); err != nil {
			return h.view, err
		}
	}
	slices.SortStableFunc(h.view.Moments, func(a, b wire.Moment) int { return b.At.Compare(a.At) })
	if len(h.view.Moments) > momentsAtOnce {
		h.view.Moments = h.view.Moments[:momentsAtOnce]
		h.view.Before = &h.view.Moments[momentsAtOnce-1].At
	}
	return h.view, h.signs(ctx)
}

// nameOf is what people call what was found: of an entry its distinguished name.
func (e *Explain) nameOf(ctx context.Context, hit store.Hit) (string, error) {
	if hit.EntryID == "" || hit.DN != "" {
		return cmp.Or(hit.DN, hit.Name, hit.ResourceID), nil
	}
	ref, err := RefOf(hit)
	if err != nil {
		return "", err
	}
	one, err := e.store.Entries.Get(ctx, ref.Directory, ref.ID)
	return one.DN, err
}

// history is a history on its way.
type history struct {
	*Explain
	view          wire.ObjectHistory
	before, since time.Time
}

func (h *history) add(m wire.Moment) {
	if !m.At.Before(h.before) || m.At.Before(h.since) {
		return
	}
	if m.Diffs == nil {
		m.Diffs = []change.Diff{}
	}
	h.view.Moments = append(h.view.Moments, m)
}

// most is how many versions are looked at: enough for a page whatever else there is.
const mostVersions = 5000

func (h *history) ofEntry(ctx context.Context, ref entry.Ref) error {
	versions, err := h.store.History.Entries(ctx, ref, h.since, mostVersions)
	if err != nil {
		return err
	}
	if n := len(versions); n > 0 {
		h.add(wire.Moment{At: versions[n-1].Seen, Kind: "entry", Text: "first read from the directory " + ref.Directory})
	}
	for i, v := range versions {
		if v.Until == nil {
			continue
		}
		next := versions[i-1].Entry
		m := wire.Moment{At: *v.Until, Kind: "entry", Diffs: change.Between(v.Entry.Attributes, next.Attributes)}
		if v.Entry.DN != next.DN {
			m.Diffs = append([]change.Diff{{Target: "dn", Before: v.Entry.DN, After: next.DN}}, m.Diffs...)
		}
		switch {
		case next.Gone && !v.Entry.Gone:
			m.Text = "deleted from the directory"
		case !next.Gone && v.Entry.Gone:
			m.Text = "back in the directory"
		case v.Entry.DN != next.DN:
			m.Text = "renamed or moved in the directory"
		default:
			m.Text = "changed in the directory"
		}
		h.add(m)
	}
	changes, err := h.store.Changes.OfEntry(ctx, ref, mostVersions)
	if err != nil {
		return err
	}
	for _, c := range changes {
		at := cmp.Or(c.Answered, c.Sent)
		if at == nil {
			continue
		}
		m := wire.Moment{At: *at, Kind: "change", Text: c.Operation, RunID: c.RunID, State: c.State, Detail: c.Answer, Diffs: c.Diffs}
		if c.Side == change.Directory {
			m.Text += " in the directory"
		}
		h.add(m)
	}
	return nil
}

// ofResources tells what others have done to resources.
func (h *history) ofResources(ctx context.Context, ids []string) error {
	for _, id := range ids {
		versions, err := h.store.History.Resources(ctx, []string{id}, h.since, mostVersions)
		if err != nil {
			return err
		}
		for i, v := range versions {
			switch {
			case v.Until == nil || v.Ours:
			case v.Dropped:
				h.add(wire.Moment{At: *v.Until, Kind: "resource", Text: "gone from the cloud", Detail: id})
			case i > 0:
				h.add(wire.Moment{At: *v.Until, Kind: "resource", Text: "changed in the cloud by others", Detail: id, Diffs: change.BetweenResources(v.Resource, versions[i-1].Resource)})
			}
		}
	}
	return nil
}

func (h *history) problems(ctx context.Context) error {
	problems, err := h.store.History.ProblemsOf(ctx, h.view.Thing, mostVersions)
	if err != nil {
		return err
	}
	for _, p := range problems {
		title := problem.Describe(p.Code).Title
		h.add(wire.Moment{At: p.Since, Kind: "problem", Text: "problem: " + title, Detail: p.Detail, RunID: p.FirstRun, ProblemID: p.ID})
		if p.Closed != nil {
			h.add(wire.Moment{At: *p.Closed, Kind: "solved", Text: "problem over: " + title, Detail: p.Closing, RunID: p.ClosedRun, ProblemID: p.ID})
		}
	}
	return nil
}

func (h *history) acts(ctx context.Context, resources []string) error {
	things := []about.Thing{h.view.Thing}
	for _, id := range resources {
		if thing := (about.Thing{Type: about.Resource, Key: id}); thing != h.view.Thing {
			things = append(things, thing)
		}
	}
	for _, thing := range things {
		acts, _, err := h.store.Acts.List(ctx, store.ActQuery{Type: thing.Type, Key: thing.Key, Limit: 500})
		if err != nil {
			return err
		}
		for _, a := range acts {
			m := wire.Moment{At: a.At, Kind: "act", Text: act.Describe(a.Kind).Title, By: a.By, Detail: a.Note}
			if a.Result != act.Done {
				m.State = string(a.Result)
			}
			h.add(m)
		}
	}
	return nil
}

// signs says who: of changes who asked for their run and by which settings it worked, of
// what was seen which run has read it.
func (h *history) signs(ctx context.Context) error {
	var times []time.Time
	var runs []int64
	for _, m := range h.view.Moments {
		if m.Kind == "entry" || m.Kind == "resource" {
			times = append(times, m.At)
		}
	}
	at, err := h.store.History.RunsAt(ctx, times)
	if err != nil {
		return err
	}
	for i, m := range h.view.Moments {
		if m.RunID == 0 {
			h.view.Moments[i].RunID = at[m.At]
		}
		if id := h.view.Moments[i].RunID; id != 0 {
			runs = append(runs, id)
		}
	}
	of, err := h.store.History.Revisions(ctx, runs)
	for i, m := range h.view.Moments {
		if m.Kind == "change" {
			h.view.Moments[i].By, h.view.Moments[i].Revision = of[m.RunID].By, of[m.RunID].Revision
		}
	}
	return err
}

// ObjectAt is an object as it was at a time: its entry, its link and its resource, and why,
// by the settings of then.
func (e *Explain) ObjectAt(ctx context.Context, hit store.Hit, at time.Time) (wire.ObjectAt, error) {
	out := wire.ObjectAt{At: at, Notes: []string{}}
	out.Attributes, out.Changes = []wire.AttributeView{}, []wire.Change{}
	name, err := e.nameOf(ctx, hit)
	if err != nil {
		return out, err
	}
	hit.Name = name
	if hit.EntryID == "" {
		return e.resourceAt(ctx, hit, out)
	}
	ref, err := RefOf(hit)
	if err != nil {
		return out, err
	}
	c, link, found, err := e.store.History.At(ctx, ref, at)
	if err != nil {
		return out, err
	}
	if !found {
		return out, problem.New(problem.NotFound, "it is not known how %s was on %s: it was first read later, or that is not remembered any more.", hit.Name, at.Format(time.DateTime))
	}
	revision, ok, err := e.store.History.RevisionAt(ctx, at)
	if err != nil {
		return out, err
	}
	if !ok {
		return out, problem.New(problem.NotFound, "no settings were active on %s.", at.Format(time.DateTime))
	}
	out.Revision = revision.Revision
	out.Entry = &wire.EntryView{Entry: c.Entry, Forms: ref.ID.Forms(e.dialectOf(ctx, ref.Directory))}
	out.Resource = c.Resource
	if link != nil {
		out.Link = &wire.LinkView{LinkKey: link.LinkKey, ResourceID: link.ResourceID, How: link.How, Owner: change.Directory, RunID: link.RunID, Since: link.Since, Left: c.LeftAt, Due: c.Link.Due}
	}
	return out, e.whyAt(ctx, &out, c, revision)
}

// whyAt decides about an entry as it was, by the settings of then.
func (e *Explain) whyAt(ctx context.Context, out *wire.ObjectAt, c decide.Case, revision store.Revision) error {
	settings, err := e.judging.Ready(ctx, revision.Document)
	if err != nil {
		out.Notes = append(out.Notes, fmt.Sprintf("the settings of revision %d are not understood any more: %v", revision.Revision, err))
		return nil
	}
	judge := e.judging.Blank()
	judge.Settings, judge.Offer, judge.Now = settings, decide.AnyCloud(), out.At
	decider := judge.Decider(judging.Then(e.store.Facts))
	decider.Last = true
	outcomes, err := decider.Decide(ctx, []decide.Case{c})
	if err != nil {
		return err
	}
	o := outcomes[0]
	out.Notes = append(out.Notes, "what others had then plays no part: matches and values that only one may have are left out")
	if settings.AsksForGroups {
		out.Notes = append(out.Notes, "the groups that hold it are those of now")
	}
	if settings.HasPersons() && c.Entry.Kind == entry.User {
		out.Notes = append(out.Notes, "entries of other directories that are one person with it are left out")
	}
	if c.Resource != nil || o.Verdict.In {
		out.Attributes = sideBySide(settings, o)
	}
	out.Why = whyOf(settings, o, out.Object)
	if o.Operation == plan.Create {
		out.Why.Summary = o.Verdict.Summary + "; it had no resource"
	}
	return nil
}

// resourceAt is a resource that no entry owns, as it was.
func (e *Explain) resourceAt(ctx context.Context, hit store.Hit, out wire.ObjectAt) (wire.ObjectAt, error) {
	versions, err := e.store.History.Resources(ctx, []string{hit.ResourceID}, out.At, mostVersions)
	if err != nil {
		return out, err
	}
	if n := len(versions); n == 0 || versions[n-1].Seen.After(out.At) {
		return out, problem.New(problem.NotFound, "it is not known how %s was on %s.", hit.Name, out.At.Format(time.DateTime))
	}
	out.Resource = versions[len(versions)-1].Resource
	out.Why = wire.Why{Subject: out.Resource.DisplayName(), Summary: "in the cloud only: no entry is linked to it"}
	return out, nil
}
