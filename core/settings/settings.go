// Package settings holds the settings document: its form, its defaults, and
// its validation, which reports all faults at once, each with its path. It
// knows nothing of where documents are kept.
package settings

import (
	"cmp"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"kambrel.example/kambrel/core/entry"
)

// Document is the whole configuration of a sync.
type Document struct {
	Directories []Directory `json:"directories" yaml:"directories"`
	Users       Taking      `json:"users" yaml:"users"`
	Groups      Taking      `json:"groups,omitzero" yaml:"groups,omitempty"`
	Contacts    Taking      `json:"contacts,omitzero" yaml:"contacts,omitempty"`
	Cloud       Cloud       `json:"cloud,omitzero" yaml:"cloud,omitempty"`
	Passwords   Passwords   `json:"passwords,omitzero" yaml:"passwords,omitempty"`
	Guard       Guard       `json:"guard" yaml:"guard"`
	Schedule    Schedule    `json:"schedule" yaml:"schedule"`
	History     History     `json:"history,omitzero" yaml:"history,omitempty"`
	Notices     Notices     `json:"notices,omitzero" yaml:"notices,omitempty"`
	// Expect is what must hold before other settings become active.
	Expect []Expectation `json:"expect,omitempty" yaml:"expect,omitempty"`
}

// History says for how long it is remembered how things were: runs and their changes,
// problems that were closed, and each version of entries, resources and links.
type History struct {
	Days int `json:"days" yaml:"days"`
}

// The days for which things are remembered, unless the settings say otherwise, and the
// least and the most.
const (
	HistoryDays      = 90
	LeastHistoryDays = 7
	MostHistoryDays  = 3660
)

// Keep is for how long things are remembered.
func (h History) Keep() time.Duration {
	days := h.Days
	if days == 0 {
		days = HistoryDays
	}
	return time.Duration(days) * 24 * time.Hour
}

// Directory is one on-premises directory and which of its containers take part.
// How to reach it is in the agent's configuration, under the same name.
type Directory struct {
	Name       string        `json:"name" yaml:"name"`
	Dialect    entry.Dialect `json:"dialect" yaml:"dialect"`
	Base       string        `json:"base" yaml:"base"`
	Containers Containers    `json:"containers" yaml:"containers"`
	// Features are what Kambrel may do in the directory beyond reading.
	Features []entry.Feature `json:"features,omitempty" yaml:"features,omitempty"`
	// CloudGroups are the groups of the cloud that are kept in it; it counts where the
	// features switch that on.
	CloudGroups *CloudGroups `json:"cloudGroups,omitempty" yaml:"cloudGroups,omitempty"`
}

// Selection says which entries of a kind take part, within the containers. All
// of it must hold at once.
type Selection struct {
	// Off keeps the whole kind out.
	Off    bool   `json:"off,omitempty" yaml:"off,omitempty"`
	Filter string `json:"filter,omitempty" yaml:"filter,omitempty"`
	// MembersOf, when it names groups, lets only their members in.
	MembersOf GroupLimit `json:"membersOf,omitzero" yaml:"membersOf,omitempty"`
}

// GroupLimit names groups by distinguished name.
type GroupLimit struct {
	Groups []string `json:"groups" yaml:"groups"`
	// Nested lets members of groups within the groups in, too.
	Nested bool `json:"nested,omitempty" yaml:"nested,omitempty"`
}

// Cloud is what the cloud's own discovery may not tell.
type Cloud struct {
	// Domains are the login suffixes that the cloud has verified; needed only
	// where it does not list them itself.
	Domains []string `json:"domains,omitempty" yaml:"domains,omitempty"`
	// RequestsPerMinute is how many requests the cloud is sent at most; 0 for what it is
	// learned to take.
	RequestsPerMinute int `json:"requestsPerMinute,omitempty" yaml:"requestsPerMinute,omitempty" doc:"The most requests a minute; 0 for what the cloud is learned to take"`
	// Habits is what it does otherwise than it says.
	Habits CloudHabits `json:"habits,omitzero" yaml:"habits,omitempty" doc:"What the cloud does otherwise than it says of itself"`
}

// Containers marks parts of the tree; the nearest mark on the way up decides,
// and what lies below no mark is out.
type Containers struct {
	Include []string `json:"include" yaml:"include"`
	Exclude []string `json:"exclude,omitempty" yaml:"exclude,omitempty"`
}

