package settings

import (
	"reflect"
	"slices"
	"strings"

	"kambrel.example/kambrel/core/entry"
)

// Default returns the settings that suit most directories: people are matched
// by the login and then by the address that they would have, and only the attributes listed here are ever
// touched in the cloud. Where the directories speak both dialects, each
// attribute is taken from the dialect that has it.
func Default(directories ...Directory) Document {
	const enterprise = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User:"
	d := defaultsFor(directories)
	document := Document{
		Directories: directories,
		Users: Taking{
			Filter: d.users,
			Match:  []MatchRule{{Name: "same login", Resource: "userName"}, {Name: "same address", Resource: "emails.value"}},
			Rules: []Rule{
				d.rule("userName", "userPrincipalName", "mail", true),
				{Target: "active", Formula: d.active},
				{Target: "displayName", Formula: `entry.displayName != "" ? entry.displayName : entry.cn`},
				{Target: "name.givenName", From: "givenName"},
				{Target: "name.familyName", From: "sn"},
				{Target: `emails[type eq "work"].value`, From: "mail"},
				{Target: "title", From: "title"},
				{Target: `phoneNumbers[type eq "work"].value`, From: "telephoneNumber"},
				d.rule(enterprise+"department", "department", "departmentNumber", false),
				d.rule(enterprise+"employeeNumber", "employeeID", "employeeNumber", false),
				{Target: enterprise + "manager.value", Reference: "manager"},
			},
			Leavers: Suspend,
		},
		Groups: Taking{
			Filter: d.groups,
			Match:  []MatchRule{{Name: "same name", Resource: "displayName"}},
			Rules: []Rule{
				{Target: "displayName", Formula: `entry.displayName != "" ? entry.displayName : entry.cn`, Required: true},
				{Target: "members", Reference: "member"},
			},
			Leavers: Delete,
		},
		Contacts: Taking{
			Filter: d.contacts,
			Match:  []MatchRule{{Name: "same address", Resource: "emails.value"}},
			Rules: []Rule{
				{Target: "displayName", Formula: `entry.displayName != "" ? entry.displayName : entry.cn`, Required: true},
				{Target: "name.givenName", From: "givenName"},
				{Target: "name.familyName", From: "sn"},
				{Target: `emails[type eq "work"].value`, From: "mail", Required: true},
				{Target: `phoneNumbers[type eq "work"].value`, From: "telephoneNumber"},
			},
			Leavers: Delete,
		},
		Guard:    DefaultGuard(),
		Schedule: Schedule{Every: "2m"},
	}
	document.AddOrigin()
	return document
}

// defaults is what depends on the dialects.
type defaults struct {
	ad, standard                    bool
	users, groups, contacts, active string
}

// activeBy tells of who is not disabled, by dialect.
var activeBy = map[entry.Dialect]string{
	entry.AD:       `!flag(entry.userAccountControl, 2)`,
	entry.Standard: `entry.pwdAccountLockedTime != "000001010000Z"`,
	entry.DS389:    `entry.nsAccountLock.lowerAscii() != "true"`,
}

func defaultsFor(directories []Directory) defaults {
	has := func(dialect entry.Dialect) bool {
		return slices.ContainsFunc(directories, func(d Directory) bool { return d.Dialect == dialect })
	}
	d := defaults{ad: has(entry.AD), standard: has(entry.Standard) || has(entry.DS389)}
	const (
		adUsers, standardUsers = "(&(objectClass=user)(!(objectClass=computer)))", "(objectClass=inetOrgPerson)"
		// Not what the controller itself needs.
		adGroups, standardGroups = "(&(objectClass=group)(!(isCriticalSystemObject=TRUE)))", "(|(objectClass=groupOfNames)(objectClass=groupOfUniqueNames))"
	)
	switch {
	case d.ad && d.standard:
		d.users, d.groups, d.contacts = "(|"+adUsers+standardUsers+")", "(|"+adGroups+standardGroups+")", "(objectClass=contact)"
	case d.standard:
		d.users, d.groups = standardUsers, standardGroups
	default:
		d.users, d.groups, d.contacts = adUsers, adGroups, "(objectClass=contact)"
	}
	var active []string
	for _, dialect := range entry.Dialects {
		if has(dialect) || dialect == entry.AD && !d.standard {
			active = append(active, activeBy[dialect])
		}
	}
	d.active = strings.Join(active, " && ")
	return d
}

// rule takes a value from the attribute of the dialect, or of whichever has it.
func (d defaults) rule(target, ad, standard string, required bool) Rule {
	switch {
	case d.ad && d.standard:
		return Rule{Target: target, Formula: `has(entry.` + ad + `) ? entry.` + ad + ` : entry.` + standard, Required: required}
	case d.standard:
		return Rule{Target: target, From: standard, Required: required}
	}
	return Rule{Target: target, From: ad, Required: required}
}

// Add puts a directory into the document. Rules, match rules and filters that
// are still the defaults for the dialects so far become those that suit the new
// one too; what somebody has changed stays as it is.
func (d *Document) Add(directory Directory) {
	if len(d.Directories) == 0 && len(d.Users.Rules) == 0 {
		*d = Default(directory)
		return
	}
	before := Default(d.Directories...)
	d.Directories = append(d.Directories, directory)
	after := Default(d.Directories...)
	for _, kind := range entry.Kinds {
		have, was, will := d.Of(kind), before.Of(kind), after.Of(kind)
		if have.Filter == was.Filter {
			have.Filter = will.Filter
		}
		if slices.Equal(have.Match, was.Match) {
			have.Match = will.Match
		}
		for i, rule := range have.Rules {
			if j := slices.IndexFunc(was.Rules, func(r Rule) bool { return reflect.DeepEqual(r, rule) }); j >= 0 {
				have.Rules[i] = will.Rules[j]
			}
		}
	}
	d.AddOrigin()
}

// DefaultRules returns the rules of a kind that suit the document's directories.
func (d *Document) DefaultRules(kind entry.Kind) []Rule {
	defaults := Default(d.Directories...)
	return defaults.Of(kind).Rules
}
