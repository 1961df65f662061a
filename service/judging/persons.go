package judging

import (
	"context"
	"iter"
	"slices"

	"kambrel.example/kambrel/core/decide"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/person"
	"kambrel.example/kambrel/service/store"
)

// PersonKeys are by what the users of a batch are one with others.
func (j *Judge) PersonKeys(ctx context.Context, facts decide.Facts, batch []decide.Case) ([]store.PersonKeys, error) {
	if j.Settings.AsksForGroups {
		filled := make([]*entry.Entry, len(batch))
		for i := range batch {
			filled[i] = &batch[i].Entry
		}
		if err := facts.FillGroups(ctx, filled); err != nil {
			return nil, err
		}
	}
	keys := make([]store.PersonKeys, 0, len(batch))
	for _, c := range batch {
		if c.Entry.Kind != entry.User {
			continue
		}
		item := store.PersonKeys{Ref: c.Entry.Ref(), Inside: j.Settings.Scope.Decide(c.Entry).In}
		// Who has left is still asked for the link.
		if item.Inside || c.Link != nil {
			item.Keys = j.Settings.Of(entry.User).Person.Keys(c.Entry)
		}
		keys = append(keys, item)
	}
	return keys, nil
}

// DecidePersons says who is one person with whom among members, and of those looked
// at that whoever has no key any more follows nobody.
func (j *Judge) DecidePersons(members []person.Member, looked []store.PersonKeys) []person.Outcome {
	known := make(map[entry.Ref]bool, len(members))
	for i := range members {
		members[i].Order = slices.Index(j.Settings.Directories, members[i].Directory)
		known[members[i].Ref()] = true
	}
	outcomes := person.Decide(members)
	for _, item := range looked {
		if !known[item.Ref] && len(item.Keys) == 0 {
			outcomes = append(outcomes, person.Outcome{Member: person.Member{Directory: item.Ref.Directory, ID: item.Ref.ID}})
		}
	}
	return outcomes
}

// Persons is who would be one person with whom after a plan.
type Persons struct {
	Following map[entry.Ref]*decide.Following // of whom it was looked for; nil: nobody
	followers map[entry.Ref][]entry.Ref
	Moves     []store.Move
	moved     map[entry.Ref]entry.Ref // whose link an entry gets, or the zero Ref when it goes
	concerned []entry.Ref             // to be looked at since that changes
}

// imaginePersons finds out who would be one person with whom when entries are
// looked at anew; all of them are users that the plan looks at. What it finds is
// kept nowhere.
func (j *Judge) imaginePersons(ctx context.Context, batches iter.Seq2[[]decide.Case, error], everybody bool) (*Persons, error) {
	fresh := map[entry.Ref]person.Member{}
	var looked []store.PersonKeys
	for batch, err := range batches {
		if err != nil {
			return nil, err
		}
		keys, err := j.PersonKeys(ctx, j.DB.Facts, batch)
		if err != nil {
			return nil, err
		}
		cases := map[entry.Ref]decide.Case{}
		for _, c := range batch {
			cases[c.Entry.Ref()] = c
		}
		for _, item := range keys {
			c := cases[item.Ref]
			m := person.Member{Directory: item.Ref.Directory, ID: item.Ref.ID, DN: c.Entry.DN, Keys: slices.Sorted(slices.Values(item.Keys)), Inside: item.Inside, Left: c.LeftAt != nil}
			if c.Link != nil {
				m.ResourceID = c.Link.ResourceID
			}
			fresh[item.Ref] = m
		}
		looked = append(looked, keys...)
	}
	var members []person.Member
	if !everybody {
		var refs []entry.Ref
		var texts []string
		for _, item := range looked {
			refs, texts = append(refs, item.Ref), append(texts, item.Keys...)
		}
		kept, err := j.DB.Persons.MatesOf(ctx, refs, texts)
		if err != nil {
			return nil, err
		}
		for _, m := range kept {
			if _, anew := fresh[m.Ref()]; !anew {
				members = append(members, m)
			}
		}
	}
	for _, item := range looked {
		if len(item.Keys) > 0 {
			members = append(members, fresh[item.Ref])
		}
	}
	slices.SortFunc(members, func(a, b person.Member) int { return a.Ref().Compare(b.Ref()) })
	return j.personsOf(ctx, j.DecidePersons(members, looked))
}

