package wire

import (
	"time"

	"kambrel.example/kambrel/core/change"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/reason"
	"kambrel.example/kambrel/core/scope"
)

// Hit is one object that a search found.
type Hit struct {
	Type       string `json:"type" enum:"entry,resource"`
	Kind       string `json:"kind" enum:"user,group,contact"`
	Name       string `json:"name"`
	Login      string `json:"login,omitempty"`
	DN         string `json:"dn,omitempty"`
	Directory  string `json:"directory,omitempty"`
	EntryID    string `json:"entryId,omitempty"`
	ResourceID string `json:"resourceId,omitempty"`
	Active     *bool  `json:"active,omitempty"`
	Gone       bool   `json:"gone,omitempty"`
	State      string `json:"state" enum:"in-step,suspended,leaving,left,problem,changing,not-synced,cloud-only,removed" doc:"Where the object stands"`
}

// Everything is what a search over all that has a name or a number has found.
type Everything struct {
	Objects []Hit   `json:"objects" doc:"Objects, whoever is called just so first"`
	Total   int     `json:"total" doc:"How many objects fit"`
	AtLeast bool    `json:"atLeast,omitempty" doc:"There are more than total; /objects counts them all"`
	Others  []Found `json:"others" doc:"What else fits, by sorts; what is called just so first"`
}

// Found is one thing other than an object that was found.
type Found struct {
	Sort      string `json:"sort" enum:"problem,run,revision,container,directory,agent,cause"`
	Key       string `json:"key" doc:"A number, a distinguished name, a name, an id or the code of a problem"`
	Directory string `json:"directory,omitempty" doc:"Of a container"`
	Name      string `json:"name"`
	More      string `json:"more,omitempty"`
	Exact     bool   `json:"exact,omitempty" doc:"It is called just so"`
}

// EntryView is an entry as the mirror holds it.
type EntryView struct {
	entry.Entry
	Forms []entry.Form `json:"forms" doc:"The id in the forms that servers and their tools print"`
}

// LinkView is the tie between entry and resource.
type LinkView struct {
	LinkKey    string      `json:"linkKey"`
	ResourceID string      `json:"resourceId"`
	How        string      `json:"how" enum:"create,adopt,relink"`
	Owner      change.Side `json:"owner" enum:"directory,cloud" doc:"Who decides about the pair"`
	RunID      int64       `json:"runId"`
	Since      time.Time   `json:"since"`
	Left       *time.Time  `json:"left,omitempty" doc:"When the leaver policy was carried out"`
	Due        *time.Time  `json:"due,omitempty" doc:"When the resource is deleted"`
}

// Leaver is somebody whose resource is deleted when the grace time is over.
type Leaver struct {
	Kind       string    `json:"kind" enum:"user,group,contact"`
	Directory  string    `json:"directory"`
	EntryID    string    `json:"entryId"`
	ResourceID string    `json:"resourceId"`
	Name       string    `json:"name"`
	DN         string    `json:"dn"`
	Gone       bool      `json:"gone" doc:"The entry was deleted from its directory; else it is out of scope"`
	Left       time.Time `json:"left"`
	On         time.Time `json:"on" doc:"When the resource is deleted"`
}

// AttributeView is one attribute side by side.
type AttributeView struct {
	Target  string `json:"target"`
	Desired any    `json:"desired" doc:"What the rules make of the entry"`
	Actual  any    `json:"actual" doc:"What the resource has"`
	Source  string `json:"source" doc:"The rule, or nothing where no rule touches it"`
	Managed bool   `json:"managed"`
	Same    bool   `json:"same"`
}

// MemberList is the membership of a group in the directory and in the cloud.
type MemberList struct {
	Total   int           `json:"total" doc:"How many the directory names"`
	InCloud int           `json:"inCloud" doc:"How many the group in the cloud has"`
	LeftOut int           `json:"leftOut" doc:"How many of those shown have no resource in the cloud"`
	Items   []GroupMember `json:"items"`
}

// GroupMember is one member of a group.
type GroupMember struct {
	DN         string `json:"dn"`
	Name       string `json:"name"`
	Kind       string `json:"kind,omitempty"`
	EntryID    string `json:"entryId,omitempty"`
	ResourceID string `json:"resourceId,omitempty"`
	LeftOut    string `json:"leftOut,omitempty" doc:"Why it is no member in the cloud"`
}

// Object is one person seen from all sides.
type Object struct {
	Entry      *EntryView      `json:"entry,omitempty"`
	Link       *LinkView       `json:"link,omitempty"`
	Resource   entry.Resource  `json:"resource,omitempty"`
	Attributes []AttributeView `json:"attributes"`
	Problem    *Problem        `json:"problem,omitempty"`
	Changes    []Change        `json:"changes" doc:"The latest changes, the newest first"`
	Why        Why             `json:"why"`
	// Members are those of a group, at most 100, those that are left out first.
	Members *MemberList `json:"members,omitempty"`
	// Person is the entries of several directories that are one person.
	Person []PersonEntry `json:"person,omitempty"`
}

// CloudNow is what the cloud has of an object at this moment, beside the mirror.
type CloudNow struct {
	ResourceID  string          `json:"resourceId"`
	Found       bool            `json:"found" doc:"The cloud has the resource"`
	Differences []NowDifference `json:"differences" doc:"Attributes that differ from the mirror"`
	// Members are those of a group.
	Members         int      `json:"members"`
	MembersMirrored int      `json:"membersMirrored" doc:"How many the mirror has"`
	MembersLost     int      `json:"membersLost" doc:"How many the mirror has and the cloud does not"`
	MembersMore     int      `json:"membersMore" doc:"How many the cloud has and the mirror does not"`
	Lost            []string `json:"lost" doc:"The names of the first of them"`
	More            []string `json:"more"`
}

// NowDifference is one attribute that is not as the mirror has it.
type NowDifference struct {
	Target string `json:"target"`
	Mirror any    `json:"mirror"`
	Now    any    `json:"now"`
}

// Same tells whether the mirror is true.
func (n CloudNow) Same() bool {
	return n.Found && len(n.Differences)+n.MembersLost+n.MembersMore == 0
}

// PersonEntry is one of the entries that are one person.
type PersonEntry struct {
	Directory  string           `json:"directory"`
	EntryID    string           `json:"entryId"`
	DN         string           `json:"dn"`
	Leads      bool             `json:"leads,omitempty" doc:"It bears the link"`
	Rule       string           `json:"rule,omitempty" doc:"The person rule that ties it to the one that leads"`
	Attributes entry.Attributes `json:"attributes,omitempty"`
}

// Why is the explanation of everything decided about one object.
type Why struct {
	Subject string        `json:"subject" doc:"Name of the object that is explained"`
	Summary string        `json:"summary"`
	In      bool          `json:"in"`
	Verdict scope.Code    `json:"verdict,omitempty"`
	Steps   []reason.Node `json:"steps"`
	// What the next run would do, as far as it is planned; members and references
	// come after that.
	Operation  string        `json:"operation,omitempty" doc:"What the next run would do to the resource"`
	Code       string        `json:"code,omitempty" doc:"What was decided, or the problem that stands in the way"`
	ResourceID string        `json:"resourceId,omitempty"`
	Diffs      []change.Diff `json:"diffs,omitempty"`
	// Others are objects that are called so too.
	Others []Hit `json:"others,omitempty" doc:"Other objects that have the same name or login, such as those that were deleted"`
}
