package runs

import (
	"cmp"
	"context"
	"maps"
	"slices"
	"strings"
	"sync"

	"kambrel.example/kambrel/core/change"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/plan"
	"kambrel.example/kambrel/service/store"
)

// mostInCircle is how many resources that exchange their values among them are helped
// in one run.
const mostInCircle = 12

// circles are resources that each want a unique value which the next one has, and has to
// give up for another: none of them can be written first.
type circles struct {
	mu    sync.Mutex
	waits map[waiting]blocked // of the pass that is under way
}

// waiting is a resource that wants a value of an attribute.
type waiting struct {
	kind     entry.Kind
	resource string
	key      string // of the attribute
}

// blocked is what it was refused, and who has the value.
type blocked struct {
	change store.Change
	diff   change.Diff
	holder string
}

func (c *circles) note(w waiting, b blocked) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.waits == nil {
		c.waits = map[waiting]blocked{}
	}
	c.waits[w] = b
}

// take returns one member of each circle of the pass, and how long the longest is; what
// waits for somebody outside of a circle is left alone. Of resources that exchange
// several values, logins come first, since that may do.
func (c *circles) take() (open []blocked, longest int) {
	c.mu.Lock()
	defer c.mu.Unlock()
	waits := c.waits
	c.waits = nil
	done := map[string]bool{} // resources of circles that were found
	for _, start := range slices.SortedFunc(maps.Keys(waits), func(a, b waiting) int {
		return cmp.Or(cmp.Compare(a.kind, b.kind), -cmp.Compare(a.key, b.key), cmp.Compare(a.resource, b.resource))
	}) {
		path, at := []waiting{start}, start
		for len(path) <= mostInCircle && !done[start.resource] {
			next, blocked := waits[at]
			if !blocked {
				break
			}
			if at.resource = next.holder; at == start {
				open, longest = append(open, waits[start]), max(longest, len(path))
				for _, member := range path {
					done[member.resource] = true
				}
			} else if slices.Contains(path, at) {
				break // a circle of others
			}
			path = append(path, at)
		}
	}
	return open, longest
}

// openCircles gives one member of each circle a value that nobody has, so that the next
// pass can give the others theirs, and this one last. It returns how many passes that
// may take.
func (x *execution) openCircles(ctx context.Context) (int, error) {
	open, longest := x.circles.take()
	if len(open) == 0 {
		return 0, nil
	}
	changes := make([]store.NewChange, len(open))
	for i, b := range open {
		c := b.change
		changes[i] = store.NewChange{Ref: c.Ref(), Kind: c.Kind, Operation: plan.Update, DN: c.DN, ResourceID: c.ResourceID, Name: c.Name, Diffs: []change.Diff{{
			Target: b.diff.Target, Before: b.diff.Before, After: passing(c.ResourceID, b.diff.Before), Source: "a value in passing, since several exchange theirs",
		}}}
	}
	if err := x.store.Fenced(ctx, func(tx *store.Store) error { return tx.Changes.Add(ctx, x.run.ID, changes) }); err != nil {
		return 0, err
	}
	return longest, x.write(ctx, 0, store.RankReferences-1, false)
}

// passing is a value that nobody else has, in the form of the one that a resource has: of
// a login or an address in the same domain.
func passing(resource string, before any) string {
	name := "passing-" + strings.ReplaceAll(resource, "-", "")
	name = name[:min(len(name), 40)]
	value, _ := before.(string)
	if at := strings.LastIndexByte(value, '@'); at >= 0 {
		return name + value[at:]
	}
	return name
}
