package rules

import (
	"slices"
	"strings"

	"kambrel.example/kambrel/core/entry"
)

// Members is the target under which a group's members stand; they are kept as
// rows and not among the values.
const Members = "members"

// Reference is a rule whose value is the resource of another entry.
type Reference struct {
	Path      entry.Path
	Attribute string
	prefer    []string
}

// Pointing is whom one entry of a person names: ids of resources by attribute
// in small letters, "" where the one who is named has none.
type Pointing struct {
	Directory string
	To        map[string]string
}

// References lists the rules that follow links, without that for members.
func (s *Set) References() []Reference {
	var out []Reference
	for _, r := range s.rules {
		if r.Reference != "" && !r.members() {
			out = append(out, Reference{r.path, r.Reference, r.Prefer})
		}
	}
	return out
}

// Refers tells whether a rule makes a target from the entries that another names.
func (s *Set) Refers(target string) bool {
	return slices.ContainsFunc(s.References(), func(r Reference) bool { return strings.EqualFold(r.Path.String(), target) })
}

// Loose tells whether a resource names somebody by an attribute by which these attributes
// of its entry name nobody.
func (s *Set) Loose(attributes entry.Attributes, resource entry.Resource) bool {
	return slices.ContainsFunc(s.References(), func(r Reference) bool {
		if value := r.Path.Get(resource); value == nil || value == "" {
			return false
		}
		return !slices.ContainsFunc(attributes.All(r.Attribute), func(value string) bool {
			_, err := entry.ParseDN(value)
			return err == nil
		})
	})
}

// Members tells whether a rule owns the members of groups.
func (s *Set) Members() bool { return slices.ContainsFunc(s.rules, rule.members) }

func (r rule) members() bool { return strings.EqualFold(r.Target, Members) }

// Value asks the entries of a person, in the rule's order, for the first that
// names somebody with a resource; nil when none does. Source says where the
// value came from.
func (r Reference) Value(person []Pointing) (value any, source string) {
	source = "reference " + r.Attribute
	for _, p := range Preferred(person, r.prefer, func(p Pointing) string { return p.Directory }) {
		if id := p.To[strings.ToLower(r.Attribute)]; id != "" {
			if len(person) > 1 {
				source += ", of " + p.Directory
			}
			return id, source
		}
	}
	return nil, source
}
