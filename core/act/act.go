// Package act is the catalogue of what an operator can do that changes something.
// Each act is noted in the transaction of what it does: who, about what, and how it
// was before and after, as data.
package act

import (
	"slices"

	"kambrel.example/kambrel/core/about"
)

// Kind names one kind of act for good.
type Kind string

// The kinds.
const (
	Link            Kind = "link"
	Merge           Kind = "merge"
	Unlink          Kind = "unlink"
	Create          Kind = "create"
	Rematch         Kind = "rematch"
	TakeOver        Kind = "take-over"
	Swap            Kind = "swap"
	KeepLeaver      Kind = "keep-leaver"
	ReturnLeaver    Kind = "return-leaver"
	DeleteResource  Kind = "delete-resource"
	SyncOne         Kind = "sync-one"
	StartRun        Kind = "start-run"
	CancelRun       Kind = "cancel-run"
	Release         Kind = "release-removals"
	Discard         Kind = "discard-held"
	EndKept         Kind = "end-kept"
	Activate        Kind = "activate-settings"
	DiscardDraft    Kind = "discard-draft"
	RemoveDirectory Kind = "remove-directory"
	BringBack       Kind = "bring-directory-back"
	RepairValue     Kind = "repair-value"
	AcceptAbsence   Kind = "accept-absence"
	ForgetForms     Kind = "forget-forms"
	ConnectCloud    Kind = "connect-cloud"
	SetProvider     Kind = "set-identity-provider"
	RemoveProvider  Kind = "remove-identity-provider"
	RenewProvider   Kind = "renew-identity-provider"
	SetClaims       Kind = "set-claims"
	TestSignIn      Kind = "test-sign-in"
	SwitchSignIn    Kind = "switch-sign-in"
	IssueCode       Kind = "issue-enrolment-code"
	Enrol           Kind = "enrol-agent"
	Grant           Kind = "grant-directories"
	Retire          Kind = "retire-agent"
	AddRelease      Kind = "add-agent-release"
	RemoveRelease   Kind = "remove-agent-release"
	UpdateAgent     Kind = "update-agent"
	KeepAgent       Kind = "keep-agent-version"
	AgentUpdated    Kind = "agent-updated"
	SignIn          Kind = "sign-in"
	SignOut         Kind = "sign-out-everywhere"
	ChangePassword  Kind = "change-password"
	AddOperator     Kind = "add-operator"
	RemoveOperator  Kind = "remove-operator"
	SetPassword     Kind = "set-password"
	SetRole         Kind = "set-role"
	EndSession      Kind = "end-session"

	AddOperatorGroup    Kind = "add-operator-group"
	RemoveOperatorGroup Kind = "remove-operator-group"
	AddFactor           Kind = "add-second-factor"
	RemoveFactor        Kind = "remove-second-factor"

	MakeToken      Kind = "make-token"
	EndToken       Kind = "end-token"
	PauseDigests   Kind = "pause-digests"
	ResumeDigests  Kind = "resume-digests"
	TryGroup       Kind = "try-cloud-group"
	HandOver       Kind = "hand-over-group"
	DecideAgain    Kind = "decide-group-again"
	MarkProblem    Kind = "mark-problem"
	UndoRun        Kind = "undo-run"
	TestNotice     Kind = "test-notices"
	SendReport     Kind = "send-report"
	LiftPins       Kind = "lift-pins"
	Pause          Kind = "pause"
	Resume         Kind = "resume"
	RestoreRecords Kind = "restore-records"
	MakeBackup     Kind = "make-backup"
)

// Description is what the catalogue says of a kind.
type Description struct {
	Kind  Kind       `json:"kind"`
	Title string     `json:"title"`
	About about.Type `json:"about" doc:"What it is done to"`
	// Undo is the act that takes it back, "" where nothing does.
	Undo Kind `json:"undo,omitempty" doc:"The act that takes it back"`
}

