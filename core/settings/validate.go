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
	for _, kind := range entry.Kinds {
		v.taking(kind, *d.Of(kind))
		v.person(kind, *d.Of(kind), names)
	}
	v.features(d.Directories)
	v.passwords(d)
	for i, directory := range d.Directories {
		v.cloudGroups(fmt.Sprintf("directories[%d]", i), directory)
	}
	for _, kind := range entry.Kinds {
		v.selection(string(kind)+"s", d.Selection(kind), d.Directories)
	}
	for i, domain := range d.Cloud.Domains {
		if !domainForm.MatchString(domain) {
			v.add(fmt.Sprintf("cloud.domains[%d]", i), "%q is no domain; write it as in halvard.example", domain)
		}
	}
	if d.Cloud.RequestsPerMinute < 0 {
		v.add("cloud.requestsPerMinute", "is %d; give the most requests a minute, or 0 for what the cloud is learned to take", d.Cloud.RequestsPerMinute)
	}
	v.habits(d.Cloud.Habits)
	if d.Guard.Removals < 0 {
		v.add("guard.removals", "is %d; give the number of removals that one run may make, 0 or more", d.Guard.Removals)
	}
	percent := func(path string, share int) {
		if share < 0 || share > 100 {
			v.add(path, "is %d; give a percentage from 0 to 100", share)
		}
	}
	percent("guard.share", d.Guard.Share)
	if within, err := time.ParseDuration(d.Guard.Whole().Within); err != nil || within < 0 || within > MostGuarded {
		v.add("guard.within", "%q: write how long what went counts together with what would go, as 1h, or 0s; at most %d hours", d.Guard.Within, int(MostGuarded.Hours()))
	}
	for _, one := range []struct {
		name  string
		limit *Limit
	}{{"members", d.Guard.Members}, {"group", d.Guard.Group}, {"values", d.Guard.Values}, {"access", d.Guard.Access}, {"logins", d.Guard.Logins}} {
		if one.limit == nil {
			continue
		}
		percent("guard."+one.name+".share", one.limit.Share)
		if one.limit.Number < 0 {
			v.add("guard."+one.name+".number", "is %d; give the number that one run may take away, 0 or more", one.limit.Number)
		}
	}
	v.notices(d.Notices)
	if days := d.History.Days; days != 0 && (days < LeastHistoryDays || days > MostHistoryDays) {
		v.add("history.days", "%d: things are remembered for %d to %d days", days, LeastHistoryDays, MostHistoryDays)
	}
	v.schedule(d.Schedule)
	v.expect(d.Expect)
	return v.faults
}

type validation struct{ faults []problem.Fault }

func (v *validation) add(path, format string, facts ...any) {
	if len(v.faults) < mostFaults {
		v.faults = append(v.faults, problem.Fault{Path: path, Message: fmt.Sprintf(format, facts...)})
	}
}

func (v *validation) directory(path string, d Directory) {
	if !DirectoryName(d.Name) {
		v.add(path+".name", "%q is no name; use small letters, digits and hyphens, at most 63, a letter first", d.Name)
	}
	if !slices.Contains(entry.Dialects, d.Dialect) {
		v.add(path+".dialect", "%q is no dialect; write one of %q", d.Dialect, entry.Dialects)
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
			if !slices.Contains(entry.Features, feature) {
				v.add(fmt.Sprintf("directories[%d].features[%d]", i, j), "%q is no feature; there are %q", feature, entry.Features)
			}
		}
	}
}

// asks reports what a filter asks and no directory answers: matching rules that are
// unknown, and attributes whose changes are never told, so that people would come and go
// at the next full read only.
func (v *validation) asks(path string, f *filter.Filter, directories []Directory) {
	for _, rule := range f.UnknownRules() {
		v.add(path, "the matching rule %s is not known; what it asks would be true of nobody", rule)
	}
	at := slices.IndexFunc(directories, func(d Directory) bool { return d.Dialect == entry.AD })
	if at < 0 {
		return
	}
	for _, name := range f.Attributes() {
		if filter.NotTold(name) {
			v.add(path, "%s is not replicated, or worked out by each server of %s by itself: no change of it is ever told, so it cannot say who takes part", name, directories[at].Name)
		}
	}
}

