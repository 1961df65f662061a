package settings

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/filter"
	"kambrel.example/kambrel/core/formula"
	"kambrel.example/kambrel/core/problem"
)

// mostFaults caps a report; more than that is one mistake repeated.
const mostFaults = 100

var (
	nameForm      = regexp.MustCompile(`^[a-z][a-z0-9-]{0,62}$`)
	domainForm    = regexp.MustCompile(`^[A-Za-z0-9-]+(\.[A-Za-z0-9-]+)+$`)
	attributeForm = regexp.MustCompile(`^[A-Za-z][A-Za-z0-9;-]*$`)
)

// Faults returns every fault of a document, an empty list when it can be
// activated.
func Faults(d Document) []problem.Fault { return append([]problem.Fault{}, d.Validate()...) }

// Validate returns every fault of the document, nil when it can be activated.
func (d *Document) Validate() []problem.Fault {
	v := &validation{}
	if len(d.Directories) == 0 {
		v.add("directories", "name at least one directory")
	}
	names := map[string]bool{}
	for i, directory := range d.Directories {
		path := fmt.Sprintf("directories[%d]", i)
		if names[directory.Name] {
			v.add(path+".name", "another directory is called %q already", directory.Name)
		}
		names[directory.Name] = true
		v.directory(path, directory)
	}
	v.users(d.Users)
	v.features(d.Directories)
	for _, kind := range entry.Kinds {
		v.selection(string(kind)+"s", d.Selection(kind), d.Directories)
	}
	for i, domain := range d.Cloud.Domains {
		if !domainForm.MatchString(domain) {
			v.add(fmt.Sprintf("cloud.domains[%d]", i), "%q is no domain; write it as in halvard.example", domain)
		}
	}
	if d.Guard.Removals < 0 {
		v.add("guard.removals", "is %d; give the number of removals that one run may make, 0 or more", d.Guard.Removals)
	}
	if d.Guard.Share < 0 || d.Guard.Share > 100 {
		v.add("guard.share", "is %d; give a percentage from 0 to 100", d.Guard.Share)
	}
	if d.Schedule.Every != "off" {
		interval, err := time.ParseDuration(d.Schedule.Every)
		if err != nil {
			v.add("schedule.every", "%q is no duration; write 30s, 2m or 1h, or off", d.Schedule.Every)
		} else if interval < ShortestInterval {
			v.add("schedule.every", "%s is too short; the shortest interval is %s", interval, ShortestInterval)
		}
	}
	return v.faults
}

type validation struct{ faults []problem.Fault }

func (v *validation) add(path, format string, facts ...any) {
	if len(v.faults) < mostFaults {
		v.faults = append(v.faults, problem.Fault{Path: path, Message: fmt.Sprintf(format, facts...)})
	}
}

func (v *validation) directory(path string, d Directory) {
	if !nameForm.MatchString(d.Name) {
		v.add(path+".name", "%q is no name; use small letters, digits and hyphens, at most 63, a letter first", d.Name)
	}
	if d.Dialect != AD && d.Dialect != Standard {
		v.add(path+".dialect", "%q is no dialect; write ad or standard", d.Dialect)
	}
	base, err := entry.ParseDN(d.Base)
	if err != nil {
		v.add(path+".base", "%s", err)
	}
	marks := map[string]string{}
	for _, list := range []struct {
		name string
		dns  []string
	}{{"include", d.Containers.Include}, {"exclude", d.Containers.Exclude}} {
		for i, text := range list.dns {
			place := fmt.Sprintf("%s.containers.%s[%d]", path, list.name, i)
			dn, err := entry.ParseDN(text)
			switch {
			case err != nil:
				v.add(place, "%s", err)
			case base.Depth() > 0 && !entry.PathUnder(dn.Path(), base.Path()):
				v.add(place, "%s does not lie below the base %s", text, d.Base)
			case marks[dn.Path()] != "":
				v.add(place, "%s is marked already, at %s", text, marks[dn.Path()])
			default:
				marks[dn.Path()] = place
			}
		}
	}
	if len(d.Containers.Include) == 0 {
		v.add(path+".containers.include", "include at least one container; %q includes the whole directory", d.Base)
	}
}