// Taking says which entries of a kind take part and what they become. A kind
// without rules is counted and surveyed, but not written to the cloud.
type Taking struct {
	Off       bool       `json:"off,omitempty" yaml:"off,omitempty"`
	Filter    string     `json:"filter,omitempty" yaml:"filter,omitempty"`
	MembersOf GroupLimit `json:"membersOf,omitzero" yaml:"membersOf,omitempty"`
	// Person says which entries of several directories are one person.
	Person []PersonRule `json:"person,omitempty" yaml:"person,omitempty"`
	// CarriedID is a directory attribute that holds the id that the person's
	// entry had in another directory, so that the resource stays on a move.
	CarriedID string      `json:"carriedId,omitempty" yaml:"carriedId,omitempty"`
	Match     []MatchRule `json:"match,omitempty" yaml:"match,omitempty"`
	Rules     []Rule      `json:"rules,omitempty" yaml:"rules,omitempty"`
	Leavers   Policy      `json:"leavers,omitempty" yaml:"leavers,omitempty"`
	// Grace is how long resources of leavers stay before the policy delete takes
	// them away, a duration such as 720h.
	Grace string `json:"grace,omitempty" yaml:"grace,omitempty"`
}

// DefaultGrace is the grace time where the settings name none.
const DefaultGrace = 30 * 24 * time.Hour

// GraceTime returns how long resources of leavers stay. The document must be valid.
func (t Taking) GraceTime() time.Duration {
	if grace, err := time.ParseDuration(t.Grace); err == nil {
		return grace
	}
	return DefaultGrace
}

// Of returns what the document says about a kind, nil for containers.
func (d *Document) Of(kind entry.Kind) *Taking {
	switch kind {
	case entry.User:
		return &d.Users
	case entry.Group:
		return &d.Groups
	case entry.Contact:
		return &d.Contacts
	}
	return nil
}

// Selection returns which entries of a kind take part.
func (d *Document) Selection(kind entry.Kind) Selection {
	if t := d.Of(kind); t != nil {
		return Selection{t.Off, t.Filter, t.MembersOf}
	}
	return Selection{Off: true}
}

// SetSelection says which entries of a kind take part.
func (d *Document) SetSelection(kind entry.Kind, s Selection) {
	if t := d.Of(kind); t != nil {
		t.Off, t.Filter, t.MembersOf = s.Off, s.Filter, s.MembersOf
	}
}

// MatchRule finds a resource that is already in the cloud for an entry that
// has no link: the values of the entry's attribute From, or without From what
// the rules give for Resource, are looked up in the resource attribute Resource.
type MatchRule struct {
	Name     string `json:"name" yaml:"name"`
	From     string `json:"from,omitempty" yaml:"from,omitempty"`
	Resource string `json:"resource" yaml:"resource"`
}

// PersonRule makes entries one person that give the same text, without regard to
// case; exactly one of From and Formula is set.
type PersonRule struct {
	Name    string `json:"name" yaml:"name"`
	From    string `json:"from,omitempty" yaml:"from,omitempty"`
	Formula string `json:"formula,omitempty" yaml:"formula,omitempty"`
}

// HasPersons tells whether entries of this kind may be one with others.
func (t Taking) HasPersons() bool { return len(t.Person) > 0 || t.CarriedID != "" }

// Rule says how one resource attribute gets its value; exactly one of From,
// Always, Formula, Reference and Granted is set.
type Rule struct {
	Target  string `json:"target" yaml:"target"`
	From    string `json:"from,omitempty" yaml:"from,omitempty"`
	Always  any    `json:"always,omitempty" yaml:"always,omitempty"`
	Formula string `json:"formula,omitempty" yaml:"formula,omitempty"`
	// Reference is a directory attribute that holds distinguished names; the
	// value is the id of the resource that the named entry is linked to.
	Reference string `json:"reference,omitempty" yaml:"reference,omitempty"`
	// Granted gives values to the members of groups, and takes them away when
	// the membership ends. Other values of the attribute are left alone.
	Granted []Grant `json:"granted,omitempty" yaml:"granted,omitempty"`
	// When is a formula that must be true; else the rule gives no value.
	When string `json:"when,omitempty" yaml:"when,omitempty"`
	// Fallback is a formula for the value where the rule gives none.
	Fallback string `json:"fallback,omitempty" yaml:"fallback,omitempty"`
	// CreateOnly leaves the value alone once the resource exists.
	CreateOnly bool `json:"createOnly,omitempty" yaml:"createOnly,omitempty"`
	Required   bool `json:"required,omitempty" yaml:"required,omitempty"`
	// Prefer names directories whose value counts before that of others where
	// one person has entries in several; the rest follow in the order of the
	// settings.
	Prefer []string `json:"prefer,omitempty" yaml:"prefer,omitempty"`
}