func (v *validation) selection(path string, s Selection, directories []Directory) {
	if s.Filter != "" {
		parsed, err := filter.Parse(s.Filter)
		if err == nil {
			v.asks(path+".filter", parsed, directories)
		} else {
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

// person checks which entries are one person, and whose values then count.
func (v *validation) person(kind entry.Kind, t Taking, directories map[string]bool) {
	name := string(kind) + "s"
	if kind != entry.User && t.HasPersons() {
		v.add(name+".person", "only people have entries in several directories that are one")
		return
	}
	taken := map[string]bool{}
	for i, rule := range t.Person {
		path := fmt.Sprintf("%s.person[%d]", name, i)
		switch {
		case rule.Name == "" || strings.Contains(rule.Name, "="):
			v.add(path+".name", "give the person rule a name, such as same employee number")
		case taken[rule.Name]:
			v.add(path+".name", "another person rule is called %q already", rule.Name)
		}
		taken[rule.Name] = true
		switch {
		case (rule.From == "") == (rule.Formula == ""):
			v.add(path, "set exactly one of from and formula")
		case rule.Formula != "":
			v.formula(path+".formula", rule.Formula, false)
		case !attributeForm.MatchString(rule.From):
			v.add(path+".from", "%q is no directory attribute", rule.From)
		}
	}
	if t.CarriedID != "" && !attributeForm.MatchString(t.CarriedID) {
		v.add(name+".carriedId", "%q is no directory attribute", t.CarriedID)
	}
	for i, rule := range t.Rules {
		for j, directory := range rule.Prefer {
			if !directories[directory] {
				v.add(fmt.Sprintf("%s.rules[%d].prefer[%d]", name, i, j), "no directory is called %q", directory)
			}
		}
	}
}

// needed are the targets without which no resource of a kind can be made.
var needed = map[entry.Kind][]string{entry.User: {"userName", "active"}, entry.Group: {"displayName"}, entry.Contact: {"displayName"}}

func (v *validation) taking(kind entry.Kind, t Taking) {
	name := string(kind) + "s"
	for i, rule := range t.Match {
		path := fmt.Sprintf("%s.match[%d]", name, i)
		if rule.Name == "" {
			v.add(path+".name", "give the match rule a name, such as same login")
		}
		if rule.From != "" && !attributeForm.MatchString(rule.From) {
			v.add(path+".from", "%q is no directory attribute", rule.From)
		}
		resource, err := entry.ParsePath(rule.Resource)
		if err != nil {
			v.add(path+".resource", "%s", err)
		} else if rule.From == "" && !slices.ContainsFunc(t.Rules, func(r Rule) bool {
			target, err := entry.ParsePath(r.Target)
			return err == nil && target.Key() == resource.Key()
		}) {
			v.add(path+".from", "no rule makes %s; name the directory attribute whose values are looked up", rule.Resource)
		}
	}
	targets := map[string]int{}
	for i, rule := range t.Rules {
		path := fmt.Sprintf("%s.rules[%d]", name, i)
		v.rule(path, kind, rule)
		if first, taken := targets[strings.ToLower(rule.Target)]; taken {
			v.add(path+".target", "%s.rules[%d] sets %s already", name, first, rule.Target)
		}
		targets[strings.ToLower(rule.Target)] = i
	}
	if kind != entry.User && len(t.Rules) == 0 {
		return
	}
	for _, target := range needed[kind] {
		if _, ok := targets[strings.ToLower(target)]; !ok {
			v.add(name+".rules", "no rule sets %s, which every %s in the cloud needs", target, kind)
		}
	}
	switch {
	case kind == entry.User && t.Leavers != Suspend && t.Leavers != Keep && t.Leavers != Delete:
		v.add(name+".leavers", "%q is no leaver policy; write suspend, delete or keep", t.Leavers)
	case kind != entry.User && t.Leavers != Keep && t.Leavers != Delete:
		v.add(name+".leavers", "%q is no leaver policy of a %s; write delete or keep", t.Leavers, kind)
	}
	if t.Grace != "" {
		if grace, err := time.ParseDuration(t.Grace); err != nil || grace < 0 {
			v.add(name+".grace", "%q is no duration; write it as in 720h for 30 days", t.Grace)
		}
	}
}

// always checks a value that a rule sets whatever its source has.
func (v *validation) always(path string, value any) {
	switch value.(type) {
	case string, bool, int64, uint64, int, float64:
	default:
		v.add(path, "give a text, a number, true or false")
	}
}

func (v *validation) rule(path string, kind entry.Kind, rule Rule) {
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
		v.always(path+".always", rule.Always)
	}
	active := strings.EqualFold(rule.Target, "active")
	if rule.Formula != "" {
		ways++
		v.formula(path+".formula", rule.Formula, active)
	}
	if rule.Reference != "" {
		ways++
		v.reference(path, kind, rule)
	}
	if len(rule.Granted) > 0 {
		ways++
		v.granted(path, kind, rule, target)
	}
	if ways != 1 {
		v.add(path, "set exactly one of from, always, formula, reference and granted; %d are set", ways)
	}
	if kind == entry.Group && strings.EqualFold(rule.Target, "members") && rule.Reference == "" {
		v.add(path+".target", "members come from the group's own: write reference: member")
	}
	if rule.When != "" {
		v.formula(path+".when", rule.When, true)
	}
	if rule.Fallback != "" {
		v.formula(path+".fallback", rule.Fallback, active)
	}
	if active && rule.From != "" {
		v.add(path+".from", "active is true or false; use a formula")
	}
}

func (v *validation) reference(path string, kind entry.Kind, rule Rule) {
	switch {
	case !attributeForm.MatchString(rule.Reference):
		v.add(path+".reference", "%q is no directory attribute", rule.Reference)
	case strings.EqualFold(rule.Target, "members") != strings.EqualFold(rule.Reference, "member") || strings.EqualFold(rule.Target, "members") && kind != entry.Group:
		v.add(path+".reference", "the members of a group, and they alone, are written as target: members, reference: member")
	}
	if rule.When != "" || rule.Fallback != "" || rule.CreateOnly || rule.Required {
		v.add(path, "a reference follows its link: it takes no when, fallback, createOnly or required")
	}
}

func (v *validation) granted(path string, kind entry.Kind, rule Rule, target entry.Path) {
	if kind != entry.User {
		v.add(path+".granted", "only people are granted something")
	}
	if target.Sub != "" || target.SelectorAttribute != "" {
		v.add(path+".target", "%s is one value; name the whole attribute, such as roles or entitlements", rule.Target)
	}
	if rule.CreateOnly || rule.Required {
		v.add(path, "what is granted follows the membership: it takes no createOnly or required")
	}
	for i, grant := range rule.Granted {
		if _, err := entry.ParseDN(grant.Group); err != nil {
			v.add(fmt.Sprintf("%s.granted[%d].group", path, i), "%s", err)
		}
		if strings.TrimSpace(grant.Value) == "" {
			v.add(fmt.Sprintf("%s.granted[%d].value", path, i), "give the value that members get")
		}
	}
}

// formula checks a formula; with truth it must give true or false.
func (v *validation) formula(path, text string, truth bool) {
	compiled, err := formula.Compile(text)
	v.compiled(path, compiled, truth, err)
}

func (v *validation) compiled(path string, compiled *formula.Formula, truth bool, err error) {
	var failure *formula.CompileError
	switch {
	case errors.As(err, &failure):
		for _, f := range failure.Faults {
			v.faults = append(v.faults, problem.Fault{Path: path, Message: f.Message, Line: f.Line, Column: f.Column})
		}
	case err != nil:
		v.add(path, "%s", err)
	case truth && !compiled.Bool():
		v.add(path, "this must be true or false, and the formula gives something else")
	}
}

// DirectoryName tells whether a directory can be called so.
func DirectoryName(name string) bool { return nameForm.MatchString(name) }
