package wire

import (
	"encoding/json"
	"slices"
	"time"

	"kambrel.example/kambrel/core/about"
	"kambrel.example/kambrel/core/act"
	"kambrel.example/kambrel/core/change"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/core/reason"
	"kambrel.example/kambrel/core/remedy"
	"kambrel.example/kambrel/core/scope"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/protocol/orders"
)

// Role is what an operator or a token may do.
type Role string

// The roles, each of which may do what the one before may.
const (
	Viewer        Role = "viewer"
	OperatorRole  Role = "operator"
	Administrator Role = "administrator"
)

// Allows tells whether this role is enough where least is asked for.
func (r Role) Allows(least Role) bool { return r.rank() >= least.rank() }

func (r Role) rank() int {
	return map[Role]int{Viewer: 1, OperatorRole: 2, Administrator: 3}[r]
}

// Session is who is signed in.
type Session struct {
	Name string `json:"name"`
	Role Role   `json:"role" enum:"viewer,operator,administrator"`
	// Directory vouches for a member of one of its groups.
	Directory string `json:"directory,omitempty" doc:"The directory by which it was signed in; none for an operator of Kambrel's own"`
	// SecondFactor: a code is asked for at sign-in.
	SecondFactor bool `json:"secondFactor,omitempty" doc:"A code of an authenticator is asked for at sign-in"`
}

// Credentials sign an operator in.
type Credentials struct {
	Name      string `json:"name" minLength:"1" maxLength:"200"`
	Password  string `json:"password" minLength:"1" maxLength:"200"`
	Directory string `json:"directory,omitempty" maxLength:"63" doc:"The directory that knows name and password; none for an operator of Kambrel's own"`
	Code      string `json:"code,omitempty" pattern:"^[0-9]{6}$" doc:"Of the second factor, where the operator has one (RFC 6238)"`
}

// SignInWays are how one can sign in.
type SignInWays struct {
	Directories []string `json:"directories" doc:"Whose groups let their members sign in"`
}

// OperatorGroup is a group of a directory whose members sign in.
type OperatorGroup struct {
	Directory string    `json:"directory"`
	EntryID   string    `json:"entryId"`
	DN        string    `json:"dn,omitempty"`
	Role      Role      `json:"role" enum:"viewer,operator,administrator"`
	CreatedBy string    `json:"createdBy"`
	Created   time.Time `json:"created"`
	Gone      bool      `json:"gone,omitempty" doc:"The directory has it no more, as far as is known"`
}

// NewOperatorGroup lets the members of a group sign in.
type NewOperatorGroup struct {
	Group string `json:"group" minLength:"1" maxLength:"1000" doc:"Its name, DN or id"`
	Role  Role   `json:"role" enum:"viewer,operator,administrator"`
}

// NewPassword sets an operator's password.
type NewPassword struct {
	Password string `json:"password" minLength:"10" maxLength:"72"`
}

// OwnPassword changes the password of whoever is signed in.
type OwnPassword struct {
	Current  string `json:"current" minLength:"1" maxLength:"200"`
	Password string `json:"password" minLength:"10" maxLength:"72"`
}

// NewFactor is a secret for an authenticator, which is shown once.
type NewFactor struct {
	Secret string `json:"secret" doc:"Base32, to type into the authenticator"`
	URI    string `json:"uri" doc:"The same with its parameters: otpauth://totp/…"`
	Image  string `json:"image" doc:"The URI as a QR code: a data URI of a PNG"`
}

// OwnFactor asks for codes of a secret from now on.
type OwnFactor struct {
	Current string `json:"current" minLength:"1" maxLength:"200" doc:"The password"`
	Secret  string `json:"secret" minLength:"32" maxLength:"128"`
	Code    string `json:"code" pattern:"^[0-9]{6}$" doc:"What the authenticator shows now"`
}

// NewOperator makes an operator.
type NewOperator struct {
	Name     string `json:"name" pattern:"^[a-z][a-z0-9.-]{0,62}$"`
	Password string `json:"password" minLength:"10" maxLength:"72"`
	Role     Role   `json:"role" enum:"viewer,operator,administrator"`
	// Emergency is for an account that lies in a safe.
	Emergency bool `json:"emergency,omitempty" doc:"It is for emergencies: everybody is told when it is used"`
}

