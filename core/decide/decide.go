package decide

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"time"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/match"
	"kambrel.example/kambrel/core/plan"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/rules"
	"kambrel.example/kambrel/core/settings"
)

// Decider decides about batches of cases.
type Decider struct {
	Settings *Settings
	Cloud    Cloud
	Facts    Facts
	Now      time.Time
	// Last: whoever is still to be planned and holds a value keeps it; else the
	// case waits for the end of the plan.
	Last bool
}

// Decide says what is to be done about every case of a batch, in its order. The
// unique values that an outcome takes are claimed from Facts, those with a
// resource first, so that a newcomer never takes a login from who has it.
func (d *Decider) Decide(ctx context.Context, cases []Case) ([]*Outcome, error) {
	outcomes, err := d.judge(ctx, cases)
	if err != nil {
		return nil, err
	}
	if err := d.returns(ctx, outcomes); err != nil {
		return nil, err
	}
	if err := d.match(ctx, outcomes); err != nil {
		return nil, err
	}
	if err := d.claim(ctx, outcomes); err != nil {
		return nil, err
	}
	if err := d.clashWithCloud(ctx, outcomes); err != nil {
		return nil, err
	}
	for _, o := range outcomes {
		o.keep()
		o.unpin()
	}
	return outcomes, nil
}

// judge is scope and rules, by the entries that are the same person.
func (d *Decider) judge(ctx context.Context, cases []Case) ([]*Outcome, error) {
	outcomes := make([]*Outcome, len(cases))
	refs := make([]entry.Ref, len(cases))
	filled := make([]*entry.Entry, len(cases))
	for i := range cases {
		outcomes[i] = &Outcome{Case: cases[i]}
		refs[i], filled[i] = outcomes[i].Ref(), &outcomes[i].Case.Entry
	}
	kin := map[entry.Ref]Kin{}
	if d.Settings.HasPersons() {
		var err error
		if kin, err = d.Facts.Kin(ctx, refs); err != nil {
			return nil, fmt.Errorf("look who is one person with whom: %w", err)
		}
	}
	for i, o := range outcomes {
		o.Kin = kin[refs[i]]
		for j := range o.Kin.Followers {
			filled = append(filled, &o.Kin.Followers[j].Entry)
		}
	}
	if d.Settings.AsksForGroups {
		if err := d.Facts.FillGroups(ctx, filled); err != nil {
			return nil, fmt.Errorf("look for the groups that hold entries: %w", err)
		}
	}
	for _, o := range outcomes {
		of := d.Settings.Of(o.Case.Entry.Kind)
		o.Written = !of.Rules.Empty() && d.Cloud.Kinds[o.Case.Entry.Kind]
		if o.Case.Link == nil {
			o.Case.Entry.CloudGroup = d.Settings.CloudGroupOf(o.Case.Entry)
		}
		o.Verdict = d.Settings.Scope.Decide(o.Case.Entry)
		o.pinScope()
		if o.Verdict.In && o.Written {
			o.Desired = of.Rules.Apply(d.Settings.PersonOf(o.Case.Entry, o.Kin.Followers))
			o.pinValues(of.Rules)
		}
		o.subject = plan.Subject{
			Entry: o.Case.Entry, Verdict: o.Verdict, Desired: o.Desired, Link: o.Case.Link, Resource: o.Case.Resource, Forms: o.Case.Forms, Leavers: of.Leavers,
		}
		o.subject.Due, o.subject.GraceOver = d.grace(of, o.LeftAt)
		o.pinDeletion()
	}
	return outcomes, nil
}

// grace tells when the resource of somebody who has left is deleted, nil when it stays,
// and whether that is now.
func (d *Decider) grace(of *Kind, left *time.Time) (*time.Time, bool) {
	if of.Leavers != settings.Delete {
		return nil, false
	}
	from := d.Now
	if left != nil {
		from = *left
	}
	due := from.Add(of.Grace)
	return &due, !d.Now.Before(due)
}

