package decide

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"kambrel.example/kambrel/core/change"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/plan"
	"kambrel.example/kambrel/core/reason"
	"kambrel.example/kambrel/core/rules"
	"kambrel.example/kambrel/core/scope"
	"kambrel.example/kambrel/core/settings"
)

// PinScope is the target of a pin that says whether the entry takes part at all.
const PinScope = "scope"

// PinDeletion is the target of a pin that says whether the resource is deleted when the
// grace time is over.
const PinDeletion = plan.Deletion

// Pin holds what an operator has put back or decided, against the rules, the scope or the
// leaver policy, which would do at once again what was undone. It ends when somebody lifts
// it, or when they come to the same by themselves.
type Pin struct {
	// Target is an attribute of the resource, PinScope or PinDeletion.
	Target string
	// Element is the single one of a list that the pin is about, "" for the whole value:
	// the id of a member, or what a membership grants.
	Element string
	// Value is what the resource shall have, as JSON has it; of an element and of the scope
	// whether it shall.
	Value any
	Run   int64 // that was undone; 0 of what was decided by hand
	By    string
	Made  time.Time
}

// Source is where a value comes from that a pin holds.
func (p Pin) Source() string {
	if p.Run == 0 {
		return "decided by hand by " + p.By
	}
	return fmt.Sprintf("put back by %s: undo of run %d", p.By, p.Run)
}

// ofAttribute tells whether it is about what the resource has.
func (p Pin) ofAttribute() bool { return p.Target != PinScope && p.Target != PinDeletion }

// Holds tells whether the element of a pin shall be there, or the entry take part.
func (p Pin) Holds() bool { return p.Value == true }

// PinFor is the pin of a target and an element.
func PinFor(pins []Pin, target, element string) (Pin, bool) {
	at := slices.IndexFunc(pins, func(p Pin) bool { return p.Target == target && p.Element == element })
	if at < 0 {
		return Pin{}, false
	}
	return pins[at], true
}

// pinScope lets a pin say whether the entry takes part. What the cloud owns stays so.
func (o *Outcome) pinScope() {
	pin, pinned := PinFor(o.Case.Pins, PinScope, "")
	switch {
	case !pinned || o.Verdict.Code == scope.CloudOwned:
	case pin.Holds() == o.Verdict.In:
		o.LapsedPins = append(o.LapsedPins, pin)
	default:
		o.pinned = append(o.pinned, pin)
		o.Verdict = o.pinned.verdict(o.Verdict)
	}
}

// pinDeletion lets a pin keep the resource of somebody who has left, as by the policy that
// suspends. Who is back has nothing to be kept from.
func (o *Outcome) pinDeletion() {
	pin, pinned := PinFor(o.Case.Pins, PinDeletion, "")
	switch {
	case !pinned:
	case o.Verdict.In || o.subject.Leavers != settings.Delete:
		o.LapsedPins = append(o.LapsedPins, pin)
	default:
		o.pinned = append(o.pinned, pin)
		o.subject.Leavers = settings.Suspend
	}
}

// pins are those that are held against rules or scope.
type pins []Pin

// verdict is what a pin makes of that of the scope.
func (p pins) verdict(of scope.Verdict) scope.Verdict {
	pin, pinned := PinFor(p, PinScope, "")
	if !pinned {
		return of
	}
	word := map[bool]string{true: "in", false: "out"}[pin.Holds()]
	if of.In, of.Summary = pin.Holds(), fmt.Sprintf("%s: %s", word, pin.Source()); !of.In {
		of.Code = scope.PinnedOut
	}
	of.Reasons = slices.Clone(of.Reasons)
	for i := range of.Reasons {
		of.Reasons[i].Deciding = false
	}
	of.Reasons = append(of.Reasons, reason.Node{Text: "an operator has decided so, whatever the scope says", Outcome: reason.Of(pin.Holds()), Source: pin.Source(), Deciding: true})
	return of
}

