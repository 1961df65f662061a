package plan

import (
	"cmp"
	"slices"
	"strings"

	"kambrel.example/kambrel/core/change"
	"kambrel.example/kambrel/core/rules"
	"kambrel.example/kambrel/core/settings"
)

// Exceeds tells whether n of total are more than a limit allows: more than its number
// and more than its share. Both must be passed, so that neither a small directory nor
// a large one is stopped by what happens every day.
func Exceeds(limit settings.Limit, n, total int) bool {
	return n > limit.Number && n*100 > total*limit.Share
}

// HoldsFrom is from how many on a limit holds, of a total; more than the total where it holds
// nothing.
func HoldsFrom(limit settings.Limit, total int) int {
	return max(limit.Number, total*limit.Share/100) + 1
}

// LossOf is a way in which people lose something that they have.
type LossOf string

// The ways beside removals, which are operations of their own.
const (
	LosesMembers LossOf = "members" // of a group, while those are still there
	LosesValue   LossOf = "values"  // emptied, or switched off
	LosesAccess  LossOf = "access"  // roles, entitlements and the like
	LosesLogin   LossOf = "logins"  // another one
)

// Loss is what a diff takes away: in which way, and of which attribute.
type Loss struct {
	Of     LossOf
	Target string
}

func (l Loss) String() string { return string(l.Of) + " " + l.Target }

// ParseLoss reads what String writes.
func ParseLoss(text string) Loss {
	of, target, _ := strings.Cut(text, " ")
	return Loss{LossOf(of), target}
}

// LossIn tells what a diff takes away; false when nothing.
func LossIn(diff change.Diff) (Loss, bool) {
	nothing := change.Same(diff.Before, nil)
	switch {
	case diff.Target == rules.Members && len(diff.Removed) > 0:
		return Loss{LosesMembers, diff.Target}, true
	case len(diff.Removed) > 0:
		return Loss{LosesAccess, diff.Target}, true
	case diff.Elements() || nothing:
		return Loss{}, false
	case strings.EqualFold(diff.Target, "userName") && !change.Same(diff.Before, diff.After):
		return Loss{LosesLogin, diff.Target}, true
	case change.Same(diff.After, nil), strings.EqualFold(diff.Target, "active") && diff.After == false && diff.Before == true:
		return Loss{LosesValue, diff.Target}, true
	}
	return Loss{}, false
}

// Losses lists what a change takes away; a removal is counted as such, and nothing
// of it by itself.
func Losses(operation Operation, diffs []change.Diff) []Loss {
	switch operation {
	case Update, Adopt, Restore:
	default:
		return nil
	}
	var losses []Loss
	for _, diff := range diffs {
		if loss, loses := LossIn(diff); loses {
			losses = append(losses, loss)
		}
	}
	slices.SortFunc(losses, func(a, b Loss) int { return cmp.Compare(a.String(), b.String()) })
	return slices.Compact(losses)
}

// Wait divides a change: waits is what it takes away in a way that is held, and of
// that the members or elements alone which waiting keeps; rest goes on.
func Wait(diffs []change.Diff, waiting func(Loss, change.Member) bool) (waits, rest []change.Diff) {
	for _, diff := range diffs {
		loss, loses := LossIn(diff)
		if !loses || len(diff.Removed) == 0 {
			if loses && waiting(loss, change.Member{}) {
				waits = append(waits, diff)
			} else {
				rest = append(rest, diff)
			}
			continue
		}
		later, now := diff, diff
		later.Added, later.Removed, now.Removed = nil, nil, nil
		for _, m := range diff.Removed {
			if waiting(loss, m) {
				later.Removed = append(later.Removed, m)
			} else {
				now.Removed = append(now.Removed, m)
			}
		}
		if len(later.Removed) > 0 {
			waits = append(waits, later)
		}
		if now.Elements() {
			rest = append(rest, now)
		}
	}
	return waits, rest
}