// PersonOf puts the entries of a person into the order of the settings.
func (c *Settings) PersonOf(lead entry.Entry, followers []Follower) rules.Person {
	out := rules.Person{lead}
	for _, f := range followers {
		out = append(out, f.Entry)
	}
	return rules.Preferred(out, c.Directories, func(e entry.Entry) string { return e.Directory })
}

// returns finds the entries that are one of those deleted, made again, and of
// those deleted the ones that were.
func (d *Decider) returns(ctx context.Context, outcomes []*Outcome) error {
	at := map[entry.Ref]*Outcome{}
	var open, leaving []entry.Ref
	for _, o := range outcomes {
		at[o.Ref()] = o
		if o.Unmatched() {
			open = append(open, o.Ref())
		} else if o.Case.Entry.Gone && o.Case.Link != nil && !o.Case.Link.Left {
			leaving = append(leaving, o.Ref())
		}
	}
	formers, err := d.Facts.Formers(ctx, open)
	if err != nil {
		return fmt.Errorf("look who was deleted and made again: %w", err)
	}
	for ref, list := range formers {
		o := at[ref]
		o.formers = slices.DeleteFunc(list, func(f Former) bool { return !match.Returned(o.Case.Entry, f.Entry) })
	}
	heirs, err := d.Facts.Heirs(ctx, leaving)
	if err != nil {
		return fmt.Errorf("look who was deleted and made again: %w", err)
	}
	for ref, list := range heirs {
		o := at[ref]
		list = slices.DeleteFunc(list, func(f Former) bool { return !match.Returned(f.Entry, o.Case.Entry) })
		if len(list) != 1 {
			continue
		}
		heir := &list[0].Entry
		if d.Settings.AsksForGroups {
			if err := d.Facts.FillGroups(ctx, []*entry.Entry{heir}); err != nil {
				return fmt.Errorf("look for the groups that hold entries: %w", err)
			}
		}
		heir.CloudGroup = d.Settings.CloudGroupOf(*heir)
		if d.Settings.Scope.Decide(*heir).In {
			o.Decision = plan.Decision{Code: plan.Returns}
		}
	}
	return nil
}

// match decides for every case, what operators have decided before the rules.
func (d *Decider) match(ctx context.Context, outcomes []*Outcome) error {
	var keys []string
	refs := make([]entry.Ref, len(outcomes))
	for i, o := range outcomes {
		refs[i] = o.Ref()
		if o.Unmatched() {
			o.keys = d.keysOf(o)
			for _, key := range o.keys {
				keys = append(keys, key.Text())
			}
		}
	}
	holders, err := d.Facts.Holders(ctx, keys)
	if err != nil {
		return fmt.Errorf("look for resources to match: %w", err)
	}
	chosen, err := d.Facts.Chosen(ctx, refs)
	if err != nil {
		return fmt.Errorf("look for what operators have decided: %w", err)
	}
	keys = nil
	for i, o := range outcomes {
		o.chosen = chosen[refs[i]]
		switch {
		case !o.Written:
			o.Decision = plan.Decision{Code: plan.NotSent}
			continue
		case o.Kin.Follows != nil && o.Verdict.In:
			o.Decision = follow(*o.Kin.Follows)
			o.release() // of one person with two resources, one may be let go
			continue
		case o.Code == plan.Returns:
			continue
		}
		if o.Unmatched() {
			o.matchWith(holders)
			o.byHand()
		}
		o.subject.Match = o.Match
		o.Decision = plan.CheckLogin(plan.Decide(o.subject), d.Cloud.Domains)
		o.release()
		if o.chosen.Choice != ChooseCreate {
			o.near = o.likeness()
			for _, key := range o.near {
				keys = append(keys, key.Text())
			}
		}
	}
	if len(keys) == 0 {
		return nil
	}
	if holders, err = d.Facts.FreeHolders(ctx, keys); err != nil {
		return fmt.Errorf("look for resources that are alike: %w", err)
	}
	for _, o := range outcomes {
		if found := o.alike(holders); len(found) > 0 {
			tried := o.Match.Reasons
			o.Match = match.TooNear(found)
			o.Match.Reasons = append(tried, o.Match.Reasons...)
			o.subject.Match = o.Match
			o.Decision = plan.Decide(o.subject)
		}
	}
	return nil
}

