package explain

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"kambrel.example/kambrel/core/change"
	"kambrel.example/kambrel/core/decide"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/filter"
	"kambrel.example/kambrel/core/plan"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/reason"
	"kambrel.example/kambrel/core/settings"
	protocol "kambrel.example/kambrel/protocol/orders"
	"kambrel.example/kambrel/protocol/wire"
	"kambrel.example/kambrel/service/judging"
	"kambrel.example/kambrel/service/setup"
	"kambrel.example/kambrel/service/store"
	"kambrel.example/kambrel/service/views"
)

// latestChanges is how many changes one object shows.
const latestChanges = 20

// searchBatch is how many entries a search by a filter looks at in one go.
const searchBatch = 2000

// Find searches entries and resources by text, or entries by an RFC 4515 filter,
// which begins with a parenthesis.
func (e *Explain) Find(ctx context.Context, q store.FindQuery) ([]store.Hit, store.Total, error) {
	q.Text = strings.TrimSpace(q.Text)
	if strings.HasPrefix(q.Text, "(") {
		var err error
		if q.Among, err = e.filtered(ctx, q.Text, entry.Kind(q.Kind)); err != nil {
			return nil, store.Total{}, err
		}
		q.Text = ""
		return e.store.Search.Find(ctx, q)
	}
	if ids, err := entry.ParseIDs(q.Text); err == nil {
		q.IDs = ids
	}
	return e.store.Search.Find(ctx, q)
}

// filtered lists the entries of the mirror that a filter keeps.
func (e *Explain) filtered(ctx context.Context, text string, kind entry.Kind) ([]entry.Ref, error) {
	parsed, err := filter.Parse(text)
	if err != nil {
		return nil, problem.Wrap(problem.BadInput, err, "read the filter")
	}
	if unknown := parsed.UnknownRules(); len(unknown) > 0 {
		return nil, problem.New(problem.BadInput, "the matching rule %s is not known, so nobody can be found by it.", strings.Join(unknown, ", "))
	}
	document, err := e.setup.Document(ctx, true)
	if err != nil {
		return nil, err
	}
	found := []entry.Ref{}
	var directories []string
	dialects := map[string]*filter.Filter{}
	for _, d := range document.Directories {
		state, err := e.store.Entries.StateOf(ctx, d.Name)
		if err != nil {
			return nil, err
		}
		if !state.Read.IsZero() && !judging.Covers(state.Attributes, parsed.Attributes()) {
			there, err := e.searched(ctx, d, parsed)
			if err != nil {
				return nil, err
			}
			found = append(found, there...)
			continue
		}
		directories = append(directories, d.Name)
		dialects[d.Name] = parsed.For(d.Dialect == entry.AD).By(state.Schema)
	}
	kinds := entry.Kinds
	if kind != "" {
		kinds = []entry.Kind{kind}
	}
	if len(directories) == 0 {
		return found, nil
	}
	err = e.store.Entries.Each(ctx, directories, kinds, searchBatch, func(batch []*entry.Entry) error {
		if err := setup.FillFor(ctx, e.store, parsed, batch); err != nil {
			return err
		}
		for _, one := range batch {
			if dialects[one.Directory].Matches(*one) {
				found = append(found, entry.Ref{Directory: one.Directory, ID: one.ID})
			}
		}
		return nil
	})
	return found, err
}

// mostSearched is how many entries of a directory a search may find.
const mostSearched = 10_000

// searched asks a directory itself for the entries that fit a filter by attributes that
// were not read.
func (e *Explain) searched(ctx context.Context, d settings.Directory, f *filter.Filter) ([]entry.Ref, error) {
	order, err := e.orders.Ask(ctx, protocol.Order{Directory: d.Name, Dialect: d.Dialect, Base: d.Base, Search: &protocol.Search{Filter: f.String(), Most: mostSearched}})
	if err != nil {
		return nil, err
	}
	refs := make([]entry.Ref, len(order.Found))
	for i, text := range order.Found {
		id, err := entry.NewID(text)
		if err != nil {
			return nil, err
		}
		refs[i] = entry.Ref{Directory: d.Name, ID: id}
	}
	return refs, nil
}

// Resolve finds the one object that a text names: an id in any form, a
// distinguished name, a login or an address, or any text that fits one object
// only. The living come before the gone, and a whole name before a part of one.
func (e *Explain) Resolve(ctx context.Context, text string) (store.Hit, error) {
	hit, _, err := e.resolve(ctx, text, store.AnyObject)
	return hit, err
}

