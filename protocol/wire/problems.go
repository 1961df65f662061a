package wire

import (
	"time"

	"kambrel.example/kambrel/core/about"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/remedy"
)

// ProblemDetail is a problem with its text from the catalogue.
type ProblemDetail struct {
	Code   string `json:"code"`
	Title  string `json:"title"`
	Detail string `json:"detail"`
	Cause  string `json:"cause"`
	Remedy string `json:"remedy"`
}

// DetailOf fills a problem from the catalogue.
func DetailOf(code problem.Code, detail string) ProblemDetail {
	kind := problem.Describe(code)
	return ProblemDetail{Code: string(code), Title: kind.Title, Detail: detail, Cause: kind.Cause, Remedy: kind.Remedy}
}

// ProblemKind is one line of the catalogue of problems.
type ProblemKind struct {
	Code   string `json:"code"`
	Title  string `json:"title"`
	Cause  string `json:"cause"`
	Remedy string `json:"remedy"`
	// Touches is the type of what has it.
	Touches about.Type `json:"touches,omitempty" doc:"The type of what has it; none of what only answers a request"`
}

// Problem is something that keeps a thing from being in step.
type Problem struct {
	ProblemDetail
	ID    int64         `json:"id"`
	About about.Thing   `json:"about"`
	Name  string        `json:"name" doc:"What people call that: a distinguished name, the name of a directory or an agent"`
	Facts problem.Facts `json:"facts" doc:"What is particular to this occurrence; the detail is made of it"`
	// The next are of a problem of an entry.
	Directory  string          `json:"directory,omitempty"`
	EntryID    string          `json:"entryId,omitempty"`
	DN         string          `json:"dn,omitempty"`
	ResourceID string          `json:"resourceId,omitempty" doc:"The resource that the entry is linked to"`
	Remedies   []remedy.Remedy `json:"remedies" doc:"What can be done here, the likeliest first; else the remedy in words says what to do elsewhere"`
	Since      time.Time       `json:"since"`
	Met        time.Time       `json:"met" doc:"When it was met last"`
	FirstRun   int64           `json:"firstRun,omitempty"`
	LastRun    int64           `json:"lastRun,omitempty" doc:"The last run that met it"`
	Times      int             `json:"times" doc:"How many runs have met it"`
	Closed     *time.Time      `json:"closed,omitempty"`
	Closing    string          `json:"closing,omitempty" doc:"Why it was closed"`
	ClosedRun  int64           `json:"closedRun,omitempty" doc:"The run that has closed it"`
	// What people say of it.
	Assigned string     `json:"assigned,omitempty" doc:"Who looks after it"`
	Note     string     `json:"note,omitempty"`
	Asleep   *time.Time `json:"asleep,omitempty" doc:"Until when it stands behind the others"`
	MarkedBy string     `json:"markedBy,omitempty" doc:"Who has said so last"`
	Marked   *time.Time `json:"marked,omitempty"`
}

// MarkProblems says something of open problems; what is not given stays as it is.
type MarkProblems struct {
	IDs      []int64    `json:"ids,omitempty" maxItems:"10000" doc:"These problems"`
	Code     string     `json:"code,omitempty" maxLength:"60" doc:"Or all open ones that have this code"`
	Assigned *string    `json:"assigned,omitempty" maxLength:"200" doc:"Who looks after it; an empty text for nobody"`
	Note     *string    `json:"note,omitempty" maxLength:"2000" doc:"An empty text takes the note away"`
	Asleep   *time.Time `json:"asleep,omitempty" doc:"Until when it stands behind the others, at most a year; a time that has passed wakes it"`
}

// MarkedProblems tells how many problems were marked.
type MarkedProblems struct {
	Marked int `json:"marked"`
}

// ProblemGroup is all open problems that have one code.
type ProblemGroup struct {
	ProblemKind
	Count    int          `json:"count" doc:"How many are open; none where all were closed within the days shown"`
	Asleep   int          `json:"asleep" doc:"Of them, those that sleep"`
	Assigned int          `json:"assigned" doc:"Of them, those that somebody looks after"`
	Since    time.Time    `json:"since" doc:"Since when the oldest is open"`
	Newest   time.Time    `json:"newest" doc:"When the newest was opened"`
	Days     []ProblemDay `json:"days" doc:"What came and went on each of the last 14 days, the oldest first"`
}

// ProblemDay is how many problems were opened and closed on a day.
type ProblemDay struct {
	Day    string `json:"day" format:"date" doc:"In UTC"`
	Opened int    `json:"opened"`
	Closed int    `json:"closed"`
}

// ProblemView is one problem with all that helps to solve it.
type ProblemView struct {
	Problem
	Repairs []RepairItem `json:"repairs" doc:"Values of the entry that Kambrel could write, as they are, with a proposal where there is one"`
	Acts    []Act        `json:"acts" doc:"What was done to the thing since the problem is there, the newest first"`
}
