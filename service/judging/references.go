package judging

import (
	"context"
	"slices"

	"kambrel.example/kambrel/core/decide"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/rules"
	"kambrel.example/kambrel/service/store"
)

// PointedBy tells whom entries refer to, and whom those do that follow them.
func PointedBy(ctx context.Context, c *decide.Settings, state *store.Store, rehearsed int64, refs []entry.Ref) (map[entry.Ref][]rules.Pointing, error) {
	persons := map[entry.Ref][]entry.Ref{}
	all := slices.Clone(refs)
	if c.HasPersons() {
		followers, err := state.Persons.FollowersOf(ctx, refs)
		if err != nil {
			return nil, err
		}
		for lead, list := range followers {
			for _, f := range list {
				persons[lead] = append(persons[lead], entry.Ref{Directory: f.Entry.Directory, ID: f.Entry.ID})
			}
			all = append(all, persons[lead]...)
		}
	}
	pointed, err := state.References.Pointed(ctx, rehearsed, all)
	if err != nil {
		return nil, err
	}
	out := map[entry.Ref][]rules.Pointing{}
	for _, lead := range refs {
		for _, ref := range rules.Preferred(append([]entry.Ref{lead}, persons[lead]...), c.Directories, func(r entry.Ref) string { return r.Directory }) {
			out[lead] = append(out[lead], rules.Pointing{Directory: ref.Directory, To: pointed[ref]})
		}
	}
	return out, nil
}
