// Package cloudgroups shows the groups of the cloud that are kept in directories: how each
// stands and why, its members and who is left out, what somebody has changed in the
// directory; and what operators do about one. Runs write them (service/runs).
package cloudgroups

import (
	"context"
	"slices"
	"time"

	"kambrel.example/kambrel/core/about"
	"kambrel.example/kambrel/core/change"
	core "kambrel.example/kambrel/core/cloudgroups"
	"kambrel.example/kambrel/core/decide"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/plan"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/reason"
	"kambrel.example/kambrel/protocol/wire"
	"kambrel.example/kambrel/service/judging"
	"kambrel.example/kambrel/service/problems"
	"kambrel.example/kambrel/service/store"
)

// Groups shows groups of the cloud in directories. Its methods may be called from many
// goroutines.
type Groups struct {
	store    *store.Store
	judging  *judging.Judging
	problems *problems.Problems
}

// New makes one.
func New(s *store.Store, j *judging.Judging, p *problems.Problems) *Groups {
	return &Groups{s, j, p}
}

// driftDays is how long back drift is counted.
const driftDays = 7 * 24 * time.Hour

// Directories tells of each directory whether groups are kept in it, and how they stand.
func (g *Groups) Directories(ctx context.Context) ([]wire.CloudGroupDirectory, error) {
	settings, err := g.judging.Settings(ctx)
	if err != nil {
		return nil, err
	}
	out := []wire.CloudGroupDirectory{}
	for _, d := range settings.Document.Directories {
		one := wire.CloudGroupDirectory{Name: d.Name, On: d.KeepsCloudGroups()}
		if d.CloudGroups != nil {
			one.Settings = d.CloudGroups.Whole(d.Dialect)
			one.Container = d.CloudGroups.Container
		}
		counts, err := g.store.CloudGroups.CountIn(ctx, d.Name, time.Now().Add(-driftDays))
		if err != nil {
			return nil, err
		}
		one.Kept, one.Leaving, one.Waiting, one.Problems, one.Drifted = counts.Kept, counts.Leaving, counts.Waiting, counts.Problems, counts.Drifted
		one.NoLonger = !one.On && one.Kept+one.Leaving > 0
		out = append(out, one)
	}
	return out, nil
}

// keepings are those that a query is about.
func (g *Groups) keepings(ctx context.Context, directory string) (*decide.Settings, []*core.Keeping, error) {
	settings, err := g.judging.Settings(ctx)
	if err != nil {
		return nil, nil, err
	}
	if directory == "" {
		return settings, settings.CloudGroups, nil
	}
	k := settings.KeepingOf(directory)
	if k == nil {
		return nil, nil, problem.New(problem.NotFound, "no groups of the cloud are kept in %q: the feature %s is not on, or no directory has this name", directory, entry.FeatureCloudGroups)
	}
	return settings, []*core.Keeping{k}, nil
}

// List lists groups of the cloud, those first that are kept, and how many there are.
func (g *Groups) List(ctx context.Context, q store.GroupQuery, directory string) ([]wire.CloudGroup, int, error) {
	_, keepings, err := g.keepings(ctx, directory)
	if err != nil {
		return nil, 0, err
	}
	of := map[string]*core.Keeping{}
	for _, k := range keepings {
		of[k.Directory] = k
		q.Directories = append(q.Directories, k.Directory)
	}
	listed, total, err := g.store.CloudGroups.List(ctx, q)
	if err != nil {
		return nil, 0, err
	}
	ids := map[string][]string{}
	for _, one := range listed {
		ids[one.Directory] = append(ids[one.Directory], one.ResourceID)
	}
	cases := map[string]store.GroupCase{}
	for directory, list := range ids {
		found, err := g.store.CloudGroups.Cases(ctx, directory, list)
		if err != nil {
			return nil, 0, err
		}
		for _, c := range found {
			cases[directory+"/"+c.ResourceID] = c
		}
	}
	out := make([]wire.CloudGroup, len(listed))
	for i, one := range listed {
		out[i], _, err = g.view(ctx, of[one.Directory], one, cases[one.Directory+"/"+one.ResourceID])
		if err != nil {
			return nil, 0, err
		}
	}
	return out, total, nil
}

