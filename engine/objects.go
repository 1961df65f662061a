package engine

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/filter"
	"kambrel.example/kambrel/core/plan"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/reason"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/store"
	"kambrel.example/kambrel/wire"
)

// latestChanges is how many changes one object shows.
const latestChanges = 20

// Find searches entries and resources by text, or entries by an RFC 4515 filter,
// which begins with a parenthesis.
func (e *Engine) Find(ctx context.Context, q store.FindQuery) ([]wire.Hit, int, error) {
	q.Text = strings.TrimSpace(q.Text)
	if strings.HasPrefix(q.Text, "(") {
		var err error
		if q.Among, err = e.filtered(ctx, q.Text, entry.Kind(q.Kind)); err != nil {
			return nil, 0, err
		}
		q.Text = ""
		return e.store.Find(ctx, q)
	}
	if ids, err := entry.ParseIDs(q.Text); err == nil {
		q.IDs = ids
	}
	return e.store.Find(ctx, q)
}

// filtered lists the entries of the mirror that a filter keeps.
func (e *Engine) filtered(ctx context.Context, text string, kind entry.Kind) ([]store.Ref, error) {
	parsed, err := filter.Parse(text)
	if err != nil {
		return nil, problem.Wrap(problem.BadInput, err, "read the filter")
	}
	document, err := e.Document(ctx, true)
	if err != nil {
		return nil, err
	}
	var directories []string
	dialects := map[string]*filter.Filter{}
	for _, d := range document.Directories {
		state, err := e.store.DirectoryStateOf(ctx, d.Name)
		if err != nil {
			return nil, err
		}
		for _, name := range parsed.Attributes() {
			if !state.Read.IsZero() && !covers(state.Attributes, []string{name}) {
				return nil, problem.New(problem.BadInput, "%s is not read from %s: only attributes that the settings ask for can be searched. Name it in a rule or a filter of the draft, and read the directories.", name, d.Name)
			}
		}
		directories = append(directories, d.Name)
		dialects[d.Name] = parsed.For(d.Dialect == settings.AD)
	}
	kinds := entry.Kinds
	if kind != "" {
		kinds = []entry.Kind{kind}
	}
	found := []store.Ref{}
	err = e.store.EachEntry(ctx, directories, kinds, previewBatch, func(batch []*entry.Entry) error {
		if err := e.fillFor(ctx, parsed, batch); err != nil {
			return err
		}
		for _, one := range batch {
			if dialects[one.Directory].Matches(*one) {
				found = append(found, store.Ref{Directory: one.Directory, ID: one.ID})
			}
		}
		return nil
	})
	return found, err
}

// Resolve finds the one object that a text names: an id in any form, a
// distinguished name, a login or an address, or any text that fits one object
// only.
func (e *Engine) Resolve(ctx context.Context, text string) (wire.Hit, error) {
	text = strings.TrimSpace(text)
	ids, _ := entry.ParseIDs(text) // text that is no id has none
	if hit, found, err := e.store.Exact(ctx, text, ids); err != nil || found {
		return hit, err
	}
	hits, total, err := e.Find(ctx, store.FindQuery{Text: text, Limit: 50})
	if err != nil {
		return wire.Hit{}, err
	}
	// Names of the same text may be part of longer ones; the whole one counts.
	exact := slices.DeleteFunc(slices.Clone(hits), func(h wire.Hit) bool {
		wanted := strings.TrimSpace(text)
		return !strings.EqualFold(h.Login, wanted) && !strings.EqualFold(h.EntryID, wanted) && !strings.EqualFold(h.ResourceID, wanted) &&
			!entry.SameDN(h.DN, wanted) && !strings.EqualFold(h.Name, wanted)
	})
	if len(exact) > 1 { // somebody deleted may have had the same name
		if live := slices.DeleteFunc(slices.Clone(exact), func(h wire.Hit) bool { return h.Gone }); len(live) > 0 {
			exact = live
		}
	}
	switch {
	case len(exact) == 1:
		return exact[0], nil
	case total == 1:
		return hits[0], nil
	case total == 0:
		return wire.Hit{}, problem.New(problem.NotFound, "nothing in the mirrors fits %q", text)
	}
	names := make([]string, 0, 5)
	for _, hit := range hits[:min(5, len(hits))] {
		names = append(names, strings.TrimSpace(hit.Name+" "+hit.EntryID+hit.ResourceID))
	}
	return wire.Hit{}, problem.New(problem.AmbiguousText, "%q fits %d objects, among them %s", text, total, strings.Join(names, "; "))
}

