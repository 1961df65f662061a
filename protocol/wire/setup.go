package wire

import (
	"time"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/filter"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/core/survey"
	"kambrel.example/kambrel/protocol/orders"
)

// Draft is the draft of the settings; without one it shows what a new draft
// would begin with, and Version is 0.
type Draft struct {
	Version     int                   `json:"version" doc:"0 when there is no draft; give it back when saving"`
	Base        int                   `json:"base" doc:"The revision it was made from, 0 for none"`
	Document    settings.Document     `json:"document"`
	YAML        string                `json:"yaml"`
	By          string                `json:"by,omitempty"`
	Changed     *time.Time            `json:"changed,omitempty"`
	Faults      []problem.Fault       `json:"faults" doc:"What keeps it from being activated"`
	Warnings    []string              `json:"warnings" doc:"What it asks of directories that nobody has there"`
	Differences []settings.Difference `json:"differences" doc:"Against the active revision"`
	Active      int                   `json:"active" doc:"The active revision, 0 for none"`
	Impact      *Run                  `json:"impact,omitempty" doc:"The newest rehearsal of this version"`
	Notes       []string              `json:"notes,omitempty" doc:"What of the file that was saved is called otherwise now, and was read as that"`
}

// SaveDraft saves the draft: a document, or the same as YAML.
type SaveDraft struct {
	Version  int                `json:"version" minimum:"0" doc:"The version that was edited; 0 for none"`
	Document *settings.Document `json:"document,omitempty"`
	YAML     string             `json:"yaml,omitempty" maxLength:"1000000"`
}

// ActivateDraft activates the draft.
type ActivateDraft struct {
	Version int    `json:"version" minimum:"1" doc:"The version that was looked at"`
	Note    string `json:"note,omitempty" maxLength:"500"`
	// Although activates it also where an expectation does not hold.
	Although bool `json:"although,omitempty" doc:"Also where an expectation does not hold"`
}

// Expectations are what settings expect of entries, and what they would do to them.
type Expectations struct {
	Items   []Expected `json:"items"`
	Holding int        `json:"holding"`
	Failing int        `json:"failing"`
	NotRead []string   `json:"notRead" doc:"Attributes that the settings need and that were not read yet, each after its directory"`
}

// Expected is one expectation, and what came of it.
type Expected struct {
	Expectation settings.Expectation `json:"expectation"`
	Said        string               `json:"said" doc:"The expectation in words"`
	Holds       bool                 `json:"holds"`
	EntryID     string               `json:"entryId,omitempty"`
	Directory   string               `json:"directory,omitempty"`
	DN          string               `json:"dn,omitempty"`
	Unmet       []Unmet              `json:"unmet,omitempty" doc:"What does not hold"`
	Why         string               `json:"why,omitempty" doc:"What would be done, and why"`
}

// Unmet is one thing that was expected and does not hold.
type Unmet struct {
	What     string `json:"what"`
	Expected string `json:"expected"`
	Got      string `json:"got"`
	Why      string `json:"why,omitempty" doc:"Where the value came from"`
}

// NewExpectation adds to the draft that an entry stays as it is.
type NewExpectation struct {
	Version int      `json:"version" minimum:"-1" doc:"The version of the draft that was edited; 0 for none, -1 for whichever is there"`
	Entry   string   `json:"entry" maxLength:"1000" doc:"An id, a distinguished name, a login or an address"`
	Values  []string `json:"values,omitempty" maxItems:"100" doc:"Attributes of the resource whose values stay too"`
	Note    string   `json:"note,omitempty" maxLength:"500" doc:"Why it must hold"`
}

// RevisionLine is one line of the history.
type RevisionLine struct {
	Revision  int       `json:"revision"`
	By        string    `json:"by"`
	Activated time.Time `json:"activated"`
	Note      string    `json:"note,omitempty"`
}

// Comparison is the difference of two documents.
type Comparison struct {
	From        string                `json:"from" doc:"A revision, or draft"`
	To          string                `json:"to" doc:"A revision, or draft"`
	Differences []settings.Difference `json:"differences"`
}

// Checked is the result of checking a settings file.
type Checked struct {
	Faults []problem.Fault `json:"faults"`
	// Warnings are what can be meant, and seldom is.
	Warnings []string `json:"warnings" doc:"What the settings ask of directories that nobody has there"`
	Offline  bool     `json:"offline,omitempty" doc:"Checked by the file alone, without what the service knows of cloud and directories"`
	Notes    []string `json:"notes,omitempty" doc:"What of the file is called otherwise now, and was read as that"`
}