// view shows how a group stands, by what the next run would decide.
func (g *Groups) view(ctx context.Context, k *core.Keeping, listed store.ListedGroup, c store.GroupCase) (wire.CloudGroup, core.Decision, error) {
	out := wire.CloudGroup{Directory: k.Directory, ID: listed.ResourceID, Name: listed.Name, Owner: string(change.Cloud), Members: listed.Members, InCloud: listed.InCloud, Drifted: listed.Drifted}
	d, err := g.decide(ctx, k, c)
	if err != nil {
		return out, d, err
	}
	if c.Subject.Owner != "" {
		out.Owner = string(change.Directory)
	}
	if row := c.Row; row != nil {
		out.DN, out.EntryID, out.SID, out.Since, out.Due = row.DN, row.EntryID, row.SID, &row.Since, row.Due
	}
	explained := d.Explain()
	if out.Summary = d.Verdict.Summary; d.Code != plan.OutSide {
		out.Summary += "; " + explained.Text
	}
	switch {
	case d.Again:
		out.State = "lost"
	case d.Code == core.Forgone:
		out.State = "forgone"
	case listed.Code != "":
		out.State, out.Problem = "problem", problem.Describe(problem.Code(listed.Code)).Title+": "+listed.Detail
	case d.Problem != nil:
		out.State, out.Problem = "problem", problem.Describe(d.Problem.Code).Title+": "+d.Problem.Detail
	case c.Row != nil && !d.Verdict.In:
		out.State = "leaving"
	case d.Operation != "", listed.Marked && d.Verdict.In:
		if out.State = "waits"; d.Operation == "" {
			out.Summary = d.Verdict.Summary + "; the next run looks at its members"
		}
	case c.Row == nil:
		out.State = "not-kept"
	default:
		out.State = "in-step"
	}
	return out, d, nil
}

// decide is what the next run would decide about a group.
func (g *Groups) decide(ctx context.Context, k *core.Keeping, c store.GroupCase) (core.Decision, error) {
	state, err := g.store.Entries.StateOf(ctx, k.Directory)
	if err != nil {
		return core.Decision{}, err
	}
	c.Subject.Now, c.Subject.Hidden = time.Now(), state.Hidden
	return g.store.CloudGroups.Judge(ctx, k, c)
}

// one finds a group in a directory by its id or its name; "" for the directory is the only
// one that keeps groups.
func (g *Groups) one(ctx context.Context, directory, text string) (*core.Keeping, store.ListedGroup, store.GroupCase, error) {
	_, keepings, err := g.keepings(ctx, directory)
	if err != nil {
		return nil, store.ListedGroup{}, store.GroupCase{}, err
	}
	if len(keepings) != 1 {
		return nil, store.ListedGroup{}, store.GroupCase{}, problem.New(problem.BadInput, "%d directories keep groups of the cloud: name the one that is meant", len(keepings))
	}
	k := keepings[0]
	listed, _, err := g.store.CloudGroups.List(ctx, store.GroupQuery{Directories: []string{k.Directory}, Resource: text, Limit: 1})
	if err == nil && len(listed) == 0 {
		listed, _, err = g.store.CloudGroups.List(ctx, store.GroupQuery{Directories: []string{k.Directory}, Text: text, Limit: 100})
		listed = slices.DeleteFunc(listed, func(l store.ListedGroup) bool { return l.Name != text })
	}
	switch {
	case err != nil:
		return nil, store.ListedGroup{}, store.GroupCase{}, err
	case len(listed) == 0:
		return nil, store.ListedGroup{}, store.GroupCase{}, problem.New(problem.NotFound, "the cloud has no group %q: 'kambrel cloud-groups list' shows those that it has", text)
	case len(listed) > 1:
		return nil, store.ListedGroup{}, store.GroupCase{}, problem.New(problem.AmbiguousText, "%d groups of the cloud are called %q: use the id of the one that is meant", len(listed), text)
	}
	cases, err := g.store.CloudGroups.Cases(ctx, k.Directory, []string{listed[0].ResourceID})
	if err != nil {
		return nil, store.ListedGroup{}, store.GroupCase{}, err
	}
	return k, listed[0], cases[0], nil
}

