package engine

import (
	"context"
	"slices"

	"kambrel.example/kambrel/core/match"
	"kambrel.example/kambrel/core/plan"
	"kambrel.example/kambrel/store"
)

// was tells whether a resource is that of the entry under its former id.
func (s *subject) was(h store.Holder) bool {
	return slices.ContainsFunc(s.formers, func(f store.Former) bool {
		return h.EntryID == f.Entry.ID.String() && h.Directory == f.Entry.Directory
	})
}

// linkedFormer is the former id of the entry under which the resource that was
// found is linked, nil when it is linked to nobody.
func (s *subject) linkedFormer() *store.Former {
	for i, former := range s.formers {
		if key := s.Match.Resource.ExternalID(); former.LinkKey != "" && (key == "" || key == former.LinkKey) {
			return &s.formers[i]
		}
	}
	return nil
}

// returns finds the entries that are one of those deleted, made again.
func (p *planner) returns(ctx context.Context, state *store.Store, subjects []*subject) error {
	at := map[store.Ref]*subject{}
	var open, leaving []store.Ref
	for _, s := range subjects {
		at[s.ref] = s
		if s.unmatched() {
			open = append(open, s.ref)
		} else if s.Dirty.Entry.Gone && s.Dirty.Link != nil && !s.Dirty.Link.Left {
			leaving = append(leaving, s.ref)
		}
	}
	formers, err := state.Formers(ctx, open)
	if err != nil {
		return err
	}
	for ref, list := range formers {
		at[ref].formers = slices.DeleteFunc(list, func(f store.Former) bool { return !match.Returned(at[ref].Dirty.Entry, f.Entry) })
	}
	heirs, err := state.Heirs(ctx, leaving)
	if err != nil {
		return err
	}
	for ref, list := range heirs {
		list = slices.DeleteFunc(list, func(f store.Former) bool { return !match.Returned(f.Entry, at[ref].Dirty.Entry) })
		if len(list) != 1 {
			continue
		}
		heir := []store.Dirty{{Entry: list[0].Entry}}
		if err := p.settings.fillGroups(ctx, state, heir); err != nil {
			return err
		}
		if p.settings.scope.Decide(heir[0].Entry).In {
			at[ref].decision = plan.Decision{Code: plan.Returns}
		}
	}
	return nil
}
