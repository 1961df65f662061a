package settings

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/formula"
	"kambrel.example/kambrel/core/scimfilter"
)

// CloudGroups says which groups of the cloud are kept in one container of a directory, and
// what they are there. The cloud owns them: what is changed in the directory is put back.
type CloudGroups struct {
	Container string `json:"container" yaml:"container"`
	// Filter is a SCIM filter (RFC 7644 section 3.4.2.2) of those that are kept, Only the
	// ids of those that alone are, and Except the ids of those that are not. Without any of
	// them all are that no directory owns.
	Filter string   `json:"filter,omitempty" yaml:"filter,omitempty"`
	Only   []string `json:"only,omitempty" yaml:"only,omitempty"`
	Except []string `json:"except,omitempty" yaml:"except,omitempty"`
	// None keeps none yet, so that one can be tried before it is chosen.
	None bool `json:"none,omitempty" yaml:"none,omitempty"`
	// Mark is the attribute of the entry that bears the group's id, so that it is known
	// again whatever it is called.
	Mark string `json:"mark,omitempty" yaml:"mark,omitempty"`
	// Type and Scope are those of the dialect ad, Class the structural object class of
	// the dialect standard.
	Type  GroupType  `json:"type,omitempty" yaml:"type,omitempty"`
	Scope GroupScope `json:"scope,omitempty" yaml:"scope,omitempty"`
	Class string     `json:"class,omitempty" yaml:"class,omitempty"`
	// Empty is what becomes of a group without members where the class needs one:
	// Placeholder is then its only member, the container where none is named.
	Empty       WhenEmpty `json:"empty,omitempty" yaml:"empty,omitempty"`
	Placeholder string    `json:"placeholder,omitempty" yaml:"placeholder,omitempty"`
	// Flat leaves groups out that are members of groups.
	Flat bool `json:"flat,omitempty" yaml:"flat,omitempty"`
	// TrialMembers is how many members a trial writes at most.
	TrialMembers int    `json:"trialMembers,omitempty" yaml:"trialMembers,omitempty"`
	Leavers      Policy `json:"leavers,omitempty" yaml:"leavers,omitempty"`
	// Grace is how long a group stays that the cloud no longer has, or that is no longer
	// chosen, a duration such as 720h.
	Grace string `json:"grace,omitempty" yaml:"grace,omitempty"`
	Rules []Rule `json:"rules,omitempty" yaml:"rules,omitempty"`
}

// GroupType is what a group of the dialect ad can be used for.
type GroupType string

// The types.
const (
	Security     GroupType = "security"
	Distribution GroupType = "distribution"
)

// GroupScope is where a group of the dialect ad is valid.
type GroupScope string

// The scopes.
const (
	Universal   GroupScope = "universal"
	Global      GroupScope = "global"
	DomainLocal GroupScope = "domain-local"
)

// WhenEmpty is what is done where a directory takes no group without members.
type WhenEmpty string

// The ways.
const (
	PlacesHolder  WhenEmpty = "placeholder" // an entry that is nobody is its member
	WaitsForFirst WhenEmpty = "wait"        // the group is made once it has a member
)

// Classes are the object classes of groups of the dialect standard, with the attribute of
// their members and whether they need one (RFC 4519 sections 3.5 and 3.6).
var Classes = map[string]struct {
	Member string
	Needs  bool
}{
	"groupOfNames":       {"member", true},
	"groupOfUniqueNames": {"uniqueMember", true},
	"groupOfMembers":     {"member", false},
}

// What holds where the settings say nothing.
const (
	defaultTrialMembers = 5
	markAD              = "adminDisplayName"
	markStandard        = "businessCategory"
)

// KeepsCloudGroups tells whether groups of the cloud are kept in the directory.
func (d Directory) KeepsCloudGroups() bool {
	return d.CloudGroups != nil && slices.Contains(d.Features, entry.FeatureCloudGroups)
}

