package decide

import (
	"fmt"
	"slices"
	"time"

	"kambrel.example/kambrel/core/change"
	"kambrel.example/kambrel/core/plan"
	"kambrel.example/kambrel/core/reason"
)

// Kept is something that a run would have taken away, and that an operator has
// discarded: it stays until what caused it changes.
type Kept struct {
	// Loss is the text of a plan.Loss, or Removal.
	Loss string
	// Member is the member or element that stays, "" of anything else.
	Member string
	// Cause is why it would have gone; with another cause it is asked about anew.
	Cause  string
	By     string
	Reason string
	Made   time.Time
}

// Removal is the loss of the resource itself: it is suspended or deleted.
const Removal = "removal"

// KeptOf is what stays when a change is discarded, but for who does it and why. ties
// says that the change is about what ties resources together.
func KeptOf(operation plan.Operation, diffs []change.Diff, ties bool) []Kept {
	if operation.Removes() {
		return []Kept{{Loss: Removal, Cause: causeOf(operation, diffs)}}
	}
	var kept []Kept
	plan.Wait(diffs, func(loss plan.Loss, m change.Member) bool {
		if ties {
			kept = append(kept, KeptTie(loss, m))
		} else {
			kept = append(kept, keptIn(diffs, loss, m))
		}
		return false
	})
	return kept
}

// keptIn is what stays of one value or element that diffs would take away.
func keptIn(diffs []change.Diff, loss plan.Loss, m change.Member) Kept {
	if m.Value != "" {
		return Kept{Loss: loss.String(), Member: m.Value}
	}
	return Kept{Loss: loss.String(), Cause: afterOf(diffs, loss)}
}

// KeptTie is a member of a group, or a value that names another entry, that stays.
func KeptTie(loss plan.Loss, m change.Member) Kept {
	if loss.Of == plan.LosesMembers {
		return Kept{Loss: loss.String(), Member: m.Value}
	}
	return Kept{Loss: loss.String(), Cause: tied}
}

// Find is where in a list the same stays, by whomever and whyever; -1 when nowhere.
func (k Kept) Find(list []Kept) int {
	return slices.IndexFunc(list, func(one Kept) bool { return one.Loss == k.Loss && one.Member == k.Member && one.Cause == k.Cause })
}

// causeOf is why a resource would go: the policy, and what the scope says of the entry.
func causeOf(operation plan.Operation, diffs []change.Diff) string {
	if len(diffs) == 0 {
		return string(operation)
	}
	return string(operation) + ": " + diffs[0].Source
}

// afterOf is what would stand in the place of a value.
func afterOf(diffs []change.Diff, loss plan.Loss) string {
	for _, diff := range diffs {
		if diff.Target == loss.Target && !change.Same(diff.After, nil) {
			return fmt.Sprint(diff.After)
		}
	}
	return ""
}

// keep leaves out of a decision what an operator has kept, and tells what of that no
// longer has its cause. Members and references are compared elsewhere.
func (o *Outcome) keep() {
	if len(o.Case.Kept) == 0 || o.Waits {
		return
	}
	used := make([]bool, len(o.Case.Kept))
	find := func(is Kept) bool {
		at := is.Find(o.Case.Kept)
		if at >= 0 {
			used[at] = true
		}
		return at >= 0
	}
	if o.Operation.Removes() {
		if find(Kept{Loss: Removal, Cause: causeOf(o.Operation, o.Diffs)}) {
			o.Decision = plan.Decision{Code: plan.Kept, ResourceID: o.ResourceID}
		}
	} else if len(plan.Losses(o.Operation, o.Diffs)) > 0 {
		diffs := o.Diffs
		_, o.Diffs = plan.Wait(diffs, func(loss plan.Loss, m change.Member) bool {
			return find(keptIn(diffs, loss, m))
		})
		if len(o.Diffs) == 0 && o.Problem == nil {
			o.Operation, o.Code = "", plan.InStep
		} else if len(o.Diffs) == 0 {
			o.Operation, o.Code = "", plan.Blocked
		}
	}
	for i, k := range o.Case.Kept {
		switch {
		case used[i]:
			o.kept = append(o.kept, k)
		case !k.Tied():
			o.Lapsed = append(o.Lapsed, k)
		}
	}
}

// Tied tells whether it is about what ties resources together, which is compared when
// all of them are there.
func (k Kept) Tied() bool {
	loss := plan.ParseLoss(k.Loss)
	return loss.Of == plan.LosesMembers || k.Member == "" && loss.Of == plan.LosesValue && k.Cause == tied
}

// tied marks values that name other entries, as that of a manager.
const tied = "reference"

// explainKept tells what stays since somebody has discarded its loss.
func (o *Outcome) explainKept() []reason.Node {
	var nodes []reason.Node
	for _, k := range o.kept {
		what := "it would be suspended or deleted"
		if k.Loss != Removal {
			what = plan.ParseLoss(k.Loss).Target + " would lose its value"
		}
		nodes = append(nodes, reason.Node{Text: what + "; that was discarded", Outcome: reason.Yes, Value: k.Reason, Source: k.By + ", " + k.Made.UTC().Format(time.DateOnly)})
	}
	return nodes
}
