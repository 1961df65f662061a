// Package settings holds the settings document: its form, its defaults, and
// its validation, which reports all faults at once, each with its path. It
// knows nothing of where documents are kept.
package settings

import (
	"time"
)

// Dialect is how a directory tells identity and change.
type Dialect string

// The dialects.
const (
	AD       Dialect = "ad"       // objectGUID, DirSync control, unicodePwd
	Standard Dialect = "standard" // entryUUID, RFC 4533, RFC 3062
)

// Document is the whole configuration of a sync.
type Document struct {
	Directories []Directory `json:"directories" yaml:"directories"`
	Users       Users       `json:"users" yaml:"users"`
	Guard       Guard       `json:"guard" yaml:"guard"`
	Schedule    Schedule    `json:"schedule" yaml:"schedule"`
}

// Directory is one on-premises directory and which of its containers take part.
// How to reach it is in the agent's configuration, under the same name.
type Directory struct {
	Name       string     `json:"name" yaml:"name"`
	Dialect    Dialect    `json:"dialect" yaml:"dialect"`
	Base       string     `json:"base" yaml:"base"`
	Containers Containers `json:"containers" yaml:"containers"`
}

// Containers marks parts of the tree; the nearest mark on the way up decides,
// and what lies below no mark is out.
type Containers struct {
	Include []string `json:"include" yaml:"include"`
	Exclude []string `json:"exclude,omitempty" yaml:"exclude,omitempty"`
}

// Users says which people take part and what they become.
type Users struct {
	Filter  string      `json:"filter,omitempty" yaml:"filter,omitempty"`
	Match   []MatchRule `json:"match" yaml:"match"`
	Rules   []Rule      `json:"rules" yaml:"rules"`
	Leavers Policy      `json:"leavers" yaml:"leavers"`
}

// MatchRule finds a resource that is already in the cloud for an entry that
// has no link: the values of the entry's attribute From are looked up in the
// resource attribute Resource.
type MatchRule struct {
	Name     string `json:"name" yaml:"name"`
	From     string `json:"from" yaml:"from"`
	Resource string `json:"resource" yaml:"resource"`
}

// Rule says how one resource attribute gets its value; exactly one of From,
// Always and Formula is set.
type Rule struct {
	Target   string `json:"target" yaml:"target"`
	From     string `json:"from,omitempty" yaml:"from,omitempty"`
	Always   any    `json:"always,omitempty" yaml:"always,omitempty"`
	Formula  string `json:"formula,omitempty" yaml:"formula,omitempty"`
	Required bool   `json:"required,omitempty" yaml:"required,omitempty"`
}

// Policy is what happens to a resource whose entry is gone or out of scope.
type Policy string

// The leaver policies.
const (
	Suspend Policy = "suspend"
	Keep    Policy = "keep"
)

// Guard limits the removals (suspensions) of one run. They are held when they
// are more than Removals and also more than Share percent of what is linked.
type Guard struct {
	Removals int `json:"removals" yaml:"removals"` // 0 holds every removal
	Share    int `json:"share" yaml:"share"`       // percent, 0 to 100
}

// Schedule says when runs start by themselves.
type Schedule struct {
	Every string `json:"every" yaml:"every"` // a duration such as 2m, or "off"
}

// ShortestInterval is the least time between scheduled runs.
const ShortestInterval = 10 * time.Second

// Interval returns the time between scheduled runs, 0 when they are off. The
// document must be valid.
func (s Schedule) Interval() time.Duration {
	if s.Every == "off" {
		return 0
	}
	interval, _ := time.ParseDuration(s.Every)
	return interval
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