// NewDirectory adds a directory to the draft.
type NewDirectory struct {
	Name     string          `json:"name" maxLength:"63" doc:"Small letters, digits and hyphens; the same name as in the agent's configuration"`
	Dialect  entry.Dialect   `json:"dialect" enum:"ad,standard,389ds"`
	Base     string          `json:"base" maxLength:"1000" doc:"Distinguished name"`
	Include  []string        `json:"include,omitempty" doc:"Containers that take part; they can be chosen later"`
	Exclude  []string        `json:"exclude,omitempty"`
	Features []entry.Feature `json:"features,omitempty" enum:"repair,reset-passwords,change-passwords,unlock,password-digests,cloud-groups"`
}

// ConnectedDirectory is one directory with all that is known about it.
type ConnectedDirectory struct {
	Name     string          `json:"name"`
	Dialect  entry.Dialect   `json:"dialect"`
	Base     string          `json:"base"`
	Features []entry.Feature `json:"features"`
	Active   bool            `json:"active" doc:"Whether it is in the active settings"`
	InDraft  bool            `json:"inDraft"`
	Agents   []Agent         `json:"agents"`
	Plain    bool            `json:"plain" doc:"An agent reaches it by plain LDAP"`
	LastRead *time.Time      `json:"lastRead,omitempty"`
	Entries  int             `json:"entries" doc:"Entries in the mirror"`
	Links    int             `json:"links"`
	Probe    *Probe          `json:"probe,omitempty" doc:"The last one"`
}

// Probe is the result of a probe.
type Probe struct {
	At       time.Time        `json:"at"`
	Outcome  string           `json:"outcome" enum:"good,doubtful,bad"`
	Agent    string           `json:"agent,omitempty" doc:"Who probed"`
	Verdicts []orders.Verdict `json:"verdicts"`
}

// Rights is the text of rights for the owner of a directory.
type Rights struct {
	Text string `json:"text"`
}

// RemoveDirectory takes a directory away.
type RemoveDirectory struct {
	Confirm string `json:"confirm" doc:"The directory's name, typed"`
}

// RemovalPreview tells what would go with a directory.
type RemovalPreview struct {
	Name    string    `json:"name"`
	Active  bool      `json:"active" doc:"Whether it is in the active settings; otherwise it only leaves the draft"`
	Entries int       `json:"entries"`
	Links   int       `json:"links"`
	Working int       `json:"working" doc:"Linked accounts that can sign in; they stay as they are"`
	Until   time.Time `json:"until" doc:"Until when it could be brought back"`
	Text    string    `json:"text"`
}

// Removal is a directory that was taken away and can be brought back.
type Removal struct {
	ID      int64     `json:"id"`
	Name    string    `json:"name"`
	By      string    `json:"by"`
	Removed time.Time `json:"removed"`
	Until   time.Time `json:"until"`
	Links   int       `json:"links"`
}

// BroughtBack is what came back with a directory.
type BroughtBack struct {
	Name     string `json:"name"`
	Links    int    `json:"links"`
	Lost     int    `json:"lost" doc:"Links whose resource or entry has another link by now"`
	Revision int    `json:"revision"`
}

// KindCounts is how many entries of each kind there are.
type KindCounts struct {
	Users    int `json:"users"`
	Groups   int `json:"groups"`
	Contacts int `json:"contacts"`
}

// Container is one node of a directory's tree.
type Container struct {
	DN     string     `json:"dn"`
	Name   string     `json:"name"`
	Parent int        `json:"parent" doc:"Place of the parent in the list, -1 for the root"`
	Mark   string     `json:"mark,omitempty" enum:"include,exclude" doc:"Its own mark"`
	State  string     `json:"state,omitempty" enum:"include,exclude" doc:"The mark that holds for it: the nearest on the way up; none keeps it out"`
	Mixed  bool       `json:"mixed,omitempty" doc:"Something below it is decided otherwise"`
	Here   KindCounts `json:"here" doc:"Entries directly in it"`
	Below  KindCounts `json:"below" doc:"Entries in it and below it"`
}

// Vanished is a container or group that settings name and the directory does
// not have.
type Vanished struct {
	Directory string `json:"directory"`
	DN        string `json:"dn"`
	Now       string `json:"now,omitempty" doc:"What it is called now"`
	Deleted   bool   `json:"deleted,omitempty"`
	Text      string `json:"text"`
}

// ContainerTree is the tree of a directory, parents first.
type ContainerTree struct {
	Directory string      `json:"directory"`
	Read      *time.Time  `json:"read,omitempty" doc:"When the mirror was read last; without, there is nothing to show yet"`
	Nodes     []Container `json:"nodes"`
	Vanished  []Vanished  `json:"vanished"`
}