// Operator is somebody who can sign in.
type Operator struct {
	Name      string    `json:"name"`
	Role      Role      `json:"role" enum:"viewer,operator,administrator"`
	Created   time.Time `json:"created"`
	Emergency bool      `json:"emergency,omitempty" doc:"It is for emergencies: everybody is told when it is used"`
	// SecondFactor: a code is asked for as well.
	SecondFactor bool       `json:"secondFactor,omitempty" doc:"A code of an authenticator is asked for as well"`
	Sessions     int        `json:"sessions" doc:"How many go on"`
	Used         *time.Time `json:"used,omitempty" doc:"When a session that goes on was used last, to the minute"`
}

// NewRole gives an operator another role.
type NewRole struct {
	Role Role `json:"role" enum:"viewer,operator,administrator"`
}

// OpenSession is a session that goes on.
type OpenSession struct {
	ID      string     `json:"id"`
	Name    string     `json:"name"`
	Role    Role       `json:"role" enum:"viewer,operator,administrator"`
	Created time.Time  `json:"created"`
	Expires time.Time  `json:"expires"`
	Used    *time.Time `json:"used,omitempty" doc:"When it was used last, to the minute"`
	From    string     `json:"from,omitempty" doc:"The address that it was used from last"`
	Own     bool       `json:"own,omitempty" doc:"It is the one that asks"`

	Directory string `json:"directory,omitempty" doc:"The directory that vouches for it; none for an operator of Kambrel's own"`
}

// NewToken asks for a token.
type NewToken struct {
	Name string `json:"name" minLength:"1" maxLength:"63"`
	Role Role   `json:"role" enum:"viewer,operator,administrator"`
	Days int    `json:"days,omitempty" minimum:"0" maximum:"3650" doc:"Days until it expires; 0 for a year"`
	// Purpose is for whoever finds it in the list.
	Purpose string `json:"purpose,omitempty" maxLength:"200" doc:"What it is for"`
}

// Token is a token without its secret, which is shown once when it is made.
type Token struct {
	ID        string     `json:"id"`
	Name      string     `json:"name"`
	Role      Role       `json:"role" enum:"viewer,operator,administrator"`
	CreatedBy string     `json:"createdBy"`
	Expires   time.Time  `json:"expires"`
	Created   time.Time  `json:"created"`
	Purpose   string     `json:"purpose,omitempty" doc:"What it is for"`
	Used      *time.Time `json:"used,omitempty" doc:"When it was used last, to the minute"`
	From      string     `json:"from,omitempty" doc:"The address that it was used from last"`
	Secret    string     `json:"secret,omitempty" doc:"Shown only in the answer that made it"`
}

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

