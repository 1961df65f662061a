package wire

import (
	"time"

	"kambrel.example/kambrel/core/change"
	"kambrel.example/kambrel/core/reason"
	"kambrel.example/kambrel/core/settings"
)

// CloudGroup is a group of the cloud, as it stands in a directory.
type CloudGroup struct {
	Directory string `json:"directory"`
	ID        string `json:"id" doc:"The group's id in the cloud"`
	Name      string `json:"name"`
	Owner     string `json:"owner" enum:"cloud,directory" doc:"Who decides about it"`
	State     string `json:"state" enum:"in-step,waits,problem,leaving,lost,forgone,not-kept"`
	Summary   string `json:"summary" doc:"Whether it is kept and what made that, and what the next run does"`
	// The next are of one that is in the directory.
	DN      string     `json:"dn,omitempty"`
	EntryID string     `json:"entryId,omitempty"`
	SID     string     `json:"sid,omitempty" doc:"The security identifier by which access lists name it"`
	Members int        `json:"members" doc:"How many it has in the directory"`
	InCloud int        `json:"inCloud" doc:"How many it has in the cloud"`
	Since   *time.Time `json:"since,omitempty"`
	Due     *time.Time `json:"due,omitempty" doc:"When it is deleted from the directory"`
	Drifted *time.Time `json:"drifted,omitempty" doc:"When a run last put back what somebody had changed in the directory"`
	Problem string     `json:"problem,omitempty"`
}

// CloudGroupDirectory is a directory in which groups of the cloud are kept, or may be.
type CloudGroupDirectory struct {
	Name      string               `json:"name"`
	On        bool                 `json:"on"`
	Settings  settings.CloudGroups `json:"settings" doc:"As they hold, with what is not given filled in"`
	Kept      int                  `json:"kept"`
	Leaving   int                  `json:"leaving"`
	Waiting   int                  `json:"waiting" doc:"How many the next run looks at"`
	Problems  int                  `json:"problems"`
	Drifted   int                  `json:"drifted" doc:"How many changes in the directory were put back within 7 days"`
	NoLonger  bool                 `json:"noLonger,omitempty" doc:"Groups are there, and no longer kept since it was switched off"`
	Container string               `json:"container"`
}

// CloudGroupDefaults are what holds where the settings say nothing, by dialect.
type CloudGroupDefaults struct {
	AD       settings.CloudGroups `json:"ad"`
	Standard settings.CloudGroups `json:"standard"`
}

// CloudGroupDetail is one group with why it stands as it does.
type CloudGroupDetail struct {
	CloudGroup
	Steps    []reason.Node `json:"steps"`
	LeftOut  int           `json:"leftOut" doc:"How many members in the cloud are none in the directory"`
	Diffs    []change.Diff `json:"diffs" doc:"What the next run changes of the entry"`
	Problems []Problem     `json:"problems"`
	// Kept are members that stay since somebody has said so.
	Kept []string `json:"kept"`
}

// CloudGroupMember is a member of a group, in the directory or left out of it.
type CloudGroupMember struct {
	Name       string `json:"name"`
	Kind       string `json:"kind,omitempty"`
	DN         string `json:"dn,omitempty"`
	EntryID    string `json:"entryId,omitempty"`
	ResourceID string `json:"resourceId,omitempty"`
	Reason     string `json:"reason,omitempty" doc:"Why it is left out: cloud-only, other-directory, out-of-scope, nested-off, group-not-kept, scope, refused or unknown"`
	Text       string `json:"text,omitempty" doc:"The same in words"`
}

// Drift is what somebody has changed of a group in a directory, and a run has put back.
type Drift struct {
	ID        int64         `json:"id"`
	RunID     int64         `json:"runId"`
	Directory string        `json:"directory"`
	GroupID   string        `json:"groupId"`
	Name      string        `json:"name"`
	DN        string        `json:"dn"`
	State     string        `json:"state" doc:"That of the change that puts it back"`
	Diffs     []change.Diff `json:"diffs" doc:"Before is what was found, and after what was put back; of members, who was removed or added again"`
	At        *time.Time    `json:"at,omitempty" doc:"When it was put back"`
	By        string        `json:"by,omitempty" doc:"Who has changed the entry last, as far as the directory tells"`
	Changed   *time.Time    `json:"changed,omitempty" doc:"When the entry was changed last before"`
}

// TryCloudGroup asks for a trial of one group, chosen or not.
type TryCloudGroup struct {
	Members int  `json:"members,omitempty" minimum:"0" doc:"How many members at most; 0 for what the settings say"`
	Write   bool `json:"write,omitempty" doc:"Write it into the directory"`
}

// HandOver asks for a group to be owned by the other side: the cloud, or the directory that
// it is in. Both objects stay.
type HandOver struct {
	To string `json:"to" enum:"cloud,directory"`
	Do bool   `json:"do,omitempty" doc:"False only tells what would be done"`
}

// HandedOver is what handing a group over does.
type HandedOver struct {
	Done     bool          `json:"done"`
	RunID    int64         `json:"runId,omitempty"`
	Summary  string        `json:"summary"`
	Diffs    []change.Diff `json:"diffs" doc:"What the run then changes, of the entry when the cloud owns it, else of the resource"`
	Warnings []string      `json:"warnings"`
}