// follow is the decision about an entry that another one leads.
func follow(f Following) plan.Decision {
	if f.Problem != nil {
		return plan.Decision{Code: plan.Blocked, Problem: f.Problem}
	}
	return plan.Decision{Code: plan.Follows}
}

// matchWith decides the match from the resources that were found.
func (o *Outcome) matchWith(holders map[string][]Holder) {
	kind := o.Case.Entry.Kind
	o.Match = match.Decide(o.keys, func(key match.Key) []match.Candidate {
		var candidates []match.Candidate
		for _, holder := range holders[key.Text()] {
			if holder.Kind == kind {
				candidates = append(candidates, match.Candidate{Resource: holder.Resource, Owner: holder.owner(), Former: o.was(holder)})
			}
		}
		return candidates
	})
}

// keysOf are the values by which the entry's resource may be found.
func (d *Decider) keysOf(o *Outcome) []match.Key {
	of := d.Settings.Of(o.Case.Entry.Kind)
	// A resource that was made for another entry of the person bears its id.
	others := of.Person.Carried(o.Case.Entry)
	for _, f := range o.Kin.Followers {
		others = append(others, f.Entry.ID)
	}
	keys := of.Match.Keys(o.Case.Entry, o.Desired.Texts, others...)
	for _, former := range o.formers {
		keys = slices.Insert(keys, 1, match.FormerKey(o.Case.Entry.Kind, cmp.Or(former.LinkKey, former.Entry.LinkKey())))
	}
	return keys
}

// Chosen is what an operator has decided about the entry before.
func (o *Outcome) Chosen() Chosen { return o.chosen }

// byHand puts what an operator has decided in the place of the rules.
func (o *Outcome) byHand() {
	c := o.chosen
	links := c.Choice == ChooseLink || c.Choice == ChooseMerge
	switch {
	case links && c.Resource != nil && c.Owner != "" && c.OwnerRef != o.Ref():
		o.Match = match.TakenByHand(c.Resource, c.By, problem.EntryOf(c.OwnerRef, c.Owner))
	case links && c.Resource != nil && o.Match.Action != match.Relink:
		o.Match = match.ByHand(c.Resource, c.By)
	case c.Choice == ChooseHold:
		o.Match = match.Held(c.By)
	case c.Choice == ChooseCreate && o.Match.Action == match.Stop:
		o.Match = match.Decision{Action: match.Create, Reasons: o.Match.Reasons}
	}
}

// release lets the resource go that the entry has, where that was decided: it is
// untied, or deleted since it is a double of the one that is kept.
func (o *Outcome) release() {
	c := o.chosen
	switch {
	case o.Case.Link == nil:
	case o.Case.Resource == nil && (c.Choice == ChooseHold || c.Choice == ChooseMerge && o.Verdict.In):
		o.Decision = plan.Decision{Code: plan.Unlinked}
	case c.Choice == ChooseHold:
		o.Decision = plan.Let(plan.Unlink, o.Case.Resource, "unlinked by hand, "+c.By)
		o.putBack()
	case c.Choice == ChooseMerge && o.Verdict.In && o.Case.Resource != nil && c.Resource != nil && c.ResourceID != o.Case.Link.ResourceID:
		if c.Owner != "" && c.OwnerRef != o.Ref() {
			o.Decision.Problem = match.TakenByHand(c.Resource, c.By, problem.EntryOf(c.OwnerRef, c.Owner)).Problem
			return
		}
		o.Decision = plan.Let(plan.Delete, o.Case.Resource, fmt.Sprintf("merged by hand, %s: %s (%s) is kept", c.By, c.Resource.Name(), c.Resource.ID()))
	}
}