// personsOf arranges outcomes for looking up, and tells whom it concerns that they
// differ from what is kept.
func (j *Judge) personsOf(ctx context.Context, outcomes []person.Outcome) (*Persons, error) {
	p := &Persons{Following: map[entry.Ref]*decide.Following{}, followers: map[entry.Ref][]entry.Ref{}, moved: map[entry.Ref]entry.Ref{}}
	refs := make([]entry.Ref, len(outcomes))
	for i, o := range outcomes {
		refs[i] = o.Ref()
	}
	before := map[entry.Ref]decide.Following{}
	for part := range slices.Chunk(refs, 5000) {
		following, err := j.DB.Persons.FollowingOf(ctx, part)
		if err != nil {
			return nil, err
		}
		for ref, f := range following {
			before[ref] = f
		}
	}
	concerns := map[entry.Ref]bool{}
	concern := func(refs ...entry.Ref) {
		for _, ref := range refs {
			if (ref != entry.Ref{}) && !concerns[ref] {
				concerns[ref] = true
				p.concerned = append(p.concerned, ref)
			}
		}
	}
	for _, o := range outcomes {
		ref := o.Ref()
		var f *decide.Following
		switch {
		case o.Lead != nil:
			f = &decide.Following{Lead: o.Lead.Ref(), LeadDN: o.Lead.DN, Rule: o.Rule}
			p.followers[f.Lead] = append(p.followers[f.Lead], ref)
		case o.Problem != nil:
			f = &decide.Following{Rule: o.Rule, Problem: o.Problem}
		}
		p.Following[ref] = f
		old, had := before[ref]
		switch {
		case had != (f != nil), had && (old.Lead != f.Lead || old.Code() != f.Code()):
			concern(ref, old.Lead)
			if f != nil {
				concern(f.Lead)
			}
		case had: // what it lends may have changed
			concern(f.Lead)
		}
		if o.From != nil {
			p.Moves = append(p.Moves, store.Move{From: o.From.Ref(), To: ref})
			p.moved[ref], p.moved[o.From.Ref()] = o.From.Ref(), entry.Ref{}
			concern(ref, o.From.Ref())
		}
	}
	return p, nil
}

// over puts what is imagined over what the database has.
func (p *Persons) over(ctx context.Context, s *store.Store, refs []entry.Ref, kin map[entry.Ref]decide.Kin) (map[entry.Ref]decide.Kin, error) {
	var lent []entry.Ref
	for _, ref := range refs {
		lent = append(lent, p.followers[ref]...)
	}
	entries := map[entry.Ref]entry.Entry{}
	if len(lent) > 0 {
		cases, err := s.Cases.Of(ctx, lent)
		if err != nil {
			return nil, err
		}
		for _, c := range cases {
			entries[c.Entry.Ref()] = c.Entry
		}
	}
	for _, ref := range refs {
		one := kin[ref]
		if f, looked := p.Following[ref]; looked {
			one.Follows = f
		}
		one.Followers = slices.DeleteFunc(slices.Clone(one.Followers), func(f decide.Follower) bool {
			_, looked := p.Following[f.Entry.Ref()]
			return looked
		})
		for _, follower := range p.followers[ref] {
			one.Followers = append(one.Followers, decide.Follower{Entry: entries[follower], Rule: p.Following[follower].Rule})
		}
		slices.SortFunc(one.Followers, func(a, b decide.Follower) int { return a.Entry.Ref().Compare(b.Entry.Ref()) })
		kin[ref] = one
	}
	return kin, nil
}

// hasLink tells whether an entry would have a link, which may have gone over.
func (p *Persons) hasLink(ref entry.Ref, has bool) bool {
	if p == nil {
		return has
	}
	if from, moved := p.moved[ref]; moved {
		return from != entry.Ref{}
	}
	return has
}

// moveLinks gives cases the links that would go over to them.
func (p *Persons) moveLinks(ctx context.Context, s *store.Store, cases []decide.Case) error {
	if p == nil || len(p.moved) == 0 {
		return nil
	}
	for i := range cases {
		c := &cases[i]
		from, moved := p.moved[c.Entry.Ref()]
		if !moved {
			continue
		}
		given := decide.Case{}
		if (from != entry.Ref{}) {
			var err error
			if given, err = s.Cases.Get(ctx, from); err != nil {
				return err
			}
		}
		c.Link, c.LinkKey, c.LeftAt, c.Resource = given.Link, given.LinkKey, given.LeftAt, given.Resource
	}
	return nil
}
