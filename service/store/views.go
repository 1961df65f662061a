package store

import (
	"time"

	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/protocol/wire"
)

// onlineWithin is how long an agent counts as online after it was heard of: it
// asks for orders at least twice as often.
const onlineWithin = 60 * time.Second

// View is an agent as the interface shows it.
func (a Agent) View(now time.Time) wire.Agent {
	view := wire.Agent{ID: a.ID, Name: a.Name, Host: a.Host, Version: a.Version, Directories: a.Serves(), Asks: a.Asks(), Granted: a.Granted, Plain: a.Plain, Enrolled: a.Enrolled, LastContact: a.LastContact, State: "never-seen"}
	if view.Granted == nil {
		view.Granted = []string{}
	}
	if view.Plain == nil {
		view.Plain = []string{}
	}
	if a.LastContact != nil {
		view.State = "offline"
		if now.Sub(*a.LastContact) < onlineWithin {
			view.State = "online"
		}
	}
	return view
}

// View is a run as the interface shows it.
func (r Run) View() wire.Run {
	view := r.Run
	if view.Stages == nil {
		view.Stages = []wire.Stage{}
	}
	if r.FailureCode != "" {
		detail := wire.DetailOf(problem.Code(r.FailureCode), r.FailureDetail)
		view.Failure = &detail
	}
	return view
}
