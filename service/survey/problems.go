package survey

import (
	"context"
	"slices"
	"strings"

	"kambrel.example/kambrel/core/about"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/survey"
	"kambrel.example/kambrel/protocol/wire"
	"kambrel.example/kambrel/service/store"
)

// mostRepairs is for how many problems values are offered at once.
const mostRepairs = 1000

// RepairsOf offers what RepairsFor does, for one problem, or for all that have a code.
func (e *Surveys) RepairsOf(ctx context.Context, id int64, code string) ([]wire.RepairItem, error) {
	if id == 0 && code == "" {
		return nil, problem.New(problem.BadInput, "say of which problems: an id, or a code.")
	}
	if id == 0 {
		problems, _, err := e.store.Problems.List(ctx, store.ProblemQuery{Code: code, Type: about.Entry, Limit: mostRepairs})
		if err != nil {
			return nil, err
		}
		return e.RepairsFor(ctx, problems)
	}
	one, err := e.store.Problems.Get(ctx, id)
	if store.NotFound(err) {
		return nil, problem.New(problem.NotFound, "there is no problem %d.", id)
	}
	if err != nil || one.Closed != nil {
		return []wire.RepairItem{}, err
	}
	return e.RepairsFor(ctx, []store.Problem{one})
}

// RepairsFor offers the values that would have to be others so that open problems of
// entries are solved: those from which the rules make the attribute that a problem is
// about, of what Kambrel may write, as they are now; with a proposal where a survey would
// have one. Nothing is written.
func (e *Surveys) RepairsFor(ctx context.Context, problems []store.Problem) ([]wire.RepairItem, error) {
	items := []wire.RepairItem{}
	judge, err := e.judging.Judge(ctx)
	if problem.CodeOf(err) == problem.NoSettings {
		return items, nil
	}
	if err != nil {
		return nil, err
	}
	for _, p := range problems[:min(len(problems), mostRepairs)] {
		targets := p.Facts.Targets(p.Code)
		if p.About.Type != about.Entry || len(targets) == 0 {
			continue
		}
		one, err := e.store.Entries.Get(ctx, p.Ref.Directory, p.Ref.ID)
		if store.NotFound(err) || err == nil && one.Gone {
			continue
		}
		if err != nil {
			return nil, err
		}
		directory, _ := judge.Settings.Document.Directory(one.Directory)
		look := survey.New(survey.Options{Domains: judge.Offer.Domains, Rules: judge.Settings.Of(entry.User).Rules})
		look.Add(one)
		findings, _ := look.Finish()
		var offered []wire.RepairItem
		for _, name := range survey.Correctable(judge.Settings.Of(one.Kind).Rules, directory.Dialect, one.Kind, targets) {
			offered = append(offered, offers(one, name, findings)...)
		}
		items = append(items, behind(offered, p.Facts)...)
	}
	return items, nil
}

// behind are the offers of the very value that a problem is about, where one of them is;
// a rule may read others too, which have no part in it.
func behind(offered []wire.RepairItem, facts problem.Facts) []wire.RepairItem {
	values := []string{facts.Value}
	for _, r := range facts.Refused {
		values = append(values, r.Value)
	}
	is := func(i wire.RepairItem) bool {
		return i.Before != "" && slices.ContainsFunc(values, func(v string) bool { return strings.EqualFold(v, i.Before) })
	}
	if !slices.ContainsFunc(offered, is) {
		return offered
	}
	return slices.DeleteFunc(offered, func(i wire.RepairItem) bool { return !is(i) })
}

// offers are the values of an attribute as they are, each with what a survey proposes for
// it; of an attribute that is empty, the value that it may get.
func offers(one entry.Entry, name string, findings []survey.Finding) []wire.RepairItem {
	values := one.Attributes.All(name)
	if len(values) == 0 {
		values = []string{""}
	}
	items := make([]wire.RepairItem, len(values))
	for i, value := range values {
		items[i] = wire.RepairItem{Number: i + 1, Directory: one.Directory, EntryID: one.ID.String(), DN: one.DN, Name: one.Name(), Attribute: name, Before: value, After: value}
		for _, f := range findings {
			if strings.EqualFold(f.Attribute, name) && f.Value == value && f.Action == survey.Set {
				items[i].After = f.Proposal
			}
		}
	}
	return items
}