// ScopePreview asks who would take part.
type ScopePreview struct {
	Document *settings.Document `json:"document,omitempty" doc:"Without one, the draft, or the active settings where there is none"`
	Samples  int                `json:"samples,omitempty" minimum:"0" maximum:"200" doc:"How many to show of each verdict"`
	Text     string             `json:"text,omitempty" maxLength:"200" doc:"Show only samples whose name holds this"`
	LookAt   int                `json:"lookAt,omitempty" minimum:"0" maximum:"100000" doc:"Of a kind of which there are many more, look at about so many and estimate; without it all are counted"`
	Page     string             `json:"page,omitempty" maxLength:"64" doc:"A name for where it is asked for: a later preview of the same place ends this one, which then answers 409"`
}

// ScopeCounts is who would take part.
type ScopeCounts struct {
	Kinds    []KindScope `json:"kinds"`
	Missing  []string    `json:"missing" doc:"Attributes that filters ask about and that the mirror does not hold yet: read the directories first"`
	Vanished []Vanished  `json:"vanished"`
}

// KindScope is who of one kind would take part.
type KindScope struct {
	Kind     string         `json:"kind" enum:"user,group,contact"`
	Off      bool           `json:"off"`
	Total    int            `json:"total"`
	In       int            `json:"in"`
	LookedAt int            `json:"lookedAt,omitempty" doc:"How many were looked at, where the counts are estimated from them; not set where all were counted"`
	Verdicts []VerdictCount `json:"verdicts"`
}

// VerdictCount is how many have a verdict, with samples.
type VerdictCount struct {
	Code    string   `json:"code" doc:"included, no-mark, excluded-container, filtered, not-a-member, kind-off, cloud-owned or put-back"`
	Title   string   `json:"title"`
	Count   int      `json:"count"`
	Samples []Sample `json:"samples"`
}

// Sample is one entry with its verdict.
type Sample struct {
	Directory string `json:"directory"`
	EntryID   string `json:"entryId"`
	Name      string `json:"name"`
	DN        string `json:"dn"`
	Summary   string `json:"summary"`
}

// CheckFilter asks whether a text is a filter.
type CheckFilter struct {
	Text string `json:"text" maxLength:"20000"`
}

// CheckedFilter is a filter as a tree, or what is wrong with it.
type CheckedFilter struct {
	Tree  *filter.TreeNode `json:"tree,omitempty"`
	Fault *problem.Fault   `json:"fault,omitempty"`
}

// CloudView is what is known of the cloud.
type CloudView struct {
	URL          string       `json:"url"`
	LastRead     *time.Time   `json:"lastRead,omitempty"`
	Capabilities []Capability `json:"capabilities"`
	Types        []CloudType  `json:"types"`
	Targets      []Target     `json:"targets" doc:"Attributes of users that rules can set"`
	Domains      []string     `json:"domains" doc:"Verified login domains"`
	DomainsFrom  string       `json:"domainsFrom" enum:"cloud,settings,unknown"`
	Forms        []CloudForm  `json:"forms" doc:"Values that the cloud writes its own way, and that are not sent again"`
}

// CloudConnection is how the cloud is reached.
type CloudConnection struct {
	URL   string     `json:"url" doc:"None where no cloud is connected yet"`
	SetBy string     `json:"setBy,omitempty" doc:"Who has said that it is there; none where the service's configuration says so"`
	SetAt *time.Time `json:"setAt,omitempty"`
}

// CloudReach is where a cloud is, and the token for it.
type CloudReach struct {
	URL   string `json:"url" minLength:"1" maxLength:"500" doc:"Base URL of the cloud's SCIM 2.0 service"`
	Token string `json:"token" minLength:"1" maxLength:"8192" doc:"It is kept sealed by a key of the service's host, and shown to nobody" writeOnly:"true"`
}

// CloudTried is how a cloud would be reached.
type CloudTried struct {
	URL      string           `json:"url"`
	Verdicts []orders.Verdict `json:"verdicts"`
	Answers  bool             `json:"answers" doc:"Nothing of it is bad"`
	Linked   int              `json:"linked" doc:"How many resources that entries are linked to it was asked for"`
	Known    int              `json:"known" doc:"How many of them it knows"`
	Same     bool             `json:"same" doc:"It is the cloud that the records are of, or nothing is linked yet"`
}

// CloudForm is a target at which the cloud writes values its own way, with an example.
type CloudForm struct {
	Kind   string `json:"kind" enum:"user,group,contact"`
	Target string `json:"target"`
	Count  int    `json:"count" doc:"How many resources"`
	Sent   string `json:"sent"`
	Kept   string `json:"kept"`
}

