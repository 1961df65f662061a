// Package views turns records of the store into the messages that show them.
package views

import (
	"encoding/json"
	"fmt"
	"time"

	"kambrel.example/kambrel/core/about"
	"kambrel.example/kambrel/core/act"
	"kambrel.example/kambrel/core/change"
	"kambrel.example/kambrel/core/decide"
	"kambrel.example/kambrel/core/pause"
	"kambrel.example/kambrel/core/plan"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/core/remedy"
	"kambrel.example/kambrel/core/survey"
	"kambrel.example/kambrel/protocol/wire"
	"kambrel.example/kambrel/service/store"
)

// List shows each record of a list; none is an empty list.
func List[R, V any](records []R, view func(R) V) []V {
	list := make([]V, len(records))
	for i, record := range records {
		list[i] = view(record)
	}
	return list
}

// Run shows a run.
func Run(r store.Run) wire.Run {
	view := wire.Run{
		ID: r.ID, Purpose: r.Purpose, Draft: r.Draft, Releases: r.Releases, Undoes: r.Undoes, State: r.State, Stage: r.Stage, Revision: r.Revision, By: r.By,
		Created: r.Created, Started: r.Started, Ended: r.Ended, Stages: r.Stages, Counts: r.Counts, LeftOut: r.LeftOut,
	}
	if view.Stages == nil {
		view.Stages = []progress.Stage{}
	}
	if view.LeftOut == nil {
		view.LeftOut = []progress.LeftOut{}
	}
	if r.FailureCode != "" {
		detail := wire.DetailOf(problem.Code(r.FailureCode), r.FailureDetail)
		view.Failure = &detail
	}
	return view
}

// Leaver shows somebody whose resource is deleted when the grace time is over.
func Leaver(l store.Leaver) wire.Leaver {
	return wire.Leaver{Kind: l.Kind, Directory: l.Directory, EntryID: l.EntryID, ResourceID: l.ResourceID, Name: l.Name, DN: l.DN, Gone: l.Gone, Left: l.LeftAt, On: l.On}
}

// Change shows a change, with what can be done about the problem that it waits for.
func Change(c store.Change) (wire.Change, error) {
	view := wire.Change{
		ID: c.ID, RunID: c.RunID, Side: c.Side, Kind: string(c.Kind), Operation: c.Operation, State: c.State, Directory: c.Directory, EntryID: c.EntryID, DN: c.DN,
		ResourceID: c.ResourceID, Name: c.Name, Diffs: c.Diffs, Code: c.Code, Answer: c.Answer, Remedies: []remedy.Remedy{}, Attempts: c.Attempts, Hangs: c.Hangs(), Sent: c.Sent, Answered: c.Answered,
	}
	if view.Diffs == nil {
		view.Diffs = []change.Diff{}
	}
	if len(c.Facts) == 0 || c.State != "blocked" {
		return view, nil
	}
	var facts problem.Facts
	if err := json.Unmarshal(c.Facts, &facts); err != nil {
		return view, fmt.Errorf("facts of change %d: %w", c.ID, err)
	}
	view.Remedies = append(view.Remedies, remedy.Of(about.EntryOf(c.Ref()), problem.Code(c.Code), facts, remedy.Situation{Linked: c.ResourceID != ""})...)
	return view, nil
}

// Changes shows changes.
func Changes(changes []store.Change) ([]wire.Change, error) {
	list := make([]wire.Change, len(changes))
	for i, c := range changes {
		var err error
		if list[i], err = Change(c); err != nil {
			return nil, err
		}
	}
	return list, nil
}

// Kept shows what would have been taken away, and stays.
func Kept(k store.KeptRow) wire.Kept {
	what := "it would have been suspended or deleted"
	switch loss := plan.ParseLoss(k.Loss); {
	case k.Loss == decide.Removal:
	case loss.Of == plan.LosesMembers:
		what = k.MemberName + " would have gone out of it"
	case loss.Of == plan.LosesAccess:
		what = loss.Target + " " + k.MemberName + " would have been withdrawn"
	case loss.Of == plan.LosesLogin:
		what = "its login would have become " + k.Cause
	case loss.Target == "active":
		what = "it would have been switched off"
	default:
		what = loss.Target + " would have been emptied"
	}
	return wire.Kept{Directory: k.Directory, EntryID: k.EntryID, DN: k.DN, What: what, RunID: k.RunID, By: k.By, Reason: k.Reason, Made: k.Made}
}

// Pins shows what was put back.
func Pins(rows []store.PinRow) ([]wire.Pin, error) {
	list := make([]wire.Pin, len(rows))
	for i, row := range rows {
		pin, err := row.Pin()
		if err != nil {
			return nil, fmt.Errorf("pin of %s/%s: %w", row.Directory, row.EntryID, err)
		}
		list[i] = wire.Pin{Directory: row.Directory, EntryID: row.EntryID, DN: row.DN, Target: row.Target, Element: row.Element, Name: row.Name, Value: pin.Value, RunID: row.RunID, By: row.By, Made: row.Made}
	}
	return list, nil
}

