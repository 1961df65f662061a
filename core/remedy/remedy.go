// Package remedy is what can be done about a problem: acts with their parameters
// filled in, made of the problem's facts alone, so that the command line, the
// interface and the console offer the same ones.
package remedy

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"kambrel.example/kambrel/core/about"
	"kambrel.example/kambrel/core/act"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/problem"
)

// Remedy is one act that would end a problem, or that may.
type Remedy struct {
	Act   act.Kind `json:"act"`
	Title string   `json:"title" doc:"What it would do, for a button"`
	When  string   `json:"when,omitempty" doc:"When it is the right one"`
	// What it needs, as far as the act takes it.
	Entry       string   `json:"entry,omitempty" doc:"The id of the entry that it is done to"`
	Resource    string   `json:"resource,omitempty"`
	Run         string   `json:"run,omitempty"`
	Agent       string   `json:"agent,omitempty"`
	Directories []string `json:"directories,omitempty" doc:"That it is done to; of an agent all for which it may speak then"`
	Attribute   string   `json:"attribute,omitempty" doc:"Of the directory; of a repair or a rule the attribute of the resource that would become another"`
	Command     string   `json:"command" doc:"The same on the command line"`
}

// Reason says what it would do and when it is the right one, in a line.
func (r Remedy) Reason() string {
	if r.When == "" {
		return r.Title
	}
	return r.Title + ". " + r.When
}

// Situation is what of an entry that has a problem is not in the facts.
type Situation struct {
	Kind        entry.Kind
	Linked      bool // it has a resource
	Correctable bool // a repair may write what the rules read for the value
}

// Of lists the remedies of a problem, the likeliest first: those that are of its own, then
// to correct a value or the rule that makes it, and last to try again. None where the cause
// lies elsewhere, and the catalogue says what to do there.
func Of(thing about.Thing, code problem.Code, facts problem.Facts, s Situation) []Remedy {
	out := ofCode(thing, code, facts)
	if s.Linked && (code == problem.DuplicateLogin || code == problem.DuplicateAddress) && len(facts.Entries) > 0 {
		other, entry := facts.Entries[0], entryOf(thing)
		out = append(out, Remedy{Act: act.Swap, Title: "Exchange the resources with " + other.Name, When: "Each was linked to the other's resource.", Entry: entry, Resource: other.ID,
			Command: "kambrel link " + entry + " " + other.ID + " --swap"})
	}
	if thing.Type == about.Entry {
		return append(out, ofEntry(entryOf(thing), facts.Targets(code), s)...)
	}
	if slices.Contains(ending, code) || thing.Type == about.CloudGroup {
		out = append(out, Remedy{Act: act.StartRun, Title: "Try again now", When: "The cause is mended.", Command: "kambrel sync"})
	}
	return out
}

// ending are the problems by which runs end, or leave a directory out: another run tells
// whether they are over.
var ending = []problem.Code{
	problem.CloudListIncomplete, problem.MembersLost, problem.CloudThrottled, problem.CloudUnreachable, problem.CloudFailing, problem.CloudUnauthorized,
	problem.DirectoryUnreachable, problem.DirectoryRefused, problem.AgentOffline, problem.ContainerMissing, problem.NothingVisible, problem.AttributeHidden, problem.Unforeseen, problem.DatabaseRefused,
}

// ofEntry are what may help whatever an entry has: a value, a rule, another try.
func ofEntry(id string, targets []string, s Situation) (out []Remedy) {
	list := "kambrel rules list"
	if s.Kind != "" && s.Kind != entry.User {
		list += " --kind " + string(s.Kind) + "s"
	}
	for i, target := range targets {
		if i == 0 && s.Correctable {
			out = append(out, Remedy{Act: act.RepairValue, Title: "Correct the value in the directory", When: "The value is wrong there.", Entry: id, Attribute: target, Command: "kambrel problems repair " + id})
		}
		out = append(out, Remedy{Act: act.Activate, Title: "Change the rule for " + target, When: "It would be wrong for others too.", Attribute: target, Command: list})
	}
	return append(out, Remedy{Act: act.SyncOne, Title: "Try again now", When: "The cause is mended.", Entry: id, Command: "kambrel trial " + id + " --write"})
}

func entryOf(thing about.Thing) string {
	_, entry, _ := strings.Cut(thing.Key, "/")
	return entry
}

// held are the two ways on with what the guard holds of a run.
func held(run, release, discard string) []Remedy {
	return []Remedy{
		{Act: act.Release, Title: release, When: "It is meant.", Run: run, Command: "kambrel runs release " + run},
		{Act: act.Discard, Title: discard, When: "It is not meant.", Run: run, Command: "kambrel runs discard " + run},
	}
}

