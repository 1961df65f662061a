// Package progress tells where a run stands: its state, its stages, and what it saw
// and did.
package progress

import (
	"fmt"
	"strings"
	"time"

	"kambrel.example/kambrel/core/problem"
)

// State is where a run stands.
type State string

// The states of a run.
const (
	Waiting  State = "waiting"
	Running  State = "running"
	InStep   State = "in-step"
	Problems State = "problems"
	Failed   State = "failed"
	// Cancelled is for runs that write nothing only.
	Cancelled State = "cancelled"
)

// Ended tells whether nothing more happens in the run.
func (s State) Ended() bool {
	return s == InStep || s == Problems || s == Failed || s == Cancelled
}

// Counts is what a run saw and did.
type Counts struct {
	EntriesRead      int            `json:"entriesRead" doc:"Entries the directories sent"`
	EntriesChanged   int            `json:"entriesChanged" doc:"Entries that differ from the mirror"`
	EntriesGone      int            `json:"entriesGone"`
	ResourcesRead    int            `json:"resourcesRead" doc:"Resources the cloud sent"`
	ResourcesChanged int            `json:"resourcesChanged"`
	Planned          int            `json:"planned" doc:"Entries looked at by the plan"`
	Create           int            `json:"create"`
	Adopt            int            `json:"adopt"`
	Update           int            `json:"update"`
	Restore          int            `json:"restore"`
	Suspend          int            `json:"suspend"`
	Leave            int            `json:"leave,omitempty" doc:"Resources that stay until their grace time is over"`
	Delete           int            `json:"delete,omitempty"`
	Going            []Going        `json:"going,omitempty" doc:"What is deleted later, of what leaves in this run"`
	Unlink           int            `json:"unlink,omitempty"`
	Changes          int            `json:"changes" doc:"All planned changes that are not held"`
	Held             int            `json:"held" doc:"Changes that the guard holds"`
	Earlier          int            `json:"earlier,omitempty" doc:"What of the same runs before have taken away since then, which the guard counted with it"`
	EarlierSince     *time.Time     `json:"earlierSince,omitempty"`
	Hanging          int            `json:"hanging,omitempty" doc:"Memberships and references that are held with them"`
	Losses           []problem.Loss `json:"losses,omitempty" doc:"What the changes that are held would take away"`
	Done             int            `json:"done" doc:"Changes the cloud has carried out"`
	Failed           int            `json:"failed"`
	Problems         int            `json:"problems" doc:"Entries that this run could not bring in step"`
	ProblemsNew      int            `json:"problemsNew,omitempty" doc:"Problems of anything that were not there before this run"`
	ProblemsGone     int            `json:"problemsGone,omitempty" doc:"Problems that this run has closed"`
	ProblemsStanding int            `json:"problemsStanding,omitempty" doc:"Problems that were there before this run, and are still"`
	SamePerson       int            `json:"samePerson,omitempty" doc:"Entries that are one person with another entry, and share its resource"`
	MembersLeftOut   int            `json:"membersLeftOut,omitempty" doc:"Members of cloud groups that are none in a directory, of the groups that this run has looked at"`
	Needs            *Needs         `json:"needs,omitempty" doc:"Of a rehearsal: what the run would send"`
	Surveyed         int            `json:"surveyed,omitempty" doc:"Entries that the survey has looked at"`
	Findings         int            `json:"findings,omitempty"`
}

// Needs is what a run would send to the cloud.
type Needs struct {
	Requests  int    `json:"requests"`
	PerMinute int    `json:"perMinute,omitempty" doc:"How many requests the cloud takes a minute; absent where no limit is known"`
	Seconds   int    `json:"seconds,omitempty" doc:"How long that takes; absent where nobody can say yet"`
	Text      string `json:"text" doc:"The same in words"`
}

// Going is how many resources are deleted when their grace time is over, from a day on.
type Going struct {
	Kind  string    `json:"kind" enum:"user,group,contact"`
	Count int       `json:"count"`
	On    time.Time `json:"on" doc:"The day of the first"`
	Text  string    `json:"text" doc:"The same in words"`
}

// Say puts it into words.
func (g Going) Say() Going {
	g.Text = fmt.Sprintf("%d %s will be deleted, from %s on", g.Count, problem.Whom(g.Kind, g.Count), g.On.UTC().Format(time.DateOnly))
	return g
}

// HeldText says what the changes would do that are held.
func (c Counts) HeldText() string {
	texts := make([]string, len(c.Losses))
	for i, loss := range c.Losses {
		texts[i] = loss.Text
	}
	if len(texts) == 0 { // of the version before
		return fmt.Sprintf("suspend or delete %d", c.Held)
	}
	return strings.Join(texts, ", ")
}

// EarlierText says what runs before have taken away that counts with what is held, ""
// for nothing.
func (c Counts) EarlierText() string { return problem.EarlierText(c.Earlier, c.EarlierSince) }

// HeldRemovals is how many removals are held.
func (c Counts) HeldRemovals() int {
	n := 0
	for _, loss := range c.Losses {
		if loss.Of == "removals" {
			n += loss.Count
		}
	}
	return n
}

// LeftOut is a directory that a run could not read, or could not plan by: its entries
// stay as they were, and the others go on without it.
type LeftOut struct {
	Directory string       `json:"directory"`
	Code      problem.Code `json:"code" doc:"The problem that the directory has"`
	Title     string       `json:"title"`
	Detail    string       `json:"detail"`
	// Attributes are what alone is left out, empty for the whole directory.
	Attributes []string `json:"attributes,omitempty" doc:"Only these attributes are left out: what entries had of them stays"`
	// CloudGroups: only the groups of the cloud that are kept in it are.
	CloudGroups bool `json:"cloudGroups,omitempty" doc:"Only the groups of the cloud that are kept in it are left out"`
}

// Stage is one stage of a run.
type Stage struct {
	Name    string     `json:"name" enum:"read,plan,write,survey"`
	Started *time.Time `json:"started,omitempty"`
	Ended   *time.Time `json:"ended,omitempty"`
	// PausedUntil is set while the cloud is waited for that has asked for it.
	PausedUntil *time.Time `json:"pausedUntil,omitempty" doc:"The cloud asks for a pause until then"`
}