// Show shows one group, by its id or its name, with why it stands as it does.
func (g *Groups) Show(ctx context.Context, directory, text string) (wire.CloudGroupDetail, error) {
	k, listed, c, err := g.one(ctx, directory, text)
	if err != nil {
		return wire.CloudGroupDetail{}, err
	}
	view, d, err := g.view(ctx, k, listed, c)
	if err != nil {
		return wire.CloudGroupDetail{}, err
	}
	out := wire.CloudGroupDetail{CloudGroup: view, Diffs: append([]change.Diff{}, d.Diffs...), Steps: steps(k, c, d), Problems: []wire.Problem{}, Kept: []string{}}
	if _, out.LeftOut, err = g.store.CloudGroups.Skipped(ctx, k, store.SkipQuery{Resource: listed.ResourceID, Limit: 1}); err != nil {
		return out, err
	}
	open, _, err := g.store.Problems.List(ctx, store.ProblemQuery{Type: about.CloudGroup, Key: about.CloudGroupOf(k.Directory, listed.ResourceID).Key, Limit: 20})
	if err != nil {
		return out, err
	}
	if out.Problems, err = g.problems.Views(ctx, open...); err != nil {
		return out, err
	}
	kept, err := g.store.CloudGroups.KeptMembers(ctx, k.Directory, []string{listed.ResourceID})
	out.Kept = append(out.Kept, kept[listed.ResourceID]...)
	return out, err
}

// steps tell how a decision about a group came about.
func steps(k *core.Keeping, c store.GroupCase, d core.Decision) []reason.Node {
	out := []reason.Node{{Text: "Scope: is it kept?", Outcome: reason.Of(d.Verdict.In), Value: d.Verdict.Summary, Deciding: !d.Verdict.In, Children: k.ExplainChosen(c.Subject.Group, c.Subject.Owner, c.Row != nil).Children}}
	tie := reason.Node{Text: "Link: which entry is it?", Outcome: reason.Note, Value: "none yet"}
	if c.Row != nil {
		tie.Outcome, tie.Value = reason.Yes, c.Row.DN+", "+c.Row.How+" "+c.Row.Since.UTC().Format(time.RFC3339)
		tie.Children = []reason.Node{{Text: "the entry's unchanging id", Outcome: reason.Note, Value: c.Row.EntryID}}
		if c.Row.SID != "" {
			tie.Children = append(tie.Children, reason.Node{Text: "its security identifier", Outcome: reason.Note, Value: c.Row.SID})
		}
		if c.Subject.Entry != nil && c.Subject.Entry.Gone {
			tie.Outcome, tie.Deciding = reason.Bad, true
			tie.Children = append(tie.Children, reason.Node{Text: "the entry is in the directory", Outcome: reason.No})
		}
	}
	out = append(out, tie)
	if c.Subject.Group != nil && d.Verdict.In {
		out = append(out, reason.Node{Text: "Rules: what should the entry be?", Outcome: reason.Yes, Value: d.Wanted.DN, Children: k.ExplainRules(c.Subject.Group)})
	}
	return append(out, decide.PlanStep(d.Explain()))
}

// Members lists the members that a group has in its directory.
func (g *Groups) Members(ctx context.Context, directory, text, search string, offset, limit int) ([]wire.CloudGroupMember, int, error) {
	k, listed, _, err := g.one(ctx, directory, text)
	if err != nil {
		return nil, 0, err
	}
	list, total, err := g.store.CloudGroups.MembersOf(ctx, k.Directory, listed.ResourceID, search, offset, limit)
	out := make([]wire.CloudGroupMember, len(list))
	for i, m := range list {
		out[i] = wire.CloudGroupMember{Name: nameOf(m), Kind: m.Kind, DN: m.DN, EntryID: m.EntryID, ResourceID: m.ResourceID}
	}
	return out, total, err
}

func nameOf(m store.MemberView) string {
	if m.Name != "" {
		return m.Name
	}
	return m.DN
}

// LeftOut lists the members of a group in the cloud that are none in the directory, each
// with why.
func (g *Groups) LeftOut(ctx context.Context, directory, text, search string, offset, limit int) ([]wire.CloudGroupMember, int, error) {
	k, listed, _, err := g.one(ctx, directory, text)
	if err != nil {
		return nil, 0, err
	}
	list, total, err := g.store.CloudGroups.Skipped(ctx, k, store.SkipQuery{Resource: listed.ResourceID, Text: search, Offset: offset, Limit: limit})
	out := make([]wire.CloudGroupMember, len(list))
	for i, s := range list {
		out[i] = leftOut(k, s)
	}
	return out, total, err
}

