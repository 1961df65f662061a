package settings

import (
	"cmp"
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
	// Digests says how those are made by which people sign in to the cloud with the same
	// password; what is not given is as in DefaultDigests.
	Digests *Digests `json:"digests,omitempty" yaml:"digests,omitempty"`
}

// Digests says how often rounds are made, and how hard a digest is to guess (Argon2id).
type Digests struct {
	Every  string `json:"every,omitempty" yaml:"every,omitempty"`   // a duration up to two minutes
	Memory int    `json:"memory,omitempty" yaml:"memory,omitempty"` // KiB
	Passes int    `json:"passes,omitempty" yaml:"passes,omitempty"`
	Lanes  int    `json:"lanes,omitempty" yaml:"lanes,omitempty"`
}

// DefaultDigests are the second choice of RFC 9106 section 4 at what OWASP names as the
// least memory for it.
var DefaultDigests = Digests{Every: "2m", Memory: 19456, Passes: 2, Lanes: 1}

const (
	longestRound = 2 * time.Minute
	leastMemory  = 7168 // KiB
	mostMemory   = 1 << 20
	mostPasses   = 20
	mostLanes    = 16
)

// HowDigests is how digests are made.
func (p Passwords) HowDigests() (every time.Duration, work password.Work) {
	how := DefaultDigests
	if p.Digests != nil {
		how = Digests{cmp.Or(p.Digests.Every, how.Every), cmp.Or(p.Digests.Memory, how.Memory), cmp.Or(p.Digests.Passes, how.Passes), cmp.Or(p.Digests.Lanes, how.Lanes)}
	}
	every, _ = time.ParseDuration(how.Every)
	return every, password.Work{Memory: uint32(how.Memory), Passes: uint32(how.Passes), Lanes: uint8(how.Lanes)}
}

func (v *validation) digests(d *Digests) {
	if d == nil {
		return
	}
	if every, err := time.ParseDuration(d.Every); d.Every != "" && (err != nil || every < ShortestInterval || every > longestRound) {
		v.add("passwords.digests.every", "%q: give a duration from %s to %s", d.Every, ShortestInterval, longestRound)
	}
	for _, one := range []struct {
		name         string
		is, from, to int
	}{{"memory", d.Memory, leastMemory, mostMemory}, {"passes", d.Passes, 1, mostPasses}, {"lanes", d.Lanes, 1, mostLanes}} {
		if one.is != 0 && (one.is < one.from || one.is > one.to) {
			v.add("passwords.digests."+one.name, "is %d; give a number from %d to %d", one.is, one.from, one.to)
		}
	}
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
	v.digests(p.Digests)
	if !d.needsOrigin() {
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

// GivesDigests tells whether digests of the directory's passwords go to the cloud.
func (d Directory) GivesDigests() bool { return slices.Contains(d.Features, entry.FeatureDigests) }

// needsOrigin tells whether the cloud must know where people come from.
func (d *Document) needsOrigin() bool {
	return d.TakesPasswords() || slices.ContainsFunc(d.Directories, Directory.GivesDigests)
}

// originRules write into the cloud from which entry of which directory somebody comes.
var originRules = []Rule{
	{Target: fmt.Sprintf("%s:directory", password.OriginURN), Formula: "directory"},
	{Target: fmt.Sprintf("%s:entry", password.OriginURN), Formula: "id"},
}

// AddOrigin adds the rules that passwords need, where a directory takes them and there are
// none.
func (d *Document) AddOrigin() {
	if !d.needsOrigin() {
		return
	}
	for _, rule := range originRules {
		if !slices.ContainsFunc(d.Users.Rules, func(r Rule) bool { return r.Target == rule.Target }) {
			d.Users.Rules = append(d.Users.Rules, rule)
		}
	}
}