// Act shows an act.
func Act(a store.Act) wire.Act {
	known := act.Describe(a.Kind)
	view := wire.Act{ID: a.ID, At: a.At, By: a.By, Origin: a.Origin, Kind: a.Kind, Title: known.Title, About: about.Thing{Type: a.About, Key: a.Subject}, Name: a.Name, Before: a.Before, After: a.After, Result: a.Result, Note: a.Note}
	if a.Result == act.Done {
		view.Undo = known.Undo
	}
	return view
}

// Hit shows an object that was found.
func Hit(h store.Hit) wire.Hit { return wire.Hit(h) }

// Outcome shows how many a rehearsal of everybody decided alike.
func Outcome(o store.OutcomeCount) wire.Outcome { return wire.Outcome(o) }

// CloudOnly shows a resource that no entry claims.
func CloudOnly(c store.CloudOnly) wire.CloudOnly { return wire.CloudOnly(c) }

// Finding shows one thing that a survey found.
func Finding(f store.Finding) wire.Finding { return wire.Finding(f) }

// FindingGroup shows how many findings of a kind there are, with what the kind means.
func FindingGroup(g store.FindingGroup) wire.FindingGroup {
	kind := survey.Describe(g.Code)
	return wire.FindingGroup{Code: string(g.Code), Title: kind.Title, Cause: kind.Cause, Remedy: kind.Remedy, Count: g.Count, Repairable: g.Repairable}
}

// Repair shows a repair.
func Repair(r store.Repair) wire.Repair {
	view := wire.Repair{ID: r.ID, Created: r.Created, By: r.By, Undoes: r.Undoes, Done: r.Done, Failed: r.Failed, Waiting: r.Waiting, State: "done"}
	switch {
	case r.Waiting > 0:
		view.State = "running"
	case r.Failed > 0:
		view.State = "problems"
	}
	for _, i := range r.Items {
		view.Items = append(view.Items, wire.RepairItem{
			Number: i.Number, Directory: i.Directory, EntryID: i.EntryID, DN: i.DN, Attribute: i.Attribute, Before: i.Before, After: i.After, State: i.State, Code: i.Code, Answer: i.Answer,
		})
	}
	return view
}

// onlineWithin is how long an agent counts as online after it was heard of: it
// asks for orders at least twice as often.
const onlineWithin = 60 * time.Second

// Agent shows an agent as it stands now.
func Agent(a store.Agent) wire.Agent {
	view := wire.Agent{
		ID: a.ID, Name: a.Name, Host: a.Host, Version: a.Version, Directories: a.Serves(), Asks: a.Asks(), Granted: a.Granted, Plain: a.Plain,
		Enrolled: a.Enrolled, LastContact: a.LastContact, State: "never-seen",
	}
	view.Platform, view.Updates = a.Platform, a.Updates
	if a.UpdateTo != "" && a.UpdateSince != nil {
		view.Update = &wire.AgentUpdate{To: a.UpdateTo, State: a.UpdateState, Since: *a.UpdateSince, By: a.UpdateBy, Detail: a.UpdateDetail}
	}
	if view.Granted == nil {
		view.Granted = []string{}
	}
	if view.Plain == nil {
		view.Plain = []string{}
	}
	view.Faults = List(a.Faults, func(f store.AgentFault) wire.AgentFault {
		return wire.AgentFault{Directory: f.Directory, Code: string(f.Code), Title: problem.Describe(f.Code).Title, Detail: f.Detail, Since: f.Since}
	})
	if a.LastContact != nil {
		view.State = "offline"
		if time.Since(*a.LastContact) < onlineWithin {
			view.State = "online"
		}
	}
	view.Watches = []wire.Watch{}
	if view.State == "online" { // of one that is away, what it said last says nothing
		view.Watches = List(a.Watches, func(w store.Watch) wire.Watch { return wire.Watch(w) })
	}
	return view
}

// Pause shows what an operator has stopped.
func Pause(p pause.Pause) wire.Pause {
	return wire.Pause{Of: string(p.Of), Directory: p.Directory, By: p.By, Reason: p.Reason, Since: p.Since, Until: p.Until, What: p.What(), Text: p.Text()}
}

// Release shows a version of the agent that is passed on.
func Release(r store.Release) wire.Release {
	view := wire.Release{Version: r.Version, Key: r.Key, Made: r.Made, Added: r.Added, AddedBy: r.AddedBy, Files: []wire.ReleaseFile{}, Whole: true}
	for _, f := range r.Files {
		view.Files = append(view.Files, wire.ReleaseFile{Platform: f.Platform, Name: f.Name, Size: f.Size, SHA256: f.SHA256, Here: f.Here})
		view.Whole = view.Whole && f.Here
	}
	return view
}
