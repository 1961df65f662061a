package wire

import (
	"time"

	"kambrel.example/kambrel/core/about"
	"kambrel.example/kambrel/core/change"
)

// Moment is something that happened to an object.
type Moment struct {
	At   time.Time `json:"at"`
	Kind string    `json:"kind" enum:"entry,resource,change,problem,solved,act" doc:"Seen in the directory, or in the cloud by others; done by a run; a problem that came or went; an act"`
	Text string    `json:"text"`
	By   string    `json:"by,omitempty" doc:"Who did it or asked for it; nobody where only the other side knows"`
	// RunID is the run that did it, or by whose reading it was seen.
	RunID    int64         `json:"runId,omitempty" doc:"The run that did it, or that saw it"`
	Revision int           `json:"revision,omitempty" doc:"The settings by which that run worked"`
	State    string        `json:"state,omitempty" doc:"Of a change"`
	Detail   string        `json:"detail,omitempty"`
	Diffs    []change.Diff `json:"diffs" doc:"What it was before and after, with the rule that caused it"`
	// ProblemID is that of a problem.
	ProblemID int64 `json:"problemId,omitempty"`
}

// ObjectHistory is what happened to an object, the newest first.
type ObjectHistory struct {
	Thing   about.Thing `json:"thing"`
	Name    string      `json:"name"`
	Moments []Moment    `json:"moments"`
	// Before asks for what was before these.
	Before *time.Time `json:"before,omitempty" doc:"Give it to see what was before; none where that is all that is remembered"`
	Since  time.Time  `json:"since" doc:"How far back it is remembered"`
}

// ObjectAt is an object as it was at a time.
type ObjectAt struct {
	Object
	At       time.Time `json:"at"`
	Revision int       `json:"revision" doc:"The settings that were active then"`
	Notes    []string  `json:"notes" doc:"What of then is not known any more"`
}