// ResolveEntry is Resolve for what must be an entry: a login that a resource has
// which nobody owns may be that of an entry too.
func (e *Explain) ResolveEntry(ctx context.Context, text string) (store.Hit, error) {
	hit, _, err := e.resolve(ctx, text, store.AnEntry)
	return hit, err
}

// ResolveResource is Resolve for what must be a resource, or the entry that has one.
func (e *Explain) ResolveResource(ctx context.Context, text string) (store.Hit, error) {
	hit, _, err := e.resolve(ctx, text, store.AResource)
	return hit, err
}

// resolve also returns others that are called so.
func (e *Explain) resolve(ctx context.Context, text string, wanted store.Wanted) (store.Hit, []store.Hit, error) {
	text = strings.TrimSpace(text)
	ids, _ := entry.ParseIDs(text) // text that is no id has none
	if hit, others, found, err := e.store.Search.Exact(ctx, text, ids, wanted); err != nil || found {
		return hit, others, err
	}
	hits, total, err := e.Find(ctx, store.FindQuery{Text: text, Limit: mostAlike})
	if err != nil {
		return store.Hit{}, nil, err
	}
	if total.N == 0 {
		if hit, others, found, err := e.store.Search.Former(ctx, text); err != nil || found {
			return hit, others, err
		}
		return store.Hit{}, nil, problem.New(problem.NotFound, "nothing in the mirrors fits %q.", text)
	}
	nearest := hits
	for _, narrower := range []func(store.Hit) bool{
		func(h store.Hit) bool { return wanted != store.AnEntry || h.EntryID != "" },
		func(h store.Hit) bool { return wanted != store.AResource || h.ResourceID != "" },
		func(h store.Hit) bool { return called(h, text) },
		func(h store.Hit) bool { return !h.Gone },
	} {
		if fewer := slices.DeleteFunc(slices.Clone(nearest), func(h store.Hit) bool { return !narrower(h) }); len(fewer) > 0 {
			nearest = fewer
		}
	}
	if len(nearest) == 1 && (total.N <= len(hits) || called(nearest[0], text)) {
		return nearest[0], slices.DeleteFunc(hits, func(h store.Hit) bool { return h == nearest[0] || !called(h, text) }), nil
	}
	names := make([]string, 0, 5)
	for _, hit := range nearest[:min(5, len(nearest))] {
		names = append(names, strings.TrimSpace(hit.Name+" "+hit.EntryID+hit.ResourceID))
	}
	return store.Hit{}, nil, problem.New(problem.AmbiguousText, "%q fits %s, among them %s", text, total.Of("object"), strings.Join(names, "; "))
}

// mostAlike is how many objects are looked at that a text fits.
const mostAlike = 50

// called tells whether the text is the whole of one of an object's names.
func called(h store.Hit, text string) bool {
	return strings.EqualFold(h.Login, text) || strings.EqualFold(h.EntryID, text) || strings.EqualFold(h.ResourceID, text) || entry.SameDN(h.DN, text) || strings.EqualFold(h.Name, text)
}

// ObjectOf shows one object from all sides.
func (e *Explain) ObjectOf(ctx context.Context, hit store.Hit) (wire.Object, error) {
	if hit.Type == "resource" {
		return e.resourceObject(ctx, hit.ResourceID)
	}
	ref, err := RefOf(hit)
	if err != nil {
		return wire.Object{}, err
	}
	return e.entryObject(ctx, ref)
}

// RefOf names the entry that was found.
func RefOf(hit store.Hit) (entry.Ref, error) {
	id, err := entry.NewID(hit.EntryID)
	if err != nil {
		return entry.Ref{}, problem.New(problem.BadInput, "%q is no entry id", hit.EntryID)
	}
	return entry.Ref{Directory: hit.Directory, ID: id}, nil
}

// dialectOf is that of a directory by the settings or the draft; standard where neither
// has it any more.
func (e *Explain) dialectOf(ctx context.Context, name string) entry.Dialect {
	document, err := e.setup.Document(ctx, true)
	if d, known := document.Directory(name); err == nil && known {
		return d.Dialect
	}
	return entry.Standard
}

