package judging

import (
	"context"
	"slices"
	"sync"

	"kambrel.example/kambrel/core/decide"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/match"
	"kambrel.example/kambrel/core/plan"
	"kambrel.example/kambrel/service/store"
)

// Imagined answers decisions by the database as it is, and keeps in memory what
// is planned: claims, who is one person with whom, and what somebody may decide.
// Nothing of it reaches the database, so a rehearsal never makes a run wait. It
// may be used by many goroutines.
type Imagined struct {
	store.Facts
	db      *store.Store
	Persons *Persons             // nil: as the database has it
	toCome  func(entry.Ref) bool // whether the plan is to look at somebody at all
	ref     entry.Ref            // one that is looked at otherwise than it is
	what    WhatIf
	Other   *decide.Outcome // of the other one that is looked at otherwise

	mu      sync.Mutex // guards what follows
	claimed *claimed
	left    map[entry.Ref]bool // what became of links: who has left, or is back
	freed   map[entry.Ref]bool // whose link was dropped
}

func imagine(s *store.Store, toCome func(entry.Ref) bool) *Imagined {
	return &Imagined{Facts: s.Facts, db: s, toCome: toCome, claimed: newClaimed(), left: map[entry.Ref]bool{}, freed: map[entry.Ref]bool{}}
}

// Claim gives out claims, those of the database counting where their holder is
// not looked at anew.
func (m *Imagined) Claim(ctx context.Context, refs []entry.Ref, claims []decide.Claim) (map[string]decide.Claimant, error) {
	kept, err := m.Claims(ctx, claims)
	if err != nil {
		return nil, err
	}
	taken := m.give(refs, claims, kept)
	return taken, m.name(ctx, taken)
}

func (m *Imagined) give(refs []entry.Ref, claims []decide.Claim, kept map[string]entry.Ref) map[string]decide.Claimant {
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, ref := range refs {
		m.claimed.end(ref)
	}
	taken := map[string]decide.Claimant{}
	for _, c := range claims {
		holder, ok := m.claimed.holder(c.Key)
		if !ok {
			holder = kept[c.Key]
			ok = holder != entry.Ref{} && !m.claimed.person(holder).looked
		}
		switch {
		case !ok:
			m.claimed.give(c.Key, c.Ref)
		case holder != c.Ref:
			taken[c.Key] = decide.Claimant{Ref: holder, Dirty: m.toCome(holder) && !m.claimed.person(holder).done}
		}
	}
	return taken
}

// name gives the holders their names.
func (m *Imagined) name(ctx context.Context, holders map[string]decide.Claimant) error {
	if len(holders) == 0 {
		return nil
	}
	refs := make([]entry.Ref, 0, len(holders))
	for _, holder := range holders {
		refs = append(refs, holder.Ref)
	}
	names, err := m.db.Entries.Names(ctx, refs)
	for key, holder := range holders {
		holder.DN = names[holder.Ref]
		holders[key] = holder
	}
	return err
}

// Unclaim ends claims that were given out.
func (m *Imagined) Unclaim(_ context.Context, refs []entry.Ref) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, ref := range refs {
		m.claimed.end(ref)
	}
	return nil
}

// decided notes that a batch was planned; whoever waits is planned once more.
func (m *Imagined) decided(outcomes []*decide.Outcome) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, o := range outcomes {
		if o.Waits {
			continue
		}
		ref := o.Ref()
		if !o.Again() {
			m.claimed.decided(ref)
		}
		switch {
		case o.Code == plan.Unlinked:
			m.freed[ref] = true
		case o.Code == plan.Left:
			m.left[ref] = true
		case o.Case.Link != nil && o.Case.Link.Left && (o.Code == plan.InStep || o.Code == plan.Relinked):
			m.left[ref] = false
		}
		if o.Unmatched() && o.Match.Action == match.Relink {
			m.claimed.own(o.Match.Resource.ID(), ref)
		}
	}
}

// Holders finds resources, with the links as they would be by now.
func (m *Imagined) Holders(ctx context.Context, keys []string) (map[string][]decide.Holder, error) {
	holders, err := m.Facts.Holders(ctx, keys)
	return m.held(ctx, holders, err)
}

// FreeHolders is Holders for resources without a link key.
func (m *Imagined) FreeHolders(ctx context.Context, keys []string) (map[string][]decide.Holder, error) {
	holders, err := m.Facts.FreeHolders(ctx, keys)
	return m.held(ctx, holders, err)
}

func (m *Imagined) held(ctx context.Context, holders map[string][]decide.Holder, err error) (map[string][]decide.Holder, error) {
	if err != nil {
		return nil, err
	}
	var owned []*decide.Holder
	var owners []entry.Ref
	m.mu.Lock()
	for _, list := range holders {
		for i := range list {
			h := &list[i]
			if left, known := m.left[h.Ref]; known {
				h.Left = left
			}
			if m.freed[h.Ref] {
				h.Ref, h.LinkedDN, h.Left, h.Gone = entry.Ref{}, "", false, false
			}
			if owner, known := m.claimed.owner(h.Resource.ID()); known {
				h.Ref, h.Left, h.Gone = owner, false, false
				owned, owners = append(owned, h), append(owners, owner)
			}
		}
	}
	m.mu.Unlock()
	if len(owned) == 0 {
		return holders, nil
	}
	names, err := m.db.Entries.Names(ctx, owners)
	for _, h := range owned {
		h.LinkedDN = names[h.Ref]
	}
	return holders, err
}

// Kin tells who is one person with whom.
func (m *Imagined) Kin(ctx context.Context, refs []entry.Ref) (map[entry.Ref]decide.Kin, error) {
	kin, err := m.Facts.Kin(ctx, refs)
	if err != nil || m.Persons == nil {
		return kin, err
	}
	return m.Persons.over(ctx, m.db, refs, kin)
}

// Chosen tells what was decided by hand, or may be.
func (m *Imagined) Chosen(ctx context.Context, refs []entry.Ref) (map[entry.Ref]decide.Chosen, error) {
	chosen, err := m.Facts.Chosen(ctx, refs)
	if err == nil && m.what.Chosen != nil && slices.Contains(refs, m.ref) {
		chosen[m.ref] = *m.what.Chosen
	}
	return chosen, err
}

// imagineCase gives the one that is looked at otherwise another link.
func (m *Imagined) imagineCase(cases []decide.Case) {
	for i := range cases {
		c := &cases[i]
		if c.Entry.Ref() == m.ref && len(m.what.Pins) > 0 {
			c.Pins = slices.Concat(m.what.Pins, c.Pins)
		}
		switch {
		case m.what.Other != nil && c.Entry.Ref() == *m.what.Other:
			c.Link, c.LinkKey, c.LeftAt, c.Resource = &plan.Link{ResourceID: m.what.OtherLinked.ID()}, m.what.OtherLinked.ExternalID(), nil, m.what.OtherLinked
		case c.Entry.Ref() != m.ref:
		case m.what.Unlinked:
			c.Link, c.LinkKey, c.LeftAt, c.Resource = nil, "", nil, nil
		case m.what.Linked != nil:
			c.Link, c.LinkKey, c.LeftAt, c.Resource = &plan.Link{ResourceID: m.what.Linked.ID()}, m.what.Linked.ExternalID(), nil, m.what.Linked
		}
	}
}