// ofCode are the remedies that a problem has of its own.
func ofCode(thing about.Thing, code problem.Code, facts problem.Facts) []Remedy {
	entry := ""
	if thing.Type == about.Entry {
		entry = entryOf(thing)
	}
	of := func(kind act.Kind, title, when string) Remedy {
		return Remedy{Act: kind, Title: title, When: when, Entry: entry, Command: "kambrel " + string(kind) + " " + entry}
	}
	link := func(when string) (out []Remedy) {
		for _, r := range facts.Resources {
			if r.Owner != nil && !r.Owner.Gone {
				continue
			}
			remedy := of(act.Link, "Link with "+r.Label(), when)
			remedy.Resource, remedy.Command = r.ID, remedy.Command+" "+r.ID
			out = append(out, remedy)
		}
		return out
	}
	unlink := func(owner problem.Entry, when string) Remedy {
		remedy := of(act.Unlink, "Unlink "+owner.Name, when)
		remedy.Entry, remedy.Command = owner.ID, "kambrel unlink "+owner.ID
		return remedy
	}
	switch code {
	case problem.NearMiss:
		return append(link("It is the same person."), of(act.Create, "Make an account all the same", "It is somebody else."))
	case problem.HeldByHand:
		return []Remedy{of(act.Rematch, "Let the rules decide again", ""), of(act.Create, "Make an account", "Nobody in the cloud is this person.")}
	case problem.AmbiguousMatch, problem.ProtectedResource:
		return link("It is the same person.")
	case problem.LinkConflict:
		out := link("It is the same person, and the other entry was deleted.")
		var takeOvers []Remedy
		for _, r := range facts.Resources {
			if r.Owner != nil && !r.Owner.Gone {
				out = append(out, unlink(*r.Owner, "It is the old entry of the same person."))
				remedy := of(act.TakeOver, fmt.Sprintf("Take %s over from %s", r.Label(), r.Owner.Name), "It was linked to the wrong one of the two.")
				remedy.Resource, remedy.Command = r.ID, "kambrel link "+entry+" "+r.ID+" --take-over"
				takeOvers = append(takeOvers, remedy)
			}
		}
		return append(out, takeOvers...)
	case problem.PersonTwoResources:
		return []Remedy{of(act.Unlink, "Unlink this entry from its resource", "The other resource is the one to keep.")}
	case problem.CreationUnconfirmed:
		return []Remedy{of(act.Create, "Make it all the same", "The cloud surely does not have it.")}
	case problem.RemovalsHeld:
		return held(facts.Value, "Release what run "+facts.Value+" holds", "Keep what run "+facts.Value+" would take away")
	case problem.CloudGroupLost:
		return held(strconv.FormatInt(facts.Run, 10), "Let it be made again", "Leave it out")
	case problem.Paused:
		remedy := Remedy{Act: act.Resume, Title: "Let it go on", When: "What it was paused for is over.", Directories: facts.Names, Command: "kambrel resume --" + facts.Value}
		if len(facts.Names) > 0 {
			remedy.Command = "kambrel resume --directory " + facts.Names[0]
		}
		return []Remedy{remedy}
	case problem.CloudGroupName, problem.CloudGroupNameTaken:
		directory, _, _ := strings.Cut(thing.Key, "/")
		return []Remedy{{Act: act.Activate, Title: "Change the rule for the name", When: "It would be wrong for others too.", Directories: []string{directory}, Command: "kambrel cloud-groups rules " + directory}}
	case problem.AttributeHidden:
		out := make([]Remedy, len(facts.Names))
		for i, name := range facts.Names {
			out[i] = Remedy{Act: act.AcceptAbsence, Title: "Take " + name + " from everybody of " + facts.Value, When: "It was really taken from everybody in the directory.",
				Directories: []string{facts.Value}, Attribute: name, Command: "kambrel directory absent " + facts.Value + " " + name}
		}
		return out
	case problem.DirectoryNotGranted:
		if thing.Type != about.Agent {
			return nil
		}
		return []Remedy{{Act: act.Grant, Title: "Let it speak for " + strings.Join(facts.Names, ", "), When: "The agent is meant to.", Agent: thing.Key, Directories: slices.Concat(facts.Granted, facts.Names),
			Command: "kambrel agent grant " + thing.Key + " " + strings.Join(facts.Names, " ")}}
	}
	return nil
}