// AcceptAbsence names an attribute that was taken from everybody.
type AcceptAbsence struct {
	Attribute string `json:"attribute" minLength:"1" maxLength:"200"`
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

// Page is one page of a list; Next is empty on the last one.
type Page[T any] struct {
	Items []T    `json:"items"`
	Next  string `json:"next,omitempty" doc:"Cursor of the next page"`
	Total int    `json:"total" doc:"How many there are in all pages"`
	// AtLeast is said by lists of which only so many are counted.
	AtLeast bool `json:"atLeast,omitempty" doc:"There are more than total, which were not counted"`
}

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

// Attention is something that needs attention: a problem of what is no entry, or all
// problems of entries that have one code.
type Attention struct {
	ProblemDetail
	About    about.Thing     `json:"about"`
	Since    *time.Time      `json:"since,omitempty"`
	Count    int             `json:"count" doc:"How many entries have it; 1 for what is no entry"`
	Remedies []remedy.Remedy `json:"remedies"`
}

// Act is something that an operator, an agent or the host did that changed something.
type Act struct {
	ID     int64           `json:"id"`
	At     time.Time       `json:"at"`
	By     string          `json:"by"`
	Kind   act.Kind        `json:"kind"`
	Title  string          `json:"title"`
	About  about.Thing     `json:"about"`
	Name   string          `json:"name" doc:"What people call the thing that it was done to"`
	Before json.RawMessage `json:"before,omitempty" doc:"How it was, as JSON"`
	After  json.RawMessage `json:"after,omitempty" doc:"How it is since"`
	Result act.Result      `json:"result" enum:"done,refused,failed"`
	Undo   act.Kind        `json:"undo,omitempty" doc:"The act that takes it back"`
	Origin string          `json:"origin,omitempty" doc:"From where it was done: an address, and by console, command line or token; nothing of what the service, an agent or the host did"`
	Note   string          `json:"note,omitempty"`
}

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

// Agent is one enrolled agent.
type Agent struct {
	ID          string     `json:"id"`
	Name        string     `json:"name"`
	Host        string     `json:"host"`
	Version     string     `json:"version"`
	Directories []string   `json:"directories" doc:"Directories that it reaches and may speak for"`
	Asks        []string   `json:"asks" doc:"Directories that it says it reaches, and that no administrator has granted it: nothing is taken from it for them"`
	Granted     []string   `json:"granted" doc:"Directories that it may speak for"`
	Plain       []string   `json:"plain" doc:"Directories that it reaches by plain LDAP: what is read can be seen on the network"`
	Enrolled    time.Time  `json:"enrolled"`
	LastContact *time.Time `json:"lastContact,omitempty"`
	State       string     `json:"state" enum:"online,offline,never-seen"`
	// Watches are how it hears of changes.
	Watches []Watch `json:"watches" doc:"Directories that it watches for changes, while the settings want them live"`
	// Faults are where it fails for a cause of its own.
	Faults []AgentFault `json:"faults" doc:"Directories for which it fails while others may be well; it gets no more orders for them until a probe finds it well"`
}

// WellFor tells whether the agent serves a directory and does not fail for it.
func (a Agent) WellFor(directory string) bool {
	return slices.Contains(a.Directories, directory) && !slices.ContainsFunc(a.Faults, func(f AgentFault) bool { return f.Directory == directory })
}

// AgentFault is why an agent fails for a directory.
type AgentFault struct {
	Directory string    `json:"directory"`
	Code      string    `json:"code"`
	Title     string    `json:"title"`
	Detail    string    `json:"detail"`
	Since     time.Time `json:"since"`
}

// AgentGrant names the directories that an agent may speak for.
type AgentGrant struct {
	Directories []string `json:"directories" minItems:"1" maxItems:"100" doc:"Names as in the settings, also of directories that are still to come"`
}

// EnrolmentCode is a one-time code; it is shown once.
type EnrolmentCode struct {
	Code        string    `json:"code"`
	Expires     time.Time `json:"expires"`
	Directories []string  `json:"directories" doc:"The directories that the agent may speak for"`
	Command     string    `json:"command" doc:"What to run on the agent's host"`
}

// Settings is a settings revision.
type Settings struct {
	Revision  int               `json:"revision"`
	Document  settings.Document `json:"document"`
	YAML      string            `json:"yaml"`
	By        string            `json:"by"`
	Activated time.Time         `json:"activated"`
	Note      string            `json:"note,omitempty"`
}

// ActivateSettings activates a settings file.
type ActivateSettings struct {
	YAML string `json:"yaml" maxLength:"1000000"`
	Note string `json:"note,omitempty" maxLength:"500"`
	// Base is the revision the file was made from; when another was activated
	// meanwhile, the activation is refused. 0 does not ask.
	Base int `json:"base,omitempty" minimum:"0"`
}

// Health is the state of everything.
type Health struct {
	State     string           `json:"state" enum:"well,attention,broken"`
	Summary   string           `json:"summary"`
	Attention []Attention      `json:"attention" doc:"What needs attention, the worst first"`
	LastRun   *Run             `json:"lastRun,omitempty" doc:"The last run that has ended"`
	Current   *Run             `json:"current,omitempty" doc:"The run that writes and goes on or waits"`
	Beside    []Run            `json:"beside" doc:"Rehearsals, surveys and the like that go on or wait"`
	Going     []progress.Going `json:"going" doc:"What is deleted when its grace time is over"`
	NextRun   *time.Time       `json:"nextRun,omitempty" doc:"When the schedule starts the next one"`
	NextFull  *time.Time       `json:"nextFull,omitempty" doc:"When the schedule starts the next one that compares everything"`
	Live      bool             `json:"live,omitempty" doc:"A change in a directory that is watched starts a run at once, now"`
	Pauses    []Pause          `json:"pauses" doc:"What operators have stopped"`
	Revision  int              `json:"revision"`
	Agents    []Agent          `json:"agents"`
	Objects   ObjectCounts     `json:"objects"`
	Cloud     CloudState       `json:"cloud"`
	Problems  int              `json:"problems"`
	ByProblem []CodeCount      `json:"byProblem"`
	Pins      int              `json:"pins" doc:"How many things were put back and stay so, whatever rules and scope say"`
	Directory []DirectoryState `json:"directories"`
	Passwords PasswordsState   `json:"passwords" doc:"The way by which passwords come from the cloud"`
	// SignIns is what is to be told of who signed in or tried to.
	SignIns SignIns `json:"signIns"`
	// Certificates are those that end within a month.
	Certificates []Certificate `json:"certificates" doc:"Those by which a service, a directory or the cloud is known, and which end within a month"`
	// NoticesStuck is why people cannot be told.
	NoticesStuck string `json:"noticesStuck,omitempty" doc:"Why notices do not get through"`
}

// Checkup says how an installation stands.
type Checkup struct {
	At      time.Time        `json:"at"`
	Version string           `json:"version" doc:"Of the service"`
	Outcome string           `json:"outcome" enum:"good,doubtful,bad" doc:"The worst of the steps"`
	Steps   []orders.Verdict `json:"steps"`
}

// SignIns is what is to be told of who signed in or tried to.
type SignIns struct {
	Refused   int      `json:"refused,omitempty" doc:"Attempts that were refused within the last hour"`
	Names     []string `json:"names,omitempty" doc:"Whose names were tried, the most tried first"`
	Addresses []string `json:"addresses,omitempty" doc:"From where"`
	Emergency []string `json:"emergency,omitempty" doc:"Uses of accounts for emergencies within the last day, in words"`
}

// Certificate is one that ends soon.
type Certificate struct {
	About   about.Thing `json:"about" doc:"Of a service the key is its URL"`
	Expires time.Time   `json:"expires"`
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

// TrendDay is how things went on a day, in UTC.
type TrendDay struct {
	Day      string  `json:"day" format:"date"`
	Runs     int     `json:"runs" doc:"That write and have ended"`
	Failed   int     `json:"failed"`
	Created  int     `json:"created"`
	Adopted  int     `json:"adopted"`
	Updated  int     `json:"updated"`
	Restored int     `json:"restored"`
	Removed  int     `json:"removed" doc:"Suspended or deleted"`
	Held     int     `json:"held" doc:"The most changes that a run held"`
	Longest  float64 `json:"longest" doc:"How long the longest run took, in seconds"`
	Opened   int     `json:"opened" doc:"Problems"`
	Closed   int     `json:"closed"`
	Open     int     `json:"open" doc:"Problems that were open at its end"`
}

// CodeCount is how many open problems have a code.
type CodeCount struct {
	Code  string `json:"code"`
	Title string `json:"title"`
	Count int    `json:"count"`
	// Asleep are those of them that somebody has put to sleep.
	Asleep int `json:"asleep,omitempty"`
}

// ObjectCounts tells how many objects are where.
type ObjectCounts struct {
	Entries   int `json:"entries" doc:"People in the directories"`
	Linked    int `json:"linked" doc:"People with a resource"`
	Suspended int `json:"suspended" doc:"Of these, those who left"`
	Groups    int `json:"groups" doc:"Groups with a resource"`
	Contacts  int `json:"contacts" doc:"Contacts with a resource"`
	CloudOnly int `json:"cloudOnly" doc:"Resources that no entry owns"`
	Dirty     int `json:"dirty" doc:"Entries the next run looks at"`
}

// CloudState is what is known about the cloud.
type CloudState struct {
	URL      string     `json:"url"`
	LastRead *time.Time `json:"lastRead,omitempty"`

	RequestsPerMinute int `json:"requestsPerMinute,omitempty" doc:"How many requests the cloud takes, by the settings or by what it has said; absent where no limit is known"`
}

// DirectoryState is what is known about one directory.
type DirectoryState struct {
	Name     string     `json:"name"`
	Dialect  string     `json:"dialect"`
	Base     string     `json:"base"`
	Entries  int        `json:"entries"`
	LastRead *time.Time `json:"lastRead,omitempty"`
	Agents   int        `json:"agents" doc:"Agents online that serve it"`
	Missed   int        `json:"missed,omitempty" doc:"Changes that it had not told, as was found in the last week"`
}

// Event tells that something changed; what it is, is read from its own route.
type Event struct {
	Kind string `json:"kind" enum:"run,settings,draft,agent,order,repair"`
	ID   int64  `json:"id,omitempty"`
}
