// Package cloudgroups decides about groups of the cloud that are kept in a container of a
// directory: which of them, what each is there, and what is to be done so that it is. The
// cloud owns them, so the directory's share is a function of the cloud and the settings.
// All of it is pure.
package cloudgroups

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"unicode"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/reason"
	"kambrel.example/kambrel/core/rules"
	"kambrel.example/kambrel/core/scimfilter"
	"kambrel.example/kambrel/core/settings"
)

// Keeping is what the settings say of one directory, made ready; it is immutable.
type Keeping struct {
	settings.CloudGroups
	Directory string
	Dialect   entry.Dialect
	Base      string
	filter    *scimfilter.Filter
	rules     *rules.Set
}

// Compile makes the settings of a directory ready that keeps cloud groups. They must be
// valid.
func Compile(d settings.Directory) (*Keeping, error) {
	k := &Keeping{CloudGroups: d.CloudGroups.Whole(d.Dialect), Directory: d.Name, Dialect: d.Dialect, Base: d.Base}
	var err error
	if k.Filter != "" {
		if k.filter, err = scimfilter.Parse(k.Filter); err != nil {
			return nil, fmt.Errorf("cloud groups of %s: %w", d.Name, err)
		}
	}
	if k.rules, err = rules.CompileOfResources(k.Rules); err != nil {
		return nil, fmt.Errorf("cloud groups of %s: %w", d.Name, err)
	}
	return k, nil
}

// Attributes lists what the directory is asked for.
func (k *Keeping) Attributes() []string {
	names := []string{k.Mark}
	if k.Dialect == entry.AD {
		names = append(names, "groupType")
	}
	for _, path := range k.rules.Targets() {
		names = append(names, path.String())
	}
	return names
}

// ObjectClass is that of the groups.
func (k *Keeping) ObjectClass() string {
	if k.Dialect == entry.AD {
		return "group"
	}
	return k.Class
}

// MarkOf is the id that an entry bears which lies in the container, "" for none.
func (k *Keeping) MarkOf(e entry.Entry) string {
	path, err := entry.PathOf(e.DN)
	container, err2 := entry.PathOf(k.Container)
	if err != nil || err2 != nil || !entry.PathUnder(path, container) {
		return ""
	}
	return e.Attributes.First(k.Mark)
}

// NeedsMember tells whether a group must have one.
func (k *Keeping) NeedsMember() bool {
	return k.Dialect != entry.AD && settings.Classes[k.Class].Needs
}

// MemberAttribute is that which holds the members.
func (k *Keeping) MemberAttribute() string {
	if k.Dialect == entry.AD {
		return "member"
	}
	return settings.Classes[k.Class].Member
}

// Code tells what decided a verdict.
type Code string

// The codes.
const (
	Chosen      Code = "chosen"
	Deleted     Code = "gone-from-cloud"
	OfDirectory Code = "of-a-directory"
	NoneYet     Code = "none-yet"
	NotOnly     Code = "not-chosen"
	Excepted    Code = "excepted"
	Filtered    Code = "filtered"
)

// Verdict is whether a group is kept.
type Verdict struct {
	In      bool
	Code    Code
	Summary string
}

// Chosen tells whether a group is kept: nil is one that the cloud no longer has, owner the
// name of the entry from which it comes, if a directory owns it, and there says that it is
// kept already. One that bears a link key comes from a directory too, though it may not be
// known here from which, such as after a database was lost; so it is kept only where the
// settings name it.
func (k *Keeping) Chosen(group entry.Resource, owner string, there bool) Verdict {
	switch {
	case group == nil:
		return Verdict{Code: Deleted, Summary: "out: the cloud no longer has the group"}
	case owner != "":
		return Verdict{Code: OfDirectory, Summary: "out: the group comes from " + owner + ", and that directory owns it"}
	case foreign(group) && !there && !slices.Contains(k.Only, group.ID()):
		return Verdict{Code: OfDirectory, Summary: "out: the group bears the link key " + group.ExternalID() + ", so it comes from somewhere, and nothing is linked to it; choose it by name to keep it all the same"}
	case slices.Contains(k.Except, group.ID()):
		return Verdict{Code: Excepted, Summary: "out: the settings except it"}
	case k.None:
		return Verdict{Code: NoneYet, Summary: "out: the settings keep no group yet"}
	case len(k.Only) > 0 && !slices.Contains(k.Only, group.ID()):
		return Verdict{Code: NotOnly, Summary: "out: the settings name the groups that are kept, and not this one"}
	case k.filter != nil && !k.filter.Matches(group):
		return Verdict{Code: Filtered, Summary: "out: the filter " + k.filter.String() + " does not keep it"}
	}
	return Verdict{In: true, Code: Chosen, Summary: "in: the group is kept in " + k.Container}
}

// foreign tells whether something else than the cloud has made a group.
func foreign(group entry.Resource) bool { return group.ExternalID() != "" }

// ExplainChosen tells how a verdict came about.
func (k *Keeping) ExplainChosen(group entry.Resource, owner string, there bool) reason.Node {
	v := k.Chosen(group, owner, there)
	node := reason.Node{Text: "the group is kept in " + k.Directory, Outcome: reason.Of(v.In), Value: v.Summary, Deciding: true}
	add := func(code Code, text string, holds bool, value string, children ...reason.Node) {
		node.Children = append(node.Children, reason.Node{Text: text, Outcome: reason.Of(holds), Value: value, Deciding: v.Code == code, Children: children})
	}
	add(Deleted, "the cloud has it", group != nil, "")
	if group == nil {
		return node
	}
	if owner == "" && v.Code == OfDirectory {
		owner = "it bears the link key " + group.ExternalID()
	}
	add(OfDirectory, "no directory owns it", owner == "", owner)
	add(Excepted, "the settings do not except it", !slices.Contains(k.Except, group.ID()), "")
	if k.None {
		add(NoneYet, "groups are kept", false, "none yet")
	}
	if len(k.Only) > 0 {
		add(NotOnly, "it is among those that the settings name", slices.Contains(k.Only, group.ID()), fmt.Sprintf("%d named", len(k.Only)))
	}
	if k.filter != nil {
		add(Filtered, "the filter keeps it", k.filter.Matches(group), "", k.filter.Explain(group))
	}
	return node
}