var catalogue = []Description{
	{Link, "Linked an entry to a resource", about.Entry, Unlink},
	{Merge, "Merged a double into the resource that is kept", about.Entry, ""},
	{Unlink, "Unlinked an entry from its resource", about.Entry, Link},
	{Create, "Let a resource be made although somebody looks alike", about.Entry, Rematch},
	{Rematch, "Let the match rules decide again", about.Entry, ""},
	{TakeOver, "Linked an entry to a resource of another", about.Entry, Unlink},
	{Swap, "Exchanged the resources of two entries", about.Entry, Swap},
	{KeepLeaver, "Kept a leaver's resource from its deletion", about.Entry, LiftPins},
	{ReturnLeaver, "Let a leaver take part again", about.Entry, LiftPins},
	{DeleteResource, "Deleted a resource from the cloud", about.Entry, ""},
	{SyncOne, "Synced one entry", about.Entry, ""},
	{StartRun, "Started a run", about.Run, ""},
	{CancelRun, "Cancelled a run", about.Run, ""},
	{Release, "Let through what was held", about.Run, ""},
	{Discard, "Discarded what was held", about.Run, EndKept},
	{EndKept, "Let what was kept be decided again", about.Entry, ""},
	{Activate, "Activated settings", about.Settings, Activate},
	{DiscardDraft, "Discarded the draft", about.Settings, ""},
	{RemoveDirectory, "Took a directory away", about.Directory, BringBack},
	{BringBack, "Brought a directory back", about.Directory, RemoveDirectory},
	{RepairValue, "Wrote a value to a directory", about.Entry, RepairValue},
	{AcceptAbsence, "Said that an attribute is gone from a directory", about.Directory, ""},
	{ForgetForms, "Let values be sent again that the cloud writes its own way", about.Cloud, ""},
	{ConnectCloud, "Said where the cloud is, or gave another token for it", about.Cloud, ""},
	{SetProvider, "Took an identity provider's metadata", about.Domain, RemoveProvider},
	{RemoveProvider, "Forgot an identity provider", about.Domain, SetProvider},
	{RenewProvider, "Made the next key of Kambrel's own identity provider", about.Service, ""},
	{SetClaims, "Said what assertions say of people", about.Domain, SetClaims},
	{TestSignIn, "Tried a sign-in at an identity provider", about.Domain, ""},
	{SwitchSignIn, "Switched how people of a domain sign in", about.Domain, SwitchSignIn},
	{IssueCode, "Issued an enrolment code", about.Agent, ""},
	{Enrol, "Enrolled as an agent", about.Agent, Retire},
	{Grant, "Granted directories to an agent", about.Agent, Grant},
	{Retire, "Retired an agent", about.Agent, ""},
	{AddRelease, "Added a version of the agent", about.Service, RemoveRelease},
	{RemoveRelease, "Removed a version of the agent", about.Service, ""},
	{UpdateAgent, "Wants an agent to go on by another version", about.Agent, KeepAgent},
	{KeepAgent, "Wants an agent to stay at its version", about.Agent, UpdateAgent},
	{AgentUpdated, "Went on by another version, or did not", about.Agent, ""},
	{SignIn, "Signed in", about.Operator, ""},
	{SignOut, "Signed out everywhere", about.Operator, ""},
	{ChangePassword, "Changed the own password", about.Operator, ""},
	{AddOperator, "Added an operator", about.Operator, RemoveOperator},
	{RemoveOperator, "Removed an operator", about.Operator, ""},
	{SetPassword, "Set an operator's password", about.Operator, ""},
	{SetRole, "Gave an operator another role", about.Operator, SetRole},
	{EndSession, "Ended a session", about.Operator, ""},
	{AddOperatorGroup, "Let the members of a group sign in", about.Entry, RemoveOperatorGroup},
	{RemoveOperatorGroup, "Let the members of a group sign in no more", about.Entry, AddOperatorGroup},
	{AddFactor, "Asks for a second factor at the own sign-in", about.Operator, RemoveFactor},
	{RemoveFactor, "Took an operator's second factor away", about.Operator, ""},
	{MakeToken, "Made a token", about.Token, EndToken},
	{EndToken, "Ended a token", about.Token, ""},
	{PauseDigests, "Paused the digests of a directory's passwords", about.Directory, ResumeDigests},
	{TryGroup, "Wrote a group of the cloud for a trial", about.CloudGroup, ""},
	{HandOver, "Handed a group over to the cloud, or to a directory", about.CloudGroup, HandOver},
	{DecideAgain, "Let what was kept of a group be decided again", about.CloudGroup, ""},
	{TestNotice, "Sent a notice for a trial", about.Service, ""},
	{SendReport, "Mailed a report", about.Service, ""},
	{UndoRun, "Put back what a run has done", about.Run, LiftPins},
	{LiftPins, "Let what was put back be decided again", about.Run, ""},
	{Pause, "Paused the work, or a part of it", about.Service, Resume},
	{Resume, "Let paused work go on", about.Service, Pause},
	{MakeBackup, "Made a backup", about.Service, ""},
	{RestoreRecords, "Brought the records of a backup back", about.Service, ""},
	{MarkProblem, "Said who looks after a problem, noted it, or put it to sleep", about.Entry, MarkProblem},
	{ResumeDigests, "Let digests of a directory's passwords be made again", about.Directory, PauseDigests},
}

// Catalogue lists every kind.
func Catalogue() []Description { return slices.Clone(catalogue) }

// Describe returns the catalogue's line for a kind; of one that it does not have,
// as an older version may have kept, only the kind.
func Describe(kind Kind) Description {
	for _, d := range catalogue {
		if d.Kind == kind {
			return d
		}
	}
	return Description{Kind: kind, Title: string(kind)}
}

// Result is what came of an act.
type Result string

// The results.
const (
	Done    Result = "done"
	Refused Result = "refused"
	Failed  Result = "failed"
)

// Act is one act of somebody.
type Act struct {
	Kind  Kind
	By    string
	About about.Thing
	// Before and After are what was changed, of types that JSON can hold; never a
	// secret. Nil says that there was nothing.
	Before, After any
	Result        Result // Done when empty
	Note          string // what more there is to say to people
}