// ForgottenForms is how many values are sent again.
type ForgottenForms struct {
	Count int `json:"count"`
}

// Capability is one line of the table of what the cloud can do.
type Capability struct {
	Name    string `json:"name"`
	Has     bool   `json:"has"`
	Detail  string `json:"detail"`
	Meaning string `json:"meaning" doc:"What it means for runs"`
}

// CloudType is one kind of resource that the cloud has.
type CloudType struct {
	Name     string   `json:"name"`
	Endpoint string   `json:"endpoint"`
	Schemas  []string `json:"schemas"`
}

// Target is one attribute that a rule can set.
type Target struct {
	Kind        string `json:"kind" enum:"user,group,contact"`
	Path        string `json:"path"`
	Type        string `json:"type"`
	Description string `json:"description"`
	MultiValued bool   `json:"multiValued"`
	Required    bool   `json:"required"`
	Unique      bool   `json:"unique"`
	ReadOnly    bool   `json:"readOnly"`
}

// Survey is a survey with its findings by kind.
type Survey struct {
	Run     Run             `json:"run"`
	Groups  []FindingGroup  `json:"groups"`
	Domains []survey.Domain `json:"domains" doc:"Login suffixes in use"`
}

// FindingGroup is how many findings of a kind there are.
type FindingGroup struct {
	Code       string `json:"code"`
	Title      string `json:"title"`
	Cause      string `json:"cause"`
	Remedy     string `json:"remedy"`
	Count      int    `json:"count"`
	Repairable int    `json:"repairable" doc:"Those with a proposal"`
}

// Finding is one thing that a survey found.
type Finding struct {
	Number    int    `json:"number"`
	Code      string `json:"code"`
	Kind      string `json:"kind"`
	Directory string `json:"directory"`
	EntryID   string `json:"entryId"`
	DN        string `json:"dn"`
	Name      string `json:"name"`
	Attribute string `json:"attribute"`
	Value     string `json:"value"`
	Detail    string `json:"detail"`
	Action    string `json:"action" enum:"set,remove,none"`
	Proposal  string `json:"proposal"`
}

// NewSurvey asks for a survey.
type NewSurvey struct {
	Draft bool `json:"draft,omitempty" doc:"By the draft instead of the active settings"`
}

// ChooseRepairs makes repairs of findings without writing anything.
type ChooseRepairs struct {
	Numbers []int           `json:"numbers,omitempty" doc:"These findings"`
	Code    string          `json:"code,omitempty" doc:"All findings of this kind"`
	Pattern *survey.Pattern `json:"pattern,omitempty" doc:"New values by a pattern instead of the proposals"`
	CSV     string          `json:"csv,omitempty" maxLength:"20000000" doc:"The survey's CSV with edited values instead"`
}

// ChosenRepairs are repairs to look at.
type ChosenRepairs struct {
	Items []RepairItem `json:"items"`
	Left  int          `json:"left" doc:"Chosen findings for which there is no new value"`
}

// NewRepair writes values.
type NewRepair struct {
	Items []RepairItem `json:"items" minItems:"1" maxItems:"10000"`
}

// RepairItem is one value of one entry.
type RepairItem struct {
	Number    int    `json:"number,omitempty"`
	Directory string `json:"directory"`
	EntryID   string `json:"entryId" format:"uuid"`
	DN        string `json:"dn,omitempty"`
	Name      string `json:"name,omitempty"`
	Attribute string `json:"attribute"`
	Before    string `json:"before" doc:"The value that is replaced; nothing where there is none"`
	After     string `json:"after" doc:"The new value; nothing takes the old one away"`
	State     string `json:"state,omitempty" enum:"waiting,done,failed"`
	Code      string `json:"code,omitempty"`
	Answer    string `json:"answer,omitempty" doc:"What the directory said"`
}

// Repair is a set of values that was written.
type Repair struct {
	ID      int64        `json:"id"`
	Created time.Time    `json:"created"`
	By      string       `json:"by"`
	Undoes  int64        `json:"undoes,omitempty"`
	State   string       `json:"state" enum:"running,done,problems"`
	Done    int          `json:"done"`
	Failed  int          `json:"failed"`
	Waiting int          `json:"waiting"`
	Items   []RepairItem `json:"items,omitempty"`
}

// AcceptAbsence names an attribute that was taken from everybody.
type AcceptAbsence struct {
	Attribute string `json:"attribute" minLength:"1" maxLength:"200"`
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
	// Although activates it also where an expectation does not hold.
	Although bool `json:"although,omitempty" doc:"Also where an expectation does not hold"`
}