// Value is what one attribute of the entry shall hold.
type Value struct {
	Attribute  string
	Values     []string
	Source     string
	CreateOnly bool
}

// Wanted is the entry that a group should be.
type Wanted struct {
	DN      string
	Account string // its name across the domain, of the dialect ad
	Values  []Value
	// Problem is set when it cannot be made as it is.
	Problem *problem.Error
}

// What the dialect ad takes ([MS-ADA1], [MS-ADA3], [MS-SAMR] section 3.1.1.6).
const (
	longestName    = 64
	longestAccount = 256
	noAccount      = "\"/\\[]:;|=,+*?<>@"
)

// Want works the rules out on a group.
func (k *Keeping) Want(group entry.Resource) Wanted {
	out := Wanted{}
	desired := k.rules.Apply(k.person(group))
	if out.Problem = desired.Problem; out.Problem != nil {
		return out
	}
	for _, v := range desired.Values {
		name, values := v.Path.String(), texts(v.Value)
		switch {
		case strings.EqualFold(name, "cn"):
			if out.Problem = k.nameFault(name, values, longestName, ""); out.Problem != nil {
				return out
			}
			out.DN = "cn=" + entry.EscapeValue(values[0]) + "," + k.Container
			if k.Dialect == entry.AD {
				out.DN = "CN" + out.DN[2:]
			}
			continue // it is a part of the name, and changes with it
		case k.Dialect == entry.AD && strings.EqualFold(name, "sAMAccountName"):
			if out.Problem = k.nameFault(name, values, longestAccount, noAccount); out.Problem != nil {
				return out
			}
			out.Account = values[0]
		}
		out.Values = append(out.Values, Value{name, values, v.Source, v.CreateOnly})
	}
	out.Values = append(out.Values, Value{Attribute: k.Mark, Values: []string{group.ID()}, Source: "the group's id"})
	if k.Dialect == entry.AD {
		out.Values = append(out.Values, Value{Attribute: "groupType", Values: []string{k.groupType()}, Source: string(k.Type) + ", " + string(k.Scope)})
	}
	return out
}

// person gives the group the form that rules read.
func (k *Keeping) person(group entry.Resource) rules.Person {
	return rules.Person{{Directory: k.Directory, Kind: entry.Group, Attributes: group.Flat()}}
}

// ExplainRules tells of every rule what it gives for a group, and how.
func (k *Keeping) ExplainRules(group entry.Resource) []reason.Node {
	return k.rules.Explain(k.person(group))
}

// nameFault tells why a value cannot be the name that it is meant for.
func (k *Keeping) nameFault(attribute string, values []string, most int, never string) *problem.Error {
	fault := func(why string) *problem.Error {
		return problem.Of(problem.CloudGroupName, problem.Facts{Attribute: attribute, Value: strings.Join(values, " | "), Answer: why})
	}
	switch {
	case len(values) != 1 || strings.TrimSpace(values[0]) == "":
		return fault("it takes just one value")
	case k.Dialect == entry.AD && len([]rune(values[0])) > most:
		return fault(fmt.Sprintf("it has %d characters, and the directory takes %d", len([]rune(values[0])), most))
	case strings.ContainsAny(values[0], never):
		return fault("it must not have any of the characters " + never)
	case strings.ContainsFunc(values[0], unicode.IsControl):
		return fault("it has a control character")
	case never != "" && strings.HasSuffix(values[0], "."):
		return fault("it must not end with a full stop")
	}
	return nil
}

func texts(value any) []string {
	switch v := value.(type) {
	case nil:
		return nil
	case []string:
		return v
	case bool:
		return []string{strings.ToUpper(strconv.FormatBool(v))} // RFC 4517 section 3.3.3
	}
	return []string{fmt.Sprint(value)}
}

// The bits of groupType ([MS-ADTS] section 2.2.12).
const (
	bitGlobal    = 0x2
	bitLocal     = 0x4
	bitUniversal = 0x8
	bitSecurity  = -0x80000000
)

func (k *Keeping) groupType() string {
	bits := map[settings.GroupScope]int{settings.Global: bitGlobal, settings.DomainLocal: bitLocal, settings.Universal: bitUniversal}[k.Scope]
	if k.Type == settings.Security {
		bits += bitSecurity
	}
	return strconv.Itoa(bits)
}

// Refuses says why a group of this directory, by its groupType, cannot be a member of one
// that is kept; "" when it can ([MS-ADTS] section 6.1.1.4.13, by which controllers decide,
// though not all of them do).
func (k *Keeping) Refuses(groupType string) string {
	bits, err := strconv.Atoi(groupType)
	if k.Dialect != entry.AD || err != nil {
		return ""
	}
	switch refused := bits & k.RefusedBits(); {
	case refused&bitLocal != 0:
		return "a " + string(k.Scope) + " group cannot hold a domain-local one"
	case refused != 0:
		return "a global group cannot hold a universal one"
	}
	return ""
}

// RefusedBits are those of groupType by which a group cannot be a member, 0 for none.
func (k *Keeping) RefusedBits() int {
	switch {
	case k.Dialect != entry.AD || k.Scope == settings.DomainLocal:
		return 0
	case k.Scope == settings.Global:
		return bitLocal | bitUniversal
	}
	return bitLocal
}