func (v *validation) features(directories []Directory) {
	for i, directory := range directories {
		for j, feature := range directory.Features {
			if !slices.Contains(AllFeatures, feature) {
				v.add(fmt.Sprintf("directories[%d].features[%d]", i, j), "%q is no feature; there are %q", feature, AllFeatures)
			}
		}
	}
}

func (v *validation) selection(path string, s Selection, directories []Directory) {
	if s.Filter != "" {
		if _, err := filter.Parse(s.Filter); err != nil {
			fault := problem.Fault{Path: path + ".filter", Message: err.Error()}
			var syntax *filter.SyntaxError
			if errors.As(err, &syntax) {
				fault.Message, fault.Column = syntax.Reason, syntax.Offset+1
			}
			v.faults = append(v.faults, fault)
		}
	}
	for i, group := range s.MembersOf.Groups {
		place := fmt.Sprintf("%s.membersOf.groups[%d]", path, i)
		dn, err := entry.ParseDN(group)
		if err != nil {
			v.add(place, "%s", err)
			continue
		}
		if !slices.ContainsFunc(directories, func(d Directory) bool {
			base, err := entry.ParseDN(d.Base)
			return err == nil && entry.PathUnder(dn.Path(), base.Path())
		}) {
			v.add(place, "%s lies below the base of no directory", group)
		}
	}
}

func (v *validation) users(u Users) {
	for i, rule := range u.Match {
		path := fmt.Sprintf("users.match[%d]", i)
		if rule.Name == "" {
			v.add(path+".name", "give the match rule a name, such as same login")
		}
		if !attributeForm.MatchString(rule.From) {
			v.add(path+".from", "%q is no directory attribute", rule.From)
		}
		if _, err := entry.ParsePath(rule.Resource); err != nil {
			v.add(path+".resource", "%s", err)
		}
	}
	targets := map[string]int{}
	for i, rule := range u.Rules {
		path := fmt.Sprintf("users.rules[%d]", i)
		v.rule(path, rule)
		if first, taken := targets[strings.ToLower(rule.Target)]; taken {
			v.add(path+".target", "users.rules[%d] sets %s already", first, rule.Target)
		}
		targets[strings.ToLower(rule.Target)] = i
	}
	for _, needed := range []string{"userName", "active"} {
		if _, ok := targets[strings.ToLower(needed)]; !ok {
			v.add("users.rules", "no rule sets %s, which every person in the cloud needs", needed)
		}
	}
	if u.Leavers != Suspend && u.Leavers != Keep {
		v.add("users.leavers", "%q is no leaver policy; write suspend or keep", u.Leavers)
	}
}

func (v *validation) rule(path string, rule Rule) {
	target, err := entry.ParsePath(rule.Target)
	if err != nil {
		v.add(path+".target", "%s", err)
	} else if slices.ContainsFunc([]string{"id", "externalId", "meta", "schemas", "groups", "password"}, func(name string) bool {
		return target.Schema == "" && strings.EqualFold(name, target.Attribute)
	}) {
		v.add(path+".target", "%s cannot be set by a rule", rule.Target)
	}
	ways := 0
	if rule.From != "" {
		ways++
		if !attributeForm.MatchString(rule.From) {
			v.add(path+".from", "%q is no directory attribute", rule.From)
		}
	}
	if rule.Always != nil {
		ways++
		switch rule.Always.(type) {
		case string, bool, int64, uint64, int, float64:
		default:
			v.add(path+".always", "give a text, a number, true or false")
		}
	}
	if rule.Formula != "" {
		ways++
		v.formula(path+".formula", rule)
	}
	if ways != 1 {
		v.add(path, "set exactly one of from, always and formula; %d are set", ways)
	}
	if strings.EqualFold(rule.Target, "active") && rule.From != "" {
		v.add(path+".from", "active is true or false; use a formula")
	}
}

func (v *validation) formula(path string, rule Rule) {
	compiled, err := formula.Compile(rule.Formula)
	var failure *formula.CompileError
	switch {
	case errors.As(err, &failure):
		for _, f := range failure.Faults {
			v.faults = append(v.faults, problem.Fault{Path: path, Message: f.Message, Line: f.Line, Column: f.Column})
		}
	case err != nil:
		v.add(path, "%s", err)
	case strings.EqualFold(rule.Target, "active") && !compiled.Bool():
		v.add(path, "active is true or false, and this formula gives something else")
	}
}