// pinValues puts what is pinned into the place of what the rules want. References and
// members are compared elsewhere.
func (o *Outcome) pinValues(set *rules.Set) {
	for _, pin := range o.Case.Pins {
		if !pin.ofAttribute() || strings.EqualFold(pin.Target, rules.Members) || set.Refers(pin.Target) {
			continue
		}
		path, err := entry.ParsePath(pin.Target)
		if err != nil {
			continue
		}
		at := slices.IndexFunc(o.Desired.Values, func(v rules.Value) bool { return v.Path.String() == path.String() })
		agrees := false
		switch {
		case pin.Element != "":
			agrees = o.pinElement(at, path, pin)
		case at < 0: // no rule would write it again: it is put back once
			if agrees = o.Case.Resource != nil && change.Same(path.Get(o.Case.Resource), pin.Value); !agrees {
				o.Desired.Values = append(o.Desired.Values, rules.Value{Path: path, Value: listed(pin.Value), Source: pin.Source()})
			}
		default:
			v := &o.Desired.Values[at]
			if agrees = v.Granted == nil && !v.CreateOnly && change.Same(v.Value, pin.Value); !agrees {
				*v = rules.Value{Path: path, Value: listed(pin.Value), Source: pin.Source()}
			}
		}
		if agrees {
			o.LapsedPins = append(o.LapsedPins, pin)
		} else {
			o.pinned = append(o.pinned, pin)
		}
	}
}

// pinElement lets one of the values that a rule grants come or go; it tells whether the
// rule wants the same.
func (o *Outcome) pinElement(at int, path entry.Path, pin Pin) (agrees bool) {
	if at < 0 {
		if o.Case.Resource != nil && slices.Contains(path.Values(o.Case.Resource), pin.Element) == pin.Holds() {
			return true
		}
		o.Desired.Values = append(o.Desired.Values, rules.Value{Path: path, Source: pin.Source(), Granted: &rules.Granted{}})
		at = len(o.Desired.Values) - 1
	}
	v := &o.Desired.Values[at]
	if v.Granted == nil || slices.Contains(v.Granted.Have, pin.Element) == pin.Holds() && slices.Contains(v.Granted.Owned, pin.Element) {
		return true
	}
	granted := rules.Granted{Have: slices.Clone(v.Granted.Have), Owned: slices.Clone(v.Granted.Owned)}
	granted.Have = slices.DeleteFunc(granted.Have, func(have string) bool { return have == pin.Element })
	if pin.Holds() {
		granted.Have = append(granted.Have, pin.Element)
	}
	granted.Owned = append(granted.Owned, pin.Element)
	v.Granted, v.Source = &granted, pin.Source()
	return false
}

// listed is a value as rules make it: a list of texts where JSON has any.
func listed(value any) any {
	if _, is := value.([]any); is {
		return change.Texts(value)
	}
	return value
}

// unpin ends what was put back of a resource that the entry was untied from: it is the
// cloud's.
func (o *Outcome) unpin() {
	if o.Case.Link != nil || o.chosen.Choice != ChooseHold || o.Waits {
		return
	}
	o.LapsedPins = slices.DeleteFunc(slices.Clone(o.Case.Pins), func(p Pin) bool { return p.Target == PinScope })
}

// putBack gives a resource that is let go what it had before it was taken over.
func (o *Outcome) putBack() {
	if o.Operation != plan.Unlink || o.Case.Resource == nil {
		return
	}
	for _, pin := range o.Case.Pins {
		path, err := entry.ParsePath(pin.Target)
		if err != nil || !pin.ofAttribute() || pin.Element != "" || change.Same(path.Get(o.Case.Resource), pin.Value) {
			continue
		}
		o.Diffs = append(o.Diffs, change.Diff{Target: pin.Target, Before: path.Get(o.Case.Resource), After: listed(pin.Value), Source: pin.Source()})
	}
}

// explainPins tells what stays as an operator has put it back.
func (o *Outcome) explainPins() []reason.Node {
	var nodes []reason.Node
	for _, pin := range o.pinned {
		if pin.Target == PinScope {
			continue // the verdict says it
		}
		if pin.Target == PinDeletion {
			nodes = append(nodes, reason.Node{Text: "the resource is kept and not deleted when the grace time is over", Outcome: reason.Yes, Source: pin.Source() + ", " + pin.Made.UTC().Format(time.DateOnly)})
			continue
		}
		what := pin.Target
		if pin.Element != "" {
			what += " " + pin.Element
		}
		nodes = append(nodes, reason.Node{Text: what + " stays as it was put back", Outcome: reason.Yes, Value: rules.Show(pin.Value), Source: pin.Source() + ", " + pin.Made.UTC().Format(time.DateOnly)})
	}
	return nodes
}
