// Package change is what differs between a resource and what it shall be, attribute by
// attribute: compared, shown, done to a resource in memory, and written as a SCIM
// PATCH. All of it is pure.
package change

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/reason"
	"kambrel.example/kambrel/core/rules"
)

// Side is one of the two sides that are kept in step. A change names the side where
// it is written, and a link the side that decides about the pair.
type Side string

// The sides.
const (
	Cloud     Side = "cloud"     // a resource
	Directory Side = "directory" // an entry
)

// Diff is the change of one resource attribute.
type Diff struct {
	Target string `json:"target"`
	Before any    `json:"before"`
	After  any    `json:"after"`
	// Added and Removed are set where single elements of a multi-valued
	// attribute come and go: members of a group, or what a membership grants.
	Added   []Member `json:"added,omitempty"`
	Removed []Member `json:"removed,omitempty"`
	// Source is the rule that caused it.
	Source string `json:"source"`
}

// Member is one element of a multi-valued attribute.
type Member struct {
	Value string `json:"value" doc:"The id of the resource, or the value itself"`
	Type  string `json:"type,omitempty" doc:"User, Group or Contact"`
	Name  string `json:"name,omitempty" doc:"What people call it"`
}

// Members makes elements of values.
func Members(values []string) []Member {
	var out []Member
	for _, value := range values {
		out = append(out, Member{Value: value})
	}
	return out
}

// Removed lists the values of all elements that diffs take away.
func Removed(diffs []Diff) []string {
	var values []string
	for _, d := range diffs {
		for _, m := range d.Removed {
			values = append(values, m.Value)
		}
	}
	return values
}

// Elements tells whether the diff is about single elements.
func (d Diff) Elements() bool { return len(d.Added) > 0 || len(d.Removed) > 0 }

// Done tells whether a resource is as the diff would make it. What became of
// members cannot be told, since resources are kept without them.
func (d Diff) Done(resource entry.Resource) bool {
	path, err := entry.ParsePath(d.Target)
	if err != nil || path.Attribute == rules.Members {
		return false
	}
	if !d.Elements() {
		return Forms(nil).Means(path, resource, d.After)
	}
	have := path.Values(resource)
	return !slices.ContainsFunc(d.Added, func(m Member) bool { return !slices.Contains(have, m.Value) }) &&
		!slices.ContainsFunc(d.Removed, func(m Member) bool { return slices.Contains(have, m.Value) })
}

// Altered tells what a resource has in the place of what the diffs would give it.
// What became of members cannot be told.
func Altered(resource entry.Resource, diffs []Diff) []problem.Altered {
	var altered []problem.Altered
	for _, d := range diffs {
		path, err := entry.ParsePath(d.Target)
		if err != nil || path.Attribute == rules.Members || d.Done(resource) {
			continue
		}
		sent, kept := orNothing(d.After), orNothing(path.Get(resource))
		if d.Elements() {
			sent, kept = ShowElements(d), strings.Join(path.Values(resource), ", ")
		}
		altered = append(altered, problem.Altered{Target: d.Target, Sent: sent, Kept: kept})
	}
	return altered
}

// Same compares a value as JSON decodes it with a value as rules make it. No
// value, an empty text and an empty list are the same (RFC 7643 section 2.5).
func Same(a, b any) bool { return canonical(a) == canonical(b) }

func canonical(value any) string {
	switch v := value.(type) {
	case nil:
		return ""
	case string:
		return v
	case []string:
		return fmt.Sprintf("%q", v)
	case []any:
		if len(v) == 0 {
			return ""
		}
		texts := make([]string, len(v))
		for i, item := range v {
			texts[i] = canonical(item)
		}
		return fmt.Sprintf("%q", texts)
	case int64:
		return number(float64(v))
	case int:
		return number(float64(v))
	case float64:
		return number(v)
	}
	return fmt.Sprint(value)
}

// number writes a number so that one of a rule and one of JSON are the same text.
func number(v float64) string { return strconv.FormatFloat(v, 'f', -1, 64) }

// NewResource builds the resource that a create sends.
func NewResource(diffs []Diff) (entry.Resource, error) {
	resource := entry.Resource{}
	return resource, Advance(resource, diffs)
}

// Advance brings a resource to the state after the diffs.
func Advance(resource entry.Resource, diffs []Diff) error {
	for _, diff := range diffs {
		path, err := entry.ParsePath(diff.Target)
		if err != nil {
			return err
		}
		switch {
		case diff.Elements():
			for _, m := range diff.Removed {
				path.RemoveValue(resource, m.Value)
			}
			for _, m := range diff.Added {
				path.AddElement(resource, m.element())
			}
		case diff.After == nil:
			path.Remove(resource)
		default:
			path.Set(resource, diff.After)
		}
	}
	return nil
}

// element is the member as it is sent (RFC 7643 section 2.4).
func (m Member) element() map[string]any {
	element := map[string]any{"value": m.Value}
	if m.Type != "" {
		element["type"] = m.Type
	}
	return element
}

// Explain states each change of an attribute as a reason.
func Explain(diffs []Diff) []reason.Node {
	nodes := make([]reason.Node, 0, len(diffs))
	for _, diff := range diffs {
		node := reason.Node{Text: diff.Target, Outcome: reason.Note, Source: diff.Source, Value: fmt.Sprintf("%s -> %s", orNothing(diff.Before), orNothing(diff.After))}
		if diff.Elements() {
			node.Value = ShowElements(diff)
		}
		nodes = append(nodes, node)
	}
	return nodes
}

// ShowElements writes what comes and goes for people.
func ShowElements(diff Diff) string {
	const most = 5
	var parts []string
	for _, side := range []struct {
		sign    string
		members []Member
	}{{"+", diff.Added}, {"-", diff.Removed}} {
		for i, m := range side.members {
			if i == most {
				parts = append(parts, fmt.Sprintf("%s%d more", side.sign, len(side.members)-most))
				break
			}
			parts = append(parts, side.sign+cmp.Or(m.Name, m.Value))
		}
	}
	return strings.Join(parts, ", ")
}

func orNothing(value any) string {
	if text := rules.Show(value); text != "" {
		return text
	}
	return "(nothing)"
}

// Texts are the values of a diff as a directory takes them, none for no value.
func Texts(value any) []string {
	switch v := value.(type) {
	case nil:
		return []string{}
	case string:
		return []string{v}
	case []string:
		return v
	case []any: // as JSON has it
		out := make([]string, len(v))
		for i, one := range v {
			out[i] = fmt.Sprint(one)
		}
		return out
	}
	return []string{fmt.Sprint(value)}
}