// Whole fills in what is not given.
func (c CloudGroups) Whole(dialect entry.Dialect) CloudGroups {
	if dialect == entry.AD {
		c.Mark, c.Type, c.Scope = cmp.Or(c.Mark, markAD), cmp.Or(c.Type, Security), cmp.Or(c.Scope, Universal)
	} else {
		c.Mark, c.Class, c.Empty = cmp.Or(c.Mark, markStandard), cmp.Or(c.Class, "groupOfNames"), cmp.Or(c.Empty, PlacesHolder)
		c.Placeholder = cmp.Or(c.Placeholder, c.Container)
	}
	c.TrialMembers, c.Leavers = cmp.Or(c.TrialMembers, defaultTrialMembers), cmp.Or(c.Leavers, Delete)
	if len(c.Rules) == 0 {
		c.Rules = DefaultGroupRules(dialect)
	}
	return c
}

// GraceTime is how long a group stays that is to go. The document must be valid.
func (c CloudGroups) GraceTime() time.Duration { return Taking{Grace: c.Grace}.GraceTime() }

// DefaultGroupRules are the rules where the settings have none: the group's name is that of
// the entry, and nothing is added to it.
func DefaultGroupRules(dialect entry.Dialect) []Rule {
	said := Rule{Target: "description", Always: "Kept as the cloud has it: change it there"}
	if dialect == entry.AD {
		return []Rule{
			{Target: "cn", From: "displayName", Required: true},
			{Target: "sAMAccountName", Formula: "accountName(resource.displayName)", Required: true},
			{Target: "displayName", From: "displayName"},
			said,
		}
	}
	return []Rule{{Target: "cn", From: "displayName", Required: true}, said}
}

// resourceForm is the name of an attribute of a resource, or of a part of one.
var resourceForm = regexp.MustCompile(`^[A-Za-z$][A-Za-z0-9:._$-]*$`)

// keptByKambrel are attributes that no rule can set, by their names in small letters.
var keptByKambrel = []string{
	"member", "uniquemember", "memberof", "objectclass", "grouptype", "distinguishedname", "name", "objectguid", "objectsid", "entryuuid", "instancetype", "objectcategory",
}

func (v *validation) cloudGroups(path string, d Directory) {
	on := slices.Contains(d.Features, entry.FeatureCloudGroups)
	if d.CloudGroups == nil {
		if on {
			v.add(path+".cloudGroups", "the feature %s is on: say in which container, as in cloudGroups: {container: \"OU=Cloud Groups,%s\"}", entry.FeatureCloudGroups, d.Base)
		}
		return
	}
	path += ".cloudGroups"
	c := d.CloudGroups.Whole(d.Dialect)
	base, baseErr := entry.ParseDN(d.Base)
	beneath := func(name, text string) {
		dn, err := entry.ParseDN(text)
		switch {
		case err != nil:
			v.add(path+"."+name, "%s", err)
		case baseErr == nil && (!entry.PathUnder(dn.Path(), base.Path()) || dn.Equal(base)):
			v.add(path+"."+name, "%s does not lie below the base %s", text, d.Base)
		}
	}
	beneath("container", c.Container)
	if c.Filter != "" {
		if _, err := scimfilter.Parse(c.Filter); err != nil {
			v.add(path+".filter", "%s", err)
		}
	}
	for i, id := range c.Except {
		if slices.Contains(c.Only, id) {
			v.add(path+".except", "%s is in only too", c.Except[i])
		}
	}
	v.groupForm(path, d, c)
	if c.TrialMembers < 1 {
		v.add(path+".trialMembers", "is %d; give how many members a trial writes, 1 or more", c.TrialMembers)
	}
	if c.Leavers != Keep && c.Leavers != Delete {
		v.add(path+".leavers", "%q is no leaver policy of a group; write delete or keep", c.Leavers)
	}
	if c.Grace != "" {
		if grace, err := time.ParseDuration(c.Grace); err != nil || grace < 0 {
			v.add(path+".grace", "%q is no duration; write it as in 720h for 30 days", c.Grace)
		}
	}
	v.groupRules(path, d, c)
}

