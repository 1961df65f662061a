package runs

import (
	"context"
	"slices"
	"strings"

	"kambrel.example/kambrel/core/change"
	"kambrel.example/kambrel/core/decide"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/rules"
	"kambrel.example/kambrel/service/judging"
	"kambrel.example/kambrel/service/store"
)

// pinnedTies brings the comparison of members to what was put back, and returns the pins of
// references. Pins that the directory agrees with end, but for a rehearsal.
func (x *execution) pinnedTies(ctx context.Context, state *store.Store, refs []entry.Ref, members map[entry.Ref]*store.MemberDiff) (map[entry.Ref][]decide.Pin, error) {
	ties, err := state.Pins.OfTies(ctx, refs)
	if err != nil || len(ties) == 0 {
		return nil, err
	}
	pointed, err := judging.PointedBy(ctx, x.Settings, state, 0, refs)
	if err != nil {
		return nil, err
	}
	references, lapsed := map[entry.Ref][]decide.Pin{}, map[entry.Ref][]decide.Pin{}
	for ref, pins := range ties {
		for _, pin := range pins {
			switch {
			case !strings.EqualFold(pin.Target, rules.Members):
				if x.agrees(pin.Pin, pointed[ref]) {
					lapsed[ref] = append(lapsed[ref], pin.Pin)
				} else {
					references[ref] = append(references[ref], pin.Pin)
				}
			case pin.Wanted == pin.Holds() || !pin.There || pin.ResourceID == "":
				lapsed[ref] = append(lapsed[ref], pin.Pin)
			case x.Settings.Of(entry.Group).Rules.Members():
				if members[ref] == nil {
					members[ref] = &store.MemberDiff{ResourceID: pin.ResourceID}
				}
				pinMember(members[ref], pin)
			}
		}
		if diff := members[ref]; diff != nil && len(diff.Added)+len(diff.Removed) == 0 {
			delete(members, ref)
		}
	}
	if x.run.Purpose.Rehearses() {
		return references, nil
	}
	return references, x.store.Pins.Drop(ctx, lapsed)
}

// agrees tells whether a reference leads by itself to where it was put back. What is no
// reference is the plan's.
func (x *execution) agrees(pin decide.Pin, pointed []rules.Pointing) bool {
	for _, kind := range entry.Kinds {
		for _, reference := range x.Settings.Of(kind).Rules.References() {
			if strings.EqualFold(reference.Path.String(), pin.Target) {
				value, _ := reference.Value(pointed)
				return change.Same(value, pin.Value)
			}
		}
	}
	return false
}

// pinMember lets a member come, stay or go as it was put back.
func pinMember(diff *store.MemberDiff, pin store.TiePin) {
	is := func(m change.Member) bool { return m.Value == pin.Element }
	diff.Added, diff.Removed = slices.DeleteFunc(diff.Added, is), slices.DeleteFunc(diff.Removed, is)
	if pin.Has == pin.Holds() {
		return
	}
	member := change.Member{Value: pin.Element, Name: pin.Name, Type: entry.Kind(pin.Kind).ResourceType()}
	if pin.Holds() {
		diff.Added = append(diff.Added, member)
	} else {
		diff.Removed = append(diff.Removed, member)
	}
}
