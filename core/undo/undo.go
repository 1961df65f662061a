// Package undo says of what a run has done what can be put back, how, and what cannot and
// why. It looks at each value by itself: what somebody has changed since stays. All of it
// is pure.
package undo

import (
	"fmt"
	"slices"
	"strings"

	"kambrel.example/kambrel/core/change"
	"kambrel.example/kambrel/core/decide"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/plan"
	"kambrel.example/kambrel/core/rules"
	"kambrel.example/kambrel/core/settings"
)

// The targets of items that are no attribute.
const (
	Presence = decide.PinScope // whether the resource is there and active
	LinkTo   = "link"          // to what the entry is linked
)

// Outcome is what becomes of an item.
type Outcome string

// The outcomes.
const (
	Back    Outcome = "back"    // it is put back
	Already Outcome = "already" // it is so already
	Cannot  Outcome = "cannot"  // Why tells the reason
)

// Item is one thing that a change has done.
type Item struct {
	Target string
	Member change.Member // the single one, of a list
	// Was is what stood there before, and is put back; Now is what stands there.
	Was, Now any
	Outcome  Outcome
	Why      string
	// Pin holds what is put back; nil where a decision does.
	Pin    *decide.Pin
	Choice *decide.Chosen
}

// State is how things stand now around one change.
type State struct {
	// Known: the mirror has the entry still. Gone: it was deleted from its directory.
	Known, Gone bool
	Link        *plan.Link
	// Resource is that of the change, nil when the cloud no longer has it; Owner is who is
	// linked to it now, where that is somebody else.
	Resource entry.Resource
	Owner    string
	Leavers  settings.Policy
	// Members tells which of a group's members are there now, and Exists which resources
	// are; Taken tells who has a value that only one may have.
	Members map[string]bool
	Exists  map[string]bool
	Taken   func(target string, value any) string
	// Later are the runs that have changed a target since, by target and member.
	Later map[string]int64
}

// Key names a target and a member in State.Later.
func Key(target, member string) string { return target + "\x00" + member }

// Of says what can be put back of a change that was done to an entry's resource.
func Of(operation plan.Operation, diffs []change.Diff, s State) []Item {
	if !s.Known {
		return []Item{{Target: Presence, Outcome: Cannot, Why: "the directory was taken away, or its memory of the entry is over"}}
	}
	switch operation {
	case plan.Create, plan.Restore:
		return []Item{presence(false, s)}
	case plan.Suspend, plan.Leave, plan.Delete:
		return []Item{presence(true, s)}
	case plan.Unlink:
		return []Item{linked(s)}
	case plan.Adopt:
		items := values(diffs, s)
		item := Item{Target: LinkTo, Was: nil, Now: resourceID(s), Outcome: Back, Choice: &decide.Chosen{Choice: decide.ChooseHold}}
		if s.Link == nil || s.Owner != "" {
			item.Outcome, item.Why = Already, "it is linked to the resource no more"
		}
		return append([]Item{item}, items...)
	}
	return values(diffs, s)
}

func resourceID(s State) any {
	if s.Resource == nil {
		return nil
	}
	return s.Resource.ID()
}

// presence lets an entry take part, or not.
func presence(in bool, s State) Item {
	word := map[bool]string{true: "active", false: "suspended"}
	item := Item{Target: Presence, Was: word[in], Now: word[!in], Outcome: Back, Pin: &decide.Pin{Target: Presence, Value: in}}
	there := s.Link != nil && s.Resource != nil
	switch {
	case s.Owner != "":
		item.Outcome, item.Why = Cannot, "the resource belongs to "+s.Owner+" now"
	case in && there && !s.Link.Left:
		item.Outcome, item.Why = Already, "it takes part again"
	case in && !there:
		item.Why = "the resource is gone from the cloud: another is made, with what the rules give; what it owned there is lost"
		item.Now = "gone"
	case !in && !there:
		item.Outcome, item.Why = Already, "the resource is there no more"
	case !in && s.Link.Left:
		item.Outcome, item.Why = Already, "it has left already"
	case !in && s.Leavers == settings.Keep:
		item.Outcome, item.Why = Cannot, "the leaver policy of its kind keeps what leaves; suspend it in the cloud, or change the policy"
	case !in && s.Leavers == settings.Delete:
		item.Why = "as of somebody who leaves: suspended now, and deleted when the grace time is over"
	}
	return item
}