// groupForm checks what the groups are in a directory of the dialect.
func (v *validation) groupForm(path string, d Directory, c CloudGroups) {
	switch mark := strings.ToLower(c.Mark); {
	case !attributeForm.MatchString(c.Mark):
		v.add(path+".mark", "%q is no attribute of the directory", c.Mark)
	case slices.Contains(keptByKambrel, mark), mark == "cn", mark == "samaccountname":
		v.add(path+".mark", "%s has a meaning of its own; name an attribute that nobody else uses on groups", c.Mark)
	}
	given := *d.CloudGroups
	if d.Dialect == entry.AD {
		if given.Class != "" || given.Empty != "" || given.Placeholder != "" {
			v.add(path, "class, empty and placeholder are of the dialect standard; here there are type and scope")
		}
		if c.Type != Security && c.Type != Distribution {
			v.add(path+".type", "%q is no type of a group; write security or distribution", c.Type)
		}
		if c.Scope != Universal && c.Scope != Global && c.Scope != DomainLocal {
			v.add(path+".scope", "%q is no scope of a group; write universal, global or domain-local", c.Scope)
		}
		return
	}
	if given.Type != "" || given.Scope != "" {
		v.add(path, "type and scope are of the dialect ad; here there is class")
	}
	if _, known := Classes[c.Class]; !known {
		v.add(path+".class", "%q is no class of groups; write groupOfNames, groupOfUniqueNames or groupOfMembers", c.Class)
	}
	if c.Empty != PlacesHolder && c.Empty != WaitsForFirst {
		v.add(path+".empty", "%q; write placeholder or wait", c.Empty)
	}
	if _, err := entry.ParseDN(c.Placeholder); err != nil && c.Container != "" {
		v.add(path+".placeholder", "%s", err)
	}
}

func (v *validation) groupRules(path string, d Directory, c CloudGroups) {
	targets := map[string]int{}
	for i, rule := range c.Rules {
		place := fmt.Sprintf("%s.rules[%d]", path, i)
		target := strings.ToLower(rule.Target)
		switch {
		case !attributeForm.MatchString(rule.Target):
			v.add(place+".target", "%q is no attribute of the directory", rule.Target)
		case slices.Contains(keptByKambrel, target), strings.EqualFold(rule.Target, c.Mark):
			v.add(place+".target", "%s cannot be set by a rule", rule.Target)
		}
		if first, taken := targets[target]; taken {
			v.add(place+".target", "rules[%d] sets %s already", first, rule.Target)
		}
		targets[target] = i
		v.groupRule(place, rule)
	}
	needed := []string{"cn"}
	if d.Dialect == entry.AD {
		needed = append(needed, "sAMAccountName")
	}
	for _, name := range needed {
		if _, found := targets[strings.ToLower(name)]; !found {
			v.add(path+".rules", "no rule sets %s, which every group in the directory needs", name)
		}
	}
}

func (v *validation) groupRule(path string, rule Rule) {
	ways := 0
	if rule.From != "" {
		ways++
		if !resourceForm.MatchString(rule.From) {
			v.add(path+".from", "%q is no attribute of a group in the cloud", rule.From)
		}
	}
	if rule.Always != nil {
		ways++
		v.always(path+".always", rule.Always)
	}
	ofResource := func(name, text string, truth bool) {
		if text != "" {
			compiled, err := formula.CompileOfResource(text)
			v.compiled(path+"."+name, compiled, truth, err)
		}
	}
	if rule.Formula != "" {
		ways++
		ofResource("formula", rule.Formula, false)
	}
	ofResource("when", rule.When, true)
	ofResource("fallback", rule.Fallback, false)
	if rule.Reference != "" || len(rule.Granted) > 0 || len(rule.Prefer) > 0 {
		v.add(path, "reference, granted and prefer are of rules for what comes from a directory")
	}
	if ways != 1 {
		v.add(path, "set exactly one of from, always and formula; %d are set", ways)
	}
}
