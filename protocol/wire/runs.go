package wire

import (
	"time"

	"kambrel.example/kambrel/core/change"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/core/remedy"
)

// Run is one pass of the sync.
type Run struct {
	ID       int64              `json:"id"`
	Purpose  purpose.Purpose    `json:"purpose" enum:"sync,full,release,single,undo,rehearsal,forecast,impact,trial,look,survey" doc:"What it is for; the first five write to the cloud"`
	Draft    int                `json:"draft,omitempty" doc:"The version of the draft that it works by, instead of a revision"`
	Releases int64              `json:"releases,omitempty" doc:"The run whose held removals this run lets through"`
	Undoes   int64              `json:"undoes,omitempty" doc:"The run that this run takes back"`
	State    progress.State     `json:"state" enum:"waiting,running,in-step,problems,failed,cancelled"`
	Stage    string             `json:"stage,omitempty" doc:"What is going on now"`
	Revision int                `json:"revision" doc:"The settings revision it works by"`
	By       string             `json:"by" doc:"Who asked for it"`
	Created  time.Time          `json:"created"`
	Started  *time.Time         `json:"started,omitempty"`
	Ended    *time.Time         `json:"ended,omitempty"`
	Stages   []progress.Stage   `json:"stages"`
	Counts   progress.Counts    `json:"counts"`
	LeftOut  []progress.LeftOut `json:"leftOut" doc:"Directories that could not be read: their entries stay as they were, and the others went on"`
	Failure  *ProblemDetail     `json:"failure,omitempty"`
}

// NewRun asks for a run.
type NewRun struct {
	Purpose purpose.Purpose `json:"purpose" enum:"sync,full,rehearsal,forecast" default:"sync"`
}

// ReleaseHeld chooses what of a run is let through.
type ReleaseHeld struct {
	Changes []int64 `json:"changes,omitempty" maxItems:"1000" doc:"Ids of changes that the run holds; none means all"`
}

// DiscardHeld chooses what a run would have taken away and is kept.
type DiscardHeld struct {
	Changes []int64 `json:"changes,omitempty" maxItems:"1000" doc:"Ids of changes that the run holds; none means all"`
	Reason  string  `json:"reason" minLength:"1" maxLength:"500" doc:"Why; it is shown with what is kept"`
}

// Kept is something that a run would have taken away, and that stays until its cause
// changes.
type Kept struct {
	Directory string    `json:"directory"`
	EntryID   string    `json:"entryId"`
	DN        string    `json:"dn"`
	What      string    `json:"what" doc:"What would have been taken away, in words"`
	RunID     int64     `json:"runId" doc:"The run that held it"`
	By        string    `json:"by"`
	Reason    string    `json:"reason"`
	Made      time.Time `json:"made"`
}

// Change is one planned operation on one resource.
type Change struct {
	ID         int64           `json:"id"`
	RunID      int64           `json:"runId"`
	Side       change.Side     `json:"side" enum:"cloud,directory" doc:"Where it is written: a resource in the cloud, or an entry in a directory"`
	Kind       string          `json:"kind" enum:"user,group,contact"`
	Operation  string          `json:"operation" enum:"create,adopt,update,restore,suspend,leave,delete,unlink,none"`
	State      string          `json:"state" enum:"planned,sent,done,failed,held,discarded,superseded,blocked,noted,unconfirmed,unanswered"`
	Directory  string          `json:"directory"`
	EntryID    string          `json:"entryId"`
	DN         string          `json:"dn"`
	ResourceID string          `json:"resourceId,omitempty"`
	Name       string          `json:"name" doc:"What people call the object: its login, or the entry's name"`
	Diffs      []change.Diff   `json:"diffs"`
	Code       string          `json:"code,omitempty" doc:"Problem code when it was not done"`
	Answer     string          `json:"answer,omitempty" doc:"What the cloud said, or why it was not done"`
	Remedies   []remedy.Remedy `json:"remedies" doc:"What can be done about the problem that it waits for"`
	Attempts   int             `json:"attempts"`
	Hangs      bool            `json:"hangs,omitempty" doc:"It is held with a removal, and is released or discarded with that"`
	Sent       *time.Time      `json:"sent,omitempty"`
	Answered   *time.Time      `json:"answered,omitempty"`
}

// ScheduleTimes is when a schedule would start runs.
type ScheduleTimes struct {
	Faults []problem.Fault `json:"faults" doc:"What is wrong with it; there are no times then"`
	Next   []time.Time     `json:"next" doc:"The next few runs; none where only live changes or people start them"`
	Full   *time.Time      `json:"full,omitempty" doc:"The next run that compares everything"`
	Within bool            `json:"within" doc:"It is within the hours now"`
}

// Pause is something that an operator has stopped.
type Pause struct {
	Of        string     `json:"of" enum:"everything,cloud,directories,directory" doc:"All, what is written to the cloud, what is written to directories, or one directory, which is not read either"`
	Directory string     `json:"directory,omitempty" doc:"The one directory"`
	By        string     `json:"by"`
	Reason    string     `json:"reason"`
	Since     time.Time  `json:"since"`
	Until     *time.Time `json:"until,omitempty" doc:"When it ends by itself"`
	What      string     `json:"what" doc:"What is stopped, in words"`
	Text      string     `json:"text" doc:"The same with who, why and until when"`
}

// NewPause stops something.
type NewPause struct {
	Of        string     `json:"of" enum:"everything,cloud,directories,directory"`
	Directory string     `json:"directory,omitempty" maxLength:"100" doc:"Of a pause of one directory"`
	Reason    string     `json:"reason" minLength:"1" maxLength:"500"`
	Until     *time.Time `json:"until,omitempty" doc:"When it ends by itself; without it somebody ends it"`
}