// ObjectOf shows one object from all sides.
func (e *Engine) ObjectOf(ctx context.Context, hit wire.Hit) (wire.Object, error) {
	if hit.Type == "resource" {
		return e.resourceObject(ctx, hit.ResourceID)
	}
	ref, err := refOfHit(hit)
	if err != nil {
		return wire.Object{}, err
	}
	return e.entryObject(ctx, ref)
}

// refOfHit names the entry that was found.
func refOfHit(hit wire.Hit) (store.Ref, error) {
	id, err := entry.NewID(hit.EntryID)
	if err != nil {
		return store.Ref{}, problem.New(problem.BadInput, "%q is no entry id", hit.EntryID)
	}
	return store.Ref{Directory: hit.Directory, ID: id}, nil
}

func (e *Engine) resourceObject(ctx context.Context, id string) (wire.Object, error) {
	ref, err := e.store.EntryOf(ctx, id)
	if err == nil {
		return e.entryObject(ctx, ref)
	}
	if !store.NotFound(err) {
		return wire.Object{}, err
	}
	resource, err := e.store.Resource(ctx, id)
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

func (e *Engine) entryObject(ctx context.Context, ref store.Ref) (wire.Object, error) {
	dirty, err := e.store.Subject(ctx, ref)
	if store.NotFound(err) {
		return wire.Object{}, problem.New(problem.NotFound, "the mirror of %s has no entry %s", ref.Directory, ref.ID)
	}
	if err != nil {
		return wire.Object{}, err
	}
	object := wire.Object{Entry: &wire.EntryView{Entry: dirty.Entry, Forms: ref.ID.Forms()}, Resource: dirty.Resource}
	link, err := e.store.LinkOf(ctx, ref)
	switch {
	case err == nil:
		object.Link = &wire.LinkView{LinkKey: link.LinkKey, ResourceID: link.ResourceID, How: link.How, RunID: link.RunID, Since: link.Since, Left: link.LeftAt}
	case !store.NotFound(err):
		return wire.Object{}, err
	}
	if open, found, err := e.store.ProblemOf(ctx, ref); err != nil {
		return wire.Object{}, err
	} else if found {
		object.Problem = &open
	}
	if object.Changes, err = e.store.ChangesOf(ctx, ref, latestChanges); err != nil {
		return wire.Object{}, err
	}
	settings, err := e.judging(ctx)
	if err != nil {
		return wire.Object{}, err
	}
	if settings.asksForGroups {
		if err := e.store.FillGroups(ctx, []*entry.Entry{&dirty.Entry}); err != nil {
			return wire.Object{}, err
		}
	}
	persons, err := settings.personsOf(ctx, e.store, []store.Dirty{dirty})
	if err != nil {
		return wire.Object{}, err
	}
	one := persons[ref]
	object.Person = personView(dirty.Entry, one)
	object.Attributes = []wire.AttributeView{}
	if dirty.Resource != nil || one.joined == nil && settings.scope.Decide(dirty.Entry).In {
		object.Attributes = sideBySide(settings, dirty, one)
	}
	if err := e.references(ctx, settings, dirty, &object); err != nil {
		return wire.Object{}, err
	}
	object.Why, err = e.why(ctx, settings, dirty, one, object)
	return object, err
}

// personView lists the entries that are one person, the one that leads first;
// nothing where there is one only.
func personView(e entry.Entry, one person) []wire.PersonEntry {
	self := wire.PersonEntry{Directory: e.Directory, EntryID: e.ID.String(), DN: e.DN}
	switch {
	case one.joined != nil && one.joined.Code == "":
		self.Rule = one.joined.Rule
		return []wire.PersonEntry{{Directory: one.joined.Lead.Directory, EntryID: one.joined.Lead.ID.String(), DN: one.joined.LeadDN, Leads: true}, self}
	case len(one.followers) > 0:
		self.Leads = true
		out := []wire.PersonEntry{self}
		for _, f := range one.followers {
			out = append(out, wire.PersonEntry{Directory: f.Entry.Directory, EntryID: f.Entry.ID.String(), DN: f.Entry.DN, Rule: f.Rule, Attributes: f.Entry.Attributes})
		}
		return out
	}
	return nil
}

// mostMembersShown is how many members one object shows.
const mostMembersShown = 100

// references shows to whom an entry refers, and who is a member of a group.
func (e *Engine) references(ctx context.Context, settings *compiled, dirty store.Dirty, object *wire.Object) error {
	ref, set := refOf(dirty), settings.of(dirty.Entry.Kind).rules
	if dirty.Resource != nil {
		pointed, err := settings.pointed(ctx, e.store, 0, []store.Ref{ref})
		if err != nil {
			return err
		}
		for _, reference := range set.References() {
			view := wire.AttributeView{Target: reference.Path.String(), Actual: reference.Path.Get(dirty.Resource), Managed: true}
			view.Desired, view.Source = reference.Value(pointed[ref])
			view.Same = plan.Same(view.Actual, view.Desired)
			object.Attributes = append(object.Attributes, view)
		}
	}
	if dirty.Entry.Kind != entry.Group {
		return nil
	}
	total, _, err := e.store.CountMembers(ctx, ref)
	if err != nil {
		return err
	}
	list := &wire.MemberList{Total: total, Items: []wire.GroupMember{}}
	if dirty.Link != nil {
		if list.InCloud, err = e.store.MembersOf(ctx, dirty.Link.ResourceID); err != nil {
			return err
		}
	}
	members, err := e.store.MembersBeside(ctx, ref, mostMembersShown)
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

// judging returns the settings by which objects are explained: the active ones,
// or the draft before the first activation.
func (e *Engine) judging(ctx context.Context) (*compiled, error) {
	settings, err := e.compile.active(ctx)
	if problem.CodeOf(err) != problem.NoSettings {
		return settings, err
	}
	document, draftErr := e.Document(ctx, true)
	if draftErr != nil || len(document.Validate()) > 0 {
		return nil, errors.Join(err, draftErr)
	}
	return compileDocument(0, document)
}

// sideBySide shows what the rules want beside what the resource has, and then
// what no rule touches.
func sideBySide(settings *compiled, dirty store.Dirty, one person) []wire.AttributeView {
	views := []wire.AttributeView{}
	managed := map[string]bool{"id": true, "externalId": true, "meta": true, "schemas": true}
	for _, value := range settings.of(dirty.Entry.Kind).rules.Apply(settings.entriesOf(dirty.Entry, one.followers)).Values {
		var actual any
		if dirty.Resource != nil {
			actual = value.Path.Get(dirty.Resource)
		}
		managed[value.Path.Attribute] = true
		managed[value.Path.Schema] = true
		views = append(views, wire.AttributeView{
			Target: value.Path.String(), Desired: value.Value, Actual: actual, Source: value.Source, Managed: true, Same: plan.Same(actual, value.Value),
		})
	}
	var rest []string
	for name := range dirty.Resource {
		if !managed[name] {
			rest = append(rest, name)
		}
	}
	slices.Sort(rest)
	for _, name := range rest {
		views = append(views, wire.AttributeView{Target: name, Actual: dirty.Resource[name], Same: true})
	}
	return views
}

// why explains every decision about an entry, by the code that runs use.
func (e *Engine) why(ctx context.Context, settings *compiled, dirty store.Dirty, one person, object wire.Object) (wire.Why, error) {
	o, err := e.offered(ctx, settings.document)
	if err != nil { // why needs no cloud: what it has is judged by the mirror
		o = offer{kinds: map[entry.Kind]bool{entry.User: true, entry.Group: true, entry.Contact: true}}
	}
	s := settings.judge(dirty, one, o, time.Now())
	verdict := settings.scope.Explain(dirty.Entry)
	why := wire.Why{Subject: s.name(), Summary: verdict.Summary, In: verdict.In, Verdict: verdict.Code}
	add := func(node reason.Node) { why.Steps = append(why.Steps, node) }
	add(reason.Node{Text: "Scope: does it take part?", Outcome: reason.Of(verdict.In), Value: verdict.Summary, Deciding: !verdict.In, Children: verdict.Reasons})

	if verdict.In && settings.joins() && dirty.Entry.Kind == entry.User {
		add(e.whyJoined(settings, dirty.Entry, one))
	}
	if one.joined != nil && verdict.In {
		decision := follow(*one.joined)
		why.Summary = summary(verdict.Summary, decision, object)
		if decision.Problem == nil {
			why.Summary += " with " + one.joined.LeadDN
		}
		return why, nil
	}

	switch {
	case object.Link != nil:
		value := fmt.Sprintf("resource %s, since run %d (%s)", object.Link.ResourceID, object.Link.RunID, object.Link.How)
		if object.Link.Left != nil {
			value += "; suspended when it left"
		}
		add(reason.Node{Text: "Match: which resource is it?", Outcome: reason.Yes, Value: value, Children: []reason.Node{{Text: "the lasting link, by link key", Outcome: reason.Yes, Value: object.Link.LinkKey, Deciding: true}}})
	case verdict.In:
		p := &planner{settings: settings, cloud: o}
		if err := p.match(ctx, e.store, []*subject{s}); err != nil {
			return why, err
		}
		node := reason.Node{Text: "Match: which resource is it?", Outcome: reason.Note, Value: "none fits: a new one is made", Children: s.Match.Reasons}
		switch {
		case s.Match.Problem != nil:
			node.Outcome, node.Value = reason.Bad, s.Match.Problem.Detail
		case s.Match.Resource != nil:
			node.Outcome, node.Value = reason.Yes, fmt.Sprintf("%s (%s), by %s", s.Match.Resource.Login(), s.Match.Resource.ID(), s.Match.Rule)
		}
		add(node)
	default:
		add(reason.Node{Text: "Match: which resource is it?", Outcome: reason.Note, Value: "not asked, since it is out of scope and has no resource"})
	}

	if verdict.In {
		node := reason.Node{Text: "Rules: what should the resource be?", Outcome: reason.Yes, Children: settings.of(dirty.Entry.Kind).rules.Explain(settings.entriesOf(dirty.Entry, one.followers))}
		if s.Desired.Problem != nil {
			node.Outcome, node.Value, node.Deciding = reason.Bad, s.Desired.Problem.Detail, true
		}
		add(node)
	}
	decision := plan.CheckLogin(plan.Decide(s.Subject), o.domains)
	if dirty.Entry.Gone {
		if err := (&planner{settings: settings, cloud: o}).returns(ctx, e.store, []*subject{s}); err != nil {
			return why, err
		}
	}
	if s.decision.Code == plan.Returns {
		decision = s.decision
	}
	node := decision.Explain()
	if object.Problem != nil && decision.Problem == nil {
		node = reason.Node{Text: object.Problem.Title, Outcome: reason.Bad, Value: object.Problem.Detail, Deciding: true}
	}
	add(reason.Node{Text: "Plan: what is to be done?", Outcome: node.Outcome, Value: node.Text, Children: append([]reason.Node{}, planDetails(node)...)})
	if len(object.Changes) > 0 {
		last := object.Changes[0]
		add(reason.Node{Text: "Last change", Outcome: reason.Note, Value: fmt.Sprintf("run %d: %s, %s", last.RunID, last.Operation, last.State), Children: plan.ExplainDiffs(last.Diffs)})
	}
	why.Summary = summary(verdict.Summary, decision, object)
	return why, nil
}

// whyJoined tells which entries of other directories are the same person.
func (e *Engine) whyJoined(settings *compiled, of entry.Entry, one person) reason.Node {
	node := reason.Node{Text: "Join: does the person have other entries?", Outcome: reason.Note, Value: "none: it stands for itself"}
	switch {
	case one.joined != nil && one.joined.Code != "":
		node.Outcome, node.Value, node.Deciding = reason.Bad, one.joined.Detail, true
	case one.joined != nil:
		node.Outcome, node.Deciding = reason.Yes, true
		node.Value = fmt.Sprintf("one person with %s of %s, by %s; that entry bears the link, and this one lends its values", one.joined.LeadDN, one.joined.Lead.Directory, one.joined.Rule)
	case len(one.followers) > 0:
		node.Outcome, node.Value = reason.Yes, "this entry leads, and the values of these count too"
		for _, f := range one.followers {
			node.Children = append(node.Children, reason.Node{Text: f.Entry.DN, Outcome: reason.Yes, Value: "by " + f.Rule, Source: "directory " + f.Entry.Directory})
		}
	}
	for _, key := range settings.of(entry.User).join.Keys(of) {
		name, value, _ := strings.Cut(key, "=")
		node.Children = append(node.Children, reason.Node{Text: "compares " + name, Outcome: reason.Note, Value: value})
	}
	return node
}

func planDetails(node reason.Node) []reason.Node {
	if node.Value != "" {
		return append([]reason.Node{{Text: node.Value, Outcome: node.Outcome, Deciding: true}}, node.Children...)
	}
	return node.Children
}

func summary(scope string, decision plan.Decision, object wire.Object) string {
	switch {
	case object.Problem != nil:
		return scope + "; " + object.Problem.Title + ": " + object.Problem.Detail
	case decision.Problem != nil:
		return scope + "; " + problem.Describe(decision.Problem.Code).Title + ": " + decision.Problem.Detail
	case decision.Operation != "":
		return scope + "; the next run will " + string(decision.Operation) + " the resource"
	case decision.Code == plan.Follows:
		return scope + "; one person"
	case decision.Code == plan.InStep:
		return scope + "; its resource is in step"
	case decision.Code == plan.Returns:
		return scope + "; it was made again under the same name, and the new entry takes the resource over"
	case decision.Code == plan.Left:
		return scope + "; its resource is suspended"
	}
	return scope
}