func (e *Explain) resourceObject(ctx context.Context, id string) (wire.Object, error) {
	ref, err := e.store.Links.EntryOf(ctx, id)
	if err == nil {
		return e.entryObject(ctx, ref)
	}
	if !store.NotFound(err) {
		return wire.Object{}, err
	}
	resource, err := e.store.Resources.Get(ctx, id)
	if store.NotFound(err) {
		return wire.Object{}, problem.New(problem.NotFound, "the mirror has no resource %s", id)
	}
	if err != nil {
		return wire.Object{}, err
	}
	object := wire.Object{Resource: resource, Attributes: []wire.AttributeView{}, Changes: []wire.Change{}}
	object.Why = wire.Why{Subject: resource.DisplayName(), Summary: "in the cloud only: no entry is linked to it, and Kambrel leaves it alone", Steps: []reason.Node{
		{Text: "a link ties it to an entry", Outcome: reason.No, Deciding: true},
		{Text: "it bears a link key (externalId)", Outcome: reason.Of(resource.ExternalID() != ""), Value: resource.ExternalID()},
	}}
	return object, nil
}

func (e *Explain) entryObject(ctx context.Context, ref entry.Ref) (wire.Object, error) {
	dirty, err := e.store.Cases.Get(ctx, ref)
	if store.NotFound(err) {
		return wire.Object{}, problem.New(problem.NotFound, "the mirror of %s has no entry %s", ref.Directory, ref.ID)
	}
	if err != nil {
		return wire.Object{}, err
	}
	object := wire.Object{Entry: &wire.EntryView{Entry: dirty.Entry, Forms: ref.ID.Forms(e.dialectOf(ctx, ref.Directory))}, Resource: dirty.Resource}
	link, err := e.store.Links.Of(ctx, ref)
	switch {
	case err == nil:
		object.Link = &wire.LinkView{LinkKey: link.LinkKey, ResourceID: link.ResourceID, How: link.How, Owner: change.Directory, RunID: link.RunID, Since: link.Since, Left: link.LeftAt, Due: link.Due}
	case !store.NotFound(err):
		return wire.Object{}, err
	}
	if object.Problem, err = e.problems.OfEntry(ctx, ref); err != nil {
		return wire.Object{}, err
	}
	changes, err := e.store.Changes.OfEntry(ctx, ref, latestChanges)
	if err != nil {
		return wire.Object{}, err
	}
	if object.Changes, err = views.Changes(changes); err != nil {
		return wire.Object{}, err
	}
	j, err := e.judging.Judge(ctx)
	if err != nil {
		return wire.Object{}, err
	}
	o, _, err := j.ImagineOne(ctx, ref, judging.WhatIf{})
	if err != nil {
		return wire.Object{}, err
	}
	object.Person = personView(o)
	object.Attributes = []wire.AttributeView{}
	if o.Case.Resource != nil || o.Kin.Follows == nil && o.Verdict.In {
		object.Attributes = sideBySide(j.Settings, o)
	}
	if err := e.references(ctx, j.Settings, o, &object); err != nil {
		return wire.Object{}, err
	}
	object.Why = whyOf(j.Settings, o, object)
	return object, nil
}

// personView lists the entries that are one person, the one that leads first;
// nothing where there is one only.
func personView(o *decide.Outcome) []wire.PersonEntry {
	self := wire.PersonEntry{Directory: o.Entry.Directory, EntryID: o.Entry.ID.String(), DN: o.Entry.DN}
	switch f := o.Kin.Follows; {
	case f != nil && f.Problem == nil:
		self.Rule = f.Rule
		return []wire.PersonEntry{{Directory: f.Lead.Directory, EntryID: f.Lead.ID.String(), DN: f.LeadDN, Leads: true}, self}
	case len(o.Kin.Followers) > 0:
		self.Leads = true
		out := []wire.PersonEntry{self}
		for _, f := range o.Kin.Followers {
			out = append(out, wire.PersonEntry{Directory: f.Entry.Directory, EntryID: f.Entry.ID.String(), DN: f.Entry.DN, Rule: f.Rule, Attributes: f.Entry.Attributes})
		}
		return out
	}
	return nil
}

// mostMembersShown is how many members one object shows.
const mostMembersShown = 100

