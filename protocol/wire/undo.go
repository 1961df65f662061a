package wire

import (
	"time"

	"kambrel.example/kambrel/core/change"
)

// NewUndo asks what of a run can be put back, and with Do puts it back.
type NewUndo struct {
	Do bool `json:"do,omitempty" doc:"Put it back; else only say what that would be"`
	// ReturnSettings makes the revision before active again first.
	ReturnSettings bool    `json:"returnSettings,omitempty" doc:"Return to the revision of the settings by which runs worked before, in the same act"`
	Changes        []int64 `json:"changes,omitempty" maxItems:"1000" doc:"Only these changes of the run; none means all"`
}

// Undo is what of a run can be put back.
type Undo struct {
	RunID   int64 `json:"runId" doc:"The run that is undone"`
	Back    int   `json:"back" doc:"How many values, members and resources go back"`
	Already int   `json:"already" doc:"How many are as they were already"`
	Cannot  int   `json:"cannot" doc:"How many cannot be put back"`
	// Items are those that go back, then those that cannot.
	Items    []UndoItem    `json:"items" doc:"The first 500: those that go back, then those that cannot"`
	Reasons  []UndoReason  `json:"reasons" doc:"Why some cannot, the most frequent first"`
	Settings *UndoSettings `json:"settings,omitempty" doc:"The settings by which runs worked before, where they were others"`
	Done     bool          `json:"done"`
	NextRun  int64         `json:"nextRun,omitempty" doc:"The run that puts it back"`
}

// UndoItem is one thing that a run has done.
type UndoItem struct {
	ChangeID  int64          `json:"changeId"`
	Operation string         `json:"operation" doc:"What was done"`
	Kind      string         `json:"kind" enum:"user,group,contact"`
	Directory string         `json:"directory"`
	EntryID   string         `json:"entryId"`
	DN        string         `json:"dn"`
	Name      string         `json:"name"`
	Target    string         `json:"target" doc:"The attribute; scope for the resource itself, link for what it is linked to"`
	Member    *change.Member `json:"member,omitempty" doc:"The single one, of a list"`
	Now       any            `json:"now" doc:"What stands there"`
	Was       any            `json:"was" doc:"What stood there before the run, and is put back"`
	Outcome   string         `json:"outcome" enum:"back,already,cannot"`
	Why       string         `json:"why,omitempty" doc:"Why it cannot be put back, or in which way it is"`
}

// UndoReason is why some things cannot be put back.
type UndoReason struct {
	Why   string `json:"why"`
	Count int    `json:"count"`
}

// UndoSettings are the settings by which runs worked before.
type UndoSettings struct {
	Before      int    `json:"before" doc:"Their revision"`
	Active      int    `json:"active" doc:"The one that is active now"`
	By          string `json:"by" doc:"Who has activated that"`
	Note        string `json:"note,omitempty"`
	Differences int    `json:"differences" doc:"In how many places they differ"`
}

// Pin is something that was put back, and stays so until somebody lifts it or the rules come
// to the same.
type Pin struct {
	Directory string    `json:"directory"`
	EntryID   string    `json:"entryId"`
	DN        string    `json:"dn"`
	Target    string    `json:"target" doc:"The attribute, or scope for whether it takes part"`
	Element   string    `json:"element,omitempty" doc:"The id of a member, or the value that a membership grants"`
	Name      string    `json:"name,omitempty" doc:"What people call the element"`
	Value     any       `json:"value" doc:"What it is held at; of an element and of the scope whether it is there"`
	RunID     int64     `json:"runId" doc:"The run that was undone"`
	By        string    `json:"by"`
	Made      time.Time `json:"made"`
}

// LiftPins chooses pins.
type LiftPins struct {
	Directory string `json:"directory,omitempty" maxLength:"63" doc:"Of this entry, with entryId"`
	EntryID   string `json:"entryId,omitempty" format:"uuid"`
	Target    string `json:"target,omitempty" maxLength:"300" doc:"Only of this attribute"`
	RunID     int64  `json:"runId,omitempty" minimum:"1" doc:"All that undoing this run has put back"`
}
