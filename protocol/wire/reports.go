package wire

import "time"

// Report is what came of a time, to be sent on.
type Report struct {
	From     time.Time       `json:"from"`
	To       time.Time       `json:"to"`
	Runs     int             `json:"runs"`
	Failures int             `json:"failures" doc:"Runs that failed"`
	Counts   []ReportCount   `json:"counts" doc:"What was done"`
	Came     ReportPart      `json:"came" doc:"Created, adopted and restored"`
	Left     ReportPart      `json:"left" doc:"Suspended, deleted and untied, with who let it through"`
	Changed  ReportPart      `json:"changed"`
	Failed   ReportPart      `json:"failed"`
	Problems []ReportProblem `json:"problems"`
	Acts     []ReportAct     `json:"acts" doc:"Who did what, and how often"`
}

// MailReport chooses the time of a report that is mailed.
type MailReport struct {
	From time.Time `json:"from"`
	To   time.Time `json:"to" doc:"Excluded; a year after from at most"`
}

// MailedReport says to whom a report went.
type MailedReport struct {
	Recipients []string `json:"recipients"`
}

// ReportCount is how many changes of one kind were done.
type ReportCount struct {
	Kind      string `json:"kind"`
	Operation string `json:"operation"`
	Count     int    `json:"count"`
}

// ReportPart names each thing, the newest first.
type ReportPart struct {
	Total int          `json:"total"`
	Items []ReportLine `json:"items" doc:"The latest 200; the CSV has all"`
}

// ReportLine is one thing that a run has done, or failed to do.
type ReportLine struct {
	At        time.Time `json:"at"`
	Kind      string    `json:"kind"`
	Name      string    `json:"name"`
	DN        string    `json:"dn"`
	Directory string    `json:"directory"`
	EntryID   string    `json:"entryId"`
	Operation string    `json:"operation"`
	RunID     int64     `json:"runId"`
	By        string    `json:"by" doc:"Who asked for the run"`
	Released  bool      `json:"released,omitempty" doc:"The guard had held it, and who asked for the run let it through"`
	Answer    string    `json:"answer,omitempty"`
}

// ReportProblem is how many problems of a code came and went, and how many are open.
type ReportProblem struct {
	Code   string `json:"code"`
	Title  string `json:"title"`
	Opened int    `json:"opened"`
	Closed int    `json:"closed"`
	Open   int    `json:"open"`
}

// ReportAct is how often somebody did something.
type ReportAct struct {
	By    string `json:"by"`
	Kind  string `json:"kind"`
	Title string `json:"title"`
	Count int    `json:"count"`
}