// Grant gives a value of a multi-valued attribute, such as a role, an
// entitlement or a licence, to the members of a group, also through groups
// within it.
type Grant struct {
	Group string `json:"group" yaml:"group"`
	Value string `json:"value" yaml:"value"`
}

// Policy is what happens to a resource whose entry is gone or out of scope.
type Policy string

// The leaver policies.
const (
	Suspend Policy = "suspend"
	Keep    Policy = "keep"
	Delete  Policy = "delete" // after the grace time; until then people are suspended
)

// Guard limits what one run may take away. Removals (suspensions and deletions) are
// held when they are more than Removals and also more than Share percent of what is
// linked; the others by limits of their own, of which one that is not given is that of
// DefaultGuard.
type Guard struct {
	Removals int `json:"removals" yaml:"removals"` // 0: the share alone counts
	Share    int `json:"share" yaml:"share"`       // percent, 0 to 100; 0: the number alone counts

	// Within is how long what went counts together with what would go: changes come in
	// live, and what a script takes away one by one is as much as all of it at once.
	Within string `json:"within,omitempty" yaml:"within,omitempty" doc:"How long what went counts together with what would go, as 1h; 0s: each run by itself"`

	// Members are those that groups lose who are still there, of all members of groups
	// in the cloud; Group is the same of each group by itself.
	Members *Limit `json:"members,omitempty" yaml:"members,omitempty"`
	Group   *Limit `json:"group,omitempty" yaml:"group,omitempty"`
	// Values are people, groups or contacts of which one attribute is emptied or switched
	// off, Access those of whom one loses roles or entitlements, and Logins those whose
	// login changes: for each attribute, of all linked ones of the kind.
	Values *Limit `json:"values,omitempty" yaml:"values,omitempty"`
	Access *Limit `json:"access,omitempty" yaml:"access,omitempty"`
	Logins *Limit `json:"logins,omitempty" yaml:"logins,omitempty"`
}

// Limit is passed by more than the number and more than the share, both.
type Limit struct {
	Number int `json:"number" yaml:"number" doc:"0: the share alone counts"`
	Share  int `json:"share" yaml:"share" doc:"Percent, 0 to 100; 0: the number alone counts"`
}

// DefaultGuard is the guard that new settings have.
func DefaultGuard() Guard {
	return Guard{Removals: 20, Share: 5, Within: "1h", Members: &Limit{100, 10}, Group: &Limit{10, 50}, Values: &Limit{20, 5}, Access: &Limit{20, 5}, Logins: &Limit{20, 5}}
}

// Whole is the guard with the limits that it does not give.
func (g Guard) Whole() Guard {
	standing := DefaultGuard()
	for _, limit := range []struct{ of, otherwise **Limit }{
		{&g.Members, &standing.Members}, {&g.Group, &standing.Group}, {&g.Values, &standing.Values}, {&g.Access, &standing.Access}, {&g.Logins, &standing.Logins},
	} {
		if *limit.of == nil {
			*limit.of = *limit.otherwise
		}
	}
	g.Within = cmp.Or(g.Within, standing.Within)
	return g
}

// MostGuarded is the longest time that what went counts.
const MostGuarded = 7 * 24 * time.Hour

// Window is Within as a duration.
func (g Guard) Window() time.Duration {
	window, _ := time.ParseDuration(g.Whole().Within)
	return window
}

// Clone returns a document that shares nothing with this one.
func (d *Document) Clone() (Document, error) {
	text, err := json.Marshal(d)
	if err != nil {
		return Document{}, fmt.Errorf("copy the settings: %w", err)
	}
	var copied Document
	return copied, json.Unmarshal(text, &copied)
}

// Without returns the document without a directory, which no rule prefers any more.
func (d Document) Without(name string) Document {
	d.Directories = slices.DeleteFunc(slices.Clone(d.Directories), func(d Directory) bool { return d.Name == name })
	d.Users.Rules = slices.Clone(d.Users.Rules)
	for i := range d.Users.Rules {
		d.Users.Rules[i].Prefer = slices.DeleteFunc(slices.Clone(d.Users.Rules[i].Prefer), func(preferred string) bool { return preferred == name })
	}
	return d
}

// Directory returns the directory of that name.
func (d *Document) Directory(name string) (Directory, bool) {
	for _, directory := range d.Directories {
		if directory.Name == name {
			return directory, true
		}
	}
	return Directory{}, false
}