// references shows to whom an entry refers, and who is a member of a group.
func (e *Explain) references(ctx context.Context, settings *decide.Settings, o *decide.Outcome, object *wire.Object) error {
	dirty, ref, set := o.Case, o.Ref(), settings.Of(o.Entry.Kind).Rules
	if dirty.Resource != nil {
		pointed, err := judging.PointedBy(ctx, settings, e.store, 0, []entry.Ref{ref})
		if err != nil {
			return err
		}
		for _, reference := range set.References() {
			view := wire.AttributeView{Target: reference.Path.String(), Actual: reference.Path.Get(dirty.Resource), Managed: true}
			view.Desired, view.Source = reference.Value(pointed[ref])
			view.Same = change.Same(view.Actual, view.Desired)
			object.Attributes = append(object.Attributes, view)
		}
	}
	if dirty.Entry.Kind != entry.Group {
		return nil
	}
	total, _, err := e.store.Entries.CountMembers(ctx, ref)
	if err != nil {
		return err
	}
	list := &wire.MemberList{Total: total, Items: []wire.GroupMember{}}
	if dirty.Link != nil {
		if list.InCloud, err = e.store.Resources.CountMembers(ctx, dirty.Link.ResourceID); err != nil {
			return err
		}
	}
	members, err := e.store.References.MembersBeside(ctx, ref, mostMembersShown)
	if err != nil {
		return err
	}
	for _, m := range members {
		one := wire.GroupMember{DN: m.DN, Name: cmp.Or(m.Name, m.DN), Kind: m.Kind, EntryID: m.EntryID, ResourceID: m.ResourceID}
		switch {
		case m.Held:
			one.LeftOut = "it was deleted; its removal is held, and it stays a member in the cloud until that is decided"
		case !m.Known:
			one.LeftOut = "no person, group or contact of this directory that was read"
		case m.Left:
			one.LeftOut = "it has left: its resource is out of scope"
		case m.ResourceID == "":
			one.LeftOut = "it has no resource in the cloud; its own why tells the reason"
		}
		if one.LeftOut != "" {
			list.LeftOut++
		}
		list.Items = append(list.Items, one)
	}
	object.Members = list
	return nil
}

// sideBySide shows what the rules want beside what the resource has, and then
// what no rule touches.
func sideBySide(settings *decide.Settings, o *decide.Outcome) []wire.AttributeView {
	views := []wire.AttributeView{}
	managed := map[string]bool{"id": true, "externalId": true, "meta": true, "schemas": true}
	for _, value := range settings.Of(o.Entry.Kind).Rules.Apply(settings.PersonOf(o.Entry, o.Kin.Followers)).Values {
		var actual any
		if o.Case.Resource != nil {
			actual = value.Path.Get(o.Case.Resource)
		}
		managed[value.Path.Attribute] = true
		managed[value.Path.Schema] = true
		views = append(views, wire.AttributeView{
			Target: value.Path.String(), Desired: value.Value, Actual: actual, Source: value.Source, Managed: true, Same: o.Case.Resource != nil && o.Case.Forms.Means(value.Path, o.Case.Resource, value.Value) || change.Same(actual, value.Value),
		})
	}
	var rest []string
	for name := range o.Case.Resource {
		if !managed[name] {
			rest = append(rest, name)
		}
	}
	slices.Sort(rest)
	for _, name := range rest {
		views = append(views, wire.AttributeView{Target: name, Actual: o.Case.Resource[name], Same: true})
	}
	return views
}

// whyOf explains the decision about an entry by the outcome that a run would have.
func whyOf(settings *decide.Settings, o *decide.Outcome, object wire.Object) wire.Why {
	linked := ""
	if l := object.Link; l != nil {
		linked = fmt.Sprintf("resource %s, since run %d (%s)", l.ResourceID, l.RunID, l.How)
		switch {
		case l.Due != nil:
			linked += "; deleted on " + l.Due.UTC().Format(time.DateOnly) + ", since it left"
		case l.Left != nil && o.Case.Entry.Kind == entry.User:
			linked += "; suspended when it left"
		}
	}
	why := wire.Why{Subject: o.Name(), Summary: o.Summary(), In: o.Verdict.In, Verdict: o.Verdict.Code, Steps: o.Explain(settings, linked)}
	why.Operation, why.Code, why.ResourceID, why.Diffs = string(o.Operation), string(o.Code), o.ResourceID, o.Diffs
	if o.Problem != nil {
		why.Code = string(o.Problem.Code)
	}
	// What the cloud has refused is known from the last run alone.
	if p := object.Problem; p != nil && o.Problem == nil && o.Code != plan.Follows {
		why.Summary = o.Verdict.Summary + "; " + p.Title + ": " + p.Detail
		why.Steps[len(why.Steps)-1] = decide.PlanStep(reason.Node{Text: p.Title, Outcome: reason.Bad, Value: p.Detail, Deciding: true})
	}
	if len(object.Changes) > 0 {
		last := object.Changes[0]
		why.Steps = append(why.Steps, reason.Node{Text: "Last change", Outcome: reason.Note, Value: fmt.Sprintf("run %d: %s, %s", last.RunID, last.Operation, last.State), Children: change.Explain(last.Diffs)})
	}
	return why
}