// linked ties an entry again to what it was untied from.
func linked(s State) Item {
	item := Item{Target: LinkTo, Was: resourceID(s), Outcome: Back}
	switch {
	case s.Resource == nil:
		item.Outcome, item.Why = Cannot, "the resource is gone from the cloud"
	case s.Owner != "":
		item.Outcome, item.Why = Cannot, "the resource belongs to "+s.Owner+" now"
	case s.Link != nil && s.Link.ResourceID == s.Resource.ID():
		item.Outcome, item.Why = Already, "they are linked again"
	case s.Link != nil:
		item.Outcome, item.Why = Cannot, "the entry is linked to the resource "+s.Link.ResourceID+" now"
	case s.Gone:
		item.Outcome, item.Why = Cannot, "the entry was deleted from its directory"
	default:
		item.Choice = &decide.Chosen{Choice: decide.ChooseLink, ResourceID: s.Resource.ID(), Resource: s.Resource}
	}
	return item
}

// values are the items of single values and elements.
func values(diffs []change.Diff, s State) []Item {
	var items []Item
	for _, diff := range diffs {
		if strings.EqualFold(diff.Target, "externalId") {
			continue // the link says it
		}
		path, err := entry.ParsePath(diff.Target)
		if err != nil {
			continue
		}
		if !diff.Elements() {
			items = append(items, value(path, diff, s))
			continue
		}
		for _, m := range diff.Added {
			items = append(items, element(path, diff.Target, m, false, s))
		}
		for _, m := range diff.Removed {
			items = append(items, element(path, diff.Target, m, true, s))
		}
	}
	return items
}

// standing says what keeps any value of a resource from being put back.
func (s State) standing() (string, bool) {
	switch {
	case s.Resource == nil:
		return "the resource is gone from the cloud", true
	case s.Owner != "":
		return "the resource belongs to " + s.Owner + " now", true
	case s.Link == nil || s.Link.ResourceID != s.Resource.ID():
		return "the entry is linked to the resource no more", true
	case s.Link.Left:
		return "it has left, and its values are not written meanwhile", true
	}
	return "", false
}

func value(path entry.Path, diff change.Diff, s State) Item {
	item := Item{Target: diff.Target, Was: diff.Before, Outcome: Back, Pin: &decide.Pin{Target: diff.Target, Value: diff.Before}}
	if why, is := s.standing(); is {
		item.Outcome, item.Why = Cannot, why
		return item
	}
	item.Now = path.Get(s.Resource)
	switch {
	case change.Same(item.Now, diff.Before):
		item.Outcome, item.Why = Already, "it is as it was before"
	case !change.Same(item.Now, diff.After):
		item.Outcome, item.Why = Cannot, s.changed(diff.Target, "", fmt.Sprintf("it is %s now", orNothing(item.Now)))
	case s.Taken != nil:
		if holder := s.Taken(diff.Target, diff.Before); holder != "" {
			item.Outcome, item.Why = Cannot, holder+" has that value now"
		}
	}
	return item
}

func element(path entry.Path, target string, m change.Member, in bool, s State) Item {
	word := map[bool]string{true: "there", false: "not there"}
	item := Item{Target: target, Member: m, Was: word[in], Now: word[!in], Outcome: Back, Pin: &decide.Pin{Target: target, Element: m.Value, Value: in}}
	if why, is := s.standing(); is {
		item.Outcome, item.Why, item.Now = Cannot, why, nil
		return item
	}
	members := strings.EqualFold(target, rules.Members)
	is := members && s.Members[m.Value] || !members && slices.Contains(path.Values(s.Resource), m.Value)
	switch {
	case is == in:
		item.Outcome, item.Now, item.Why = Already, word[in], "it is as it was before"
	case in && members && !s.Exists[m.Value]:
		item.Outcome, item.Why = Cannot, "the cloud does not have the member any more"
	}
	return item
}

// changed says who has changed something meanwhile, where that is known.
func (s State) changed(target, member, now string) string {
	if run := s.Later[Key(target, member)]; run > 0 {
		return fmt.Sprintf("run %d has changed it since: %s", run, now)
	}
	return "it was changed in the cloud since: " + now
}

func orNothing(value any) string {
	if text := rules.Show(value); text != "" {
		return text
	}
	return "empty"
}
