package settings

import (
	"fmt"
	"net/url"
	"slices"
	"time"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/filter"
	"kambrel.example/kambrel/core/password"
)

// Passwords says how passwords come from the cloud into the directories whose features
// switch that on.
type Passwords struct {
	// Events is where the cloud tells of its events, "" for the usual place
	// (/.well-known/ssf-configuration on its host).
	Events string `json:"events,omitempty" yaml:"events,omitempty"`
	// Protected is a filter (RFC 4515) of those whose password is never touched, beside
	// those that the agents' own configurations name.
	Protected string `json:"protected,omitempty" yaml:"protected,omitempty"`
	// PerPerson and All limit the attempts; those that are not given are DefaultPerPerson
	// and DefaultAll.
	PerPerson *Rate `json:"perPerson,omitempty" yaml:"perPerson,omitempty"`
	All       *Rate `json:"all,omitempty" yaml:"all,omitempty"`
}

// Rate is how many within which time.
type Rate struct {
	Number int    `json:"number" yaml:"number"`
	Within string `json:"within" yaml:"within"` // a duration such as 10m
}

// Time is the time. The document must be valid.
func (r Rate) Time() time.Duration {
	within, _ := time.ParseDuration(r.Within)
	return within
}

// The limits where the settings name none.
var (
	DefaultPerPerson = Rate{10, "10m"}
	DefaultAll       = Rate{600, "1m"}
)

// Limits are those that hold.
func (p Passwords) Limits() (perPerson, all Rate) {
	perPerson, all = DefaultPerPerson, DefaultAll
	if p.PerPerson != nil {
		perPerson = *p.PerPerson
	}
	if p.All != nil {
		all = *p.All
	}
	return perPerson, all
}

// longestRate bounds over which time attempts are counted.
const longestRate = 24 * time.Hour

func (v *validation) passwords(d *Document) {
	p := d.Passwords
	if p.Events != "" {
		if parsed, err := url.Parse(p.Events); err != nil || parsed.Host == "" {
			v.add("passwords.events", "%q is no address; write https://host/path", p.Events)
		}
	}
	if p.Protected != "" {
		if _, err := filter.Parse(p.Protected); err != nil {
			v.add("passwords.protected", "%s", err)
		}
	}
	for _, one := range []struct {
		name string
		rate *Rate
	}{{"perPerson", p.PerPerson}, {"all", p.All}} {
		if one.rate == nil {
			continue
		}
		if one.rate.Number < 1 {
			v.add("passwords."+one.name+".number", "is %d; give the number of attempts, 1 or more", one.rate.Number)
		}
		if within, err := time.ParseDuration(one.rate.Within); err != nil || within <= 0 || within > longestRate {
			v.add("passwords."+one.name+".within", "%q is no duration up to %s; write it as in 10m", one.rate.Within, longestRate)
		}
	}
	if !d.TakesPasswords() {
		return
	}
	for _, rule := range originRules {
		if !slices.ContainsFunc(d.Users.Rules, func(r Rule) bool { return r.Target == rule.Target }) {
			v.add("users.rules", "no rule sets %s, by which passwords find the way from the cloud to the directory: add a rule with the formula %s", rule.Target, rule.Formula)
		}
	}
}

// TakesPasswords tells whether the directory takes anything about passwords from the cloud.
func (d Directory) TakesPasswords() bool {
	return slices.ContainsFunc(entry.PasswordFeatures, func(f entry.Feature) bool { return slices.Contains(d.Features, f) })
}

// Allows tells whether an act is switched on for the directory.
func (d Directory) Allows(act password.Act) bool {
	feature, known := map[password.Act]entry.Feature{password.Reset: entry.FeatureResetPasswords, password.Change: entry.FeatureChangePasswords, password.Unlock: entry.FeatureUnlock}[act]
	return known && slices.Contains(d.Features, feature)
}

// TakesPasswords tells whether any directory does.
func (d *Document) TakesPasswords() bool {
	return slices.ContainsFunc(d.Directories, Directory.TakesPasswords)
}

// originRules write into the cloud from which entry of which directory somebody comes.
var originRules = []Rule{
	{Target: fmt.Sprintf("%s:directory", password.OriginURN), Formula: "directory"},
	{Target: fmt.Sprintf("%s:entry", password.OriginURN), Formula: "id"},
}

// AddOrigin adds the rules that passwords need, where a directory takes them and there are
// none.
func (d *Document) AddOrigin() {
	if !d.TakesPasswords() {
		return
	}
	for _, rule := range originRules {
		if !slices.ContainsFunc(d.Users.Rules, func(r Rule) bool { return r.Target == rule.Target }) {
			d.Users.Rules = append(d.Users.Rules, rule)
		}
	}
}