func leftOut(k *core.Keeping, s store.SkippedMember) wire.CloudGroupMember {
	text := k.SkipText(s.Reason, s.Detail)
	if s.Reason == core.SkipScope {
		text = k.Refuses(s.GroupType) + ": change the scope of one of them, or take it out of the group"
	}
	return wire.CloudGroupMember{Name: s.Name, Kind: s.Kind, DN: s.DN, EntryID: s.EntryID, ResourceID: s.ResourceID, Reason: string(s.Reason), Text: text}
}

// Why tells why somebody is a member of a group in the directory, or is not; member is the
// name or the id of a resource.
func (g *Groups) Why(ctx context.Context, directory, text, member string) ([]reason.Node, error) {
	k, listed, c, err := g.one(ctx, directory, text)
	if err != nil {
		return nil, err
	}
	d, err := g.decide(ctx, k, c)
	if err != nil {
		return nil, err
	}
	if member == "" {
		return steps(k, c, d), nil
	}
	kind, resource, err := g.memberOf(ctx, listed.ResourceID, member)
	if err != nil {
		return nil, err
	}
	has, err := g.store.Resources.HasMember(ctx, listed.ResourceID, resource.ID())
	if err != nil {
		return nil, err
	}
	out := []reason.Node{
		{Text: "Group: is it kept?", Outcome: reason.Of(d.Members), Value: d.Verdict.Summary, Deciding: !d.Members},
		{Text: "Cloud: is it a member there?", Outcome: reason.Of(has), Value: resource.Name() + " (" + string(kind) + ", " + resource.ID() + ")", Deciding: !has},
	}
	inside, err := g.store.CloudGroups.HasMember(ctx, k.Directory, listed.ResourceID, resource.ID())
	if err != nil {
		return nil, err
	}
	who := reason.Node{Text: "Link: which entry of " + k.Directory + " is it?", Outcome: reason.Yes, Value: inside.DN}
	if has {
		skipped, _, err := g.store.CloudGroups.Skipped(ctx, k, store.SkipQuery{Resource: listed.ResourceID, Member: resource.ID(), Limit: 1})
		if err != nil {
			return nil, err
		}
		if len(skipped) > 0 {
			who.Outcome, who.Value, who.Deciding = reason.No, leftOut(k, skipped[0]).Text, true
			if skipped[0].DN != "" {
				who.Children = []reason.Node{{Text: "its entry", Outcome: reason.Note, Value: skipped[0].DN}}
			}
		}
	}
	if who.Value == "" {
		who.Outcome, who.Value = reason.No, "none"
	}
	will := has && d.Members && who.Outcome == reason.Yes
	next := reason.Node{Text: "Plan: what is to be done?", Outcome: reason.Of(will == inside.Has), Deciding: true, Value: "it is a member in the directory, as it should be"}
	switch {
	case d.Code == plan.Left:
		next.Value = "nothing: the group is no longer kept, and stays as it is until it goes"
	case will && !inside.Has:
		next.Value = "the next run adds it"
	case !will && inside.Has:
		next.Value = "the next run removes it"
	case !will:
		next.Value = "it is no member in the directory, as it should be"
	}
	return append(out, who, next), nil
}

// memberOf finds a resource by its id or its name, among the members first.
func (g *Groups) memberOf(ctx context.Context, group, text string) (entry.Kind, entry.Resource, error) {
	id, err := g.store.CloudGroups.FindMember(ctx, group, text)
	if err != nil {
		return "", nil, err
	}
	if id == "" {
		return "", nil, problem.New(problem.NotFound, "the cloud has nobody called %q: give the login, the name or the id of a resource", text)
	}
	return g.store.Resources.OfKind(ctx, id)
}

// Drifts lists what somebody has changed in directories, and runs have put back.
func (g *Groups) Drifts(ctx context.Context, directory, group string, offset, limit int) ([]wire.Drift, int, error) {
	list, total, err := g.store.CloudGroups.Drifts(ctx, directory, group, offset, limit)
	out := make([]wire.Drift, len(list))
	for i, c := range list {
		out[i] = wire.Drift{ID: c.ID, RunID: c.RunID, Directory: c.Directory, GroupID: c.ResourceID, Name: c.Name, DN: c.DN, State: c.State, Diffs: c.Diffs, At: c.Answered, By: c.DriftBy, Changed: c.DriftAt}
	}
	return out, total, err
}
