package explain

import (
	"context"
	"maps"
	"reflect"
	"slices"
	"time"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/protocol/wire"
	"kambrel.example/kambrel/service/store"
)

const (
	// nowPatience is how long the cloud may take to say what it has.
	nowPatience = 10 * time.Second
	// mostNamed is how many members are named that differ.
	mostNamed = 20
)

// Now asks the cloud what it has of an object at this moment, members of a group
// included, and tells where that differs from the mirror: a full run would see
// the same.
func (e *Explain) Now(ctx context.Context, text string) (wire.CloudNow, error) {
	now := wire.CloudNow{Differences: []wire.NowDifference{}, Lost: []string{}, More: []string{}}
	hit, err := e.Resolve(ctx, text)
	if err != nil {
		return now, err
	}
	if hit.ResourceID == "" && hit.EntryID != "" {
		ref, err := RefOf(hit)
		if err != nil {
			return now, err
		}
		link, err := e.store.Links.Of(ctx, ref)
		if store.NotFound(err) {
			return now, problem.New(problem.NotFound, "%q has no resource in the cloud.", text)
		}
		if err != nil {
			return now, err
		}
		hit.ResourceID = link.ResourceID
	}
	now.ResourceID = hit.ResourceID
	kind, mirrored, err := e.store.Resources.OfKind(ctx, hit.ResourceID)
	if store.NotFound(err) {
		kind, mirrored, err = entry.Kind(hit.Kind), entry.Resource{}, nil
	}
	if err != nil {
		return now, err
	}
	ctx, cancel := context.WithTimeout(ctx, nowPatience)
	defer cancel()
	resource, err := e.cloud.Get(ctx, kind, hit.ResourceID)
	if err != nil {
		return now, asked(err)
	}
	if now.Found = resource != nil; !now.Found {
		return now, nil
	}
	names := maps.Clone(mirrored)
	maps.Copy(names, resource)
	for _, name := range slices.Sorted(maps.Keys(names)) {
		if name != "meta" && name != "schemas" && !reflect.DeepEqual(mirrored[name], resource[name]) {
			now.Differences = append(now.Differences, wire.NowDifference{Target: name, Mirror: mirrored[name], Now: resource[name]})
		}
	}
	if kind != entry.Group {
		return now, nil
	}
	return now, e.membersNow(ctx, &now)
}

func (e *Explain) membersNow(ctx context.Context, now *wire.CloudNow) error {
	members, found, err := e.cloud.Members(ctx, now.ResourceID)
	if err != nil {
		return asked(err)
	}
	if now.Found = found; !found {
		return nil
	}
	mirrored, err := e.store.Resources.MemberIDs(ctx, now.ResourceID)
	if err != nil {
		return err
	}
	now.Members, now.MembersMirrored = len(members), len(mirrored)
	have, known := setOf(members), setOf(mirrored)
	lost := slices.DeleteFunc(mirrored, func(id string) bool { return have[id] })
	more := slices.DeleteFunc(slices.Clone(members), func(id string) bool { return known[id] })
	shown, err := e.store.Resources.MembersShown(ctx, e.cloud.URL())
	if err != nil {
		return err
	}
	if shown > 0 && len(members) >= shown { // the cloud lists no more than these
		lost = nil
	}
	now.MembersLost, now.MembersMore = len(lost), len(more)
	if now.Lost, err = e.store.Resources.NamesOf(ctx, lost[:min(len(lost), mostNamed)]); err != nil {
		return err
	}
	now.More, err = e.store.Resources.NamesOf(ctx, more[:min(len(more), mostNamed)])
	return err
}

// asked gives an answer of the cloud that is none the code for it.
func asked(err error) error {
	if problem.CodeOf(err) == "" {
		return problem.Wrap(problem.CloudRefused, err, "ask for the resource")
	}
	return err
}

func setOf(ids []string) map[string]bool {
	set := make(map[string]bool, len(ids))
	for _, id := range ids {
		set[id] = true
	}
	return set
}
