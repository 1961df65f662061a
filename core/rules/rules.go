// Package rules turns an entry into the resource it should be: for every rule
// the value of one resource attribute, with where it came from. Only
// attributes with a rule are Kambrel's; nothing else of a resource is touched.
package rules

import (
	"fmt"
	"slices"
	"strings"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/formula"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/reason"
	"kambrel.example/kambrel/core/settings"
)

// Set is the compiled rules of one kind; it is immutable.
type Set struct{ rules []rule }

type rule struct {
	settings.Rule
	path    entry.Path
	formula *formula.Formula
}

// Value is what one rule gives for one entry.
type Value struct {
	Path entry.Path
	// Value is a string, bool, int64 or []string; nil means that the resource
	// shall have no value there.
	Value any
	// Source says where the value came from, as in "from title".
	Source string
}

// Desired is the resource an entry should be, as far as rules own it.
type Desired struct {
	Values []Value
	// Problem is set when the entry cannot be synced as it is.
	Problem *problem.Error
}

// Compile prepares the rules of a valid document.
func Compile(users settings.Users) (*Set, error) {
	set := &Set{}
	for i, r := range users.Rules {
		path, err := entry.ParsePath(r.Target)
		if err != nil {
			return nil, fmt.Errorf("users.rules[%d]: %w", i, err)
		}
		compiled := rule{Rule: r, path: path}
		if r.Formula != "" {
			if compiled.formula, err = formula.Compile(r.Formula); err != nil {
				return nil, fmt.Errorf("users.rules[%d]: %w", i, err)
			}
		}
		set.rules = append(set.rules, compiled)
	}
	return set, nil
}

// Attributes lists the directory attributes that the rules read.
func (s *Set) Attributes() []string {
	var names []string
	for _, r := range s.rules {
		if r.From != "" {
			names = append(names, r.From)
		}
		if r.formula != nil {
			names = append(names, r.formula.Attributes()...)
		}
	}
	return names
}

// AttributesOf lists the attributes from which the rule for a target makes its
// value.
func (s *Set) AttributesOf(target string) []string {
	for _, r := range s.rules {
		switch {
		case !strings.EqualFold(r.Target, target):
		case r.formula != nil:
			return r.formula.Attributes()
		case r.From != "":
			return []string{r.From}
		}
	}
	return nil
}

// Targets lists the resource attributes that the rules own.
func (s *Set) Targets() []entry.Path {
	paths := make([]entry.Path, len(s.rules))
	for i, r := range s.rules {
		paths[i] = r.path
	}
	return paths
}

// Apply works every rule out on an entry.
func (s *Set) Apply(e entry.Entry) Desired {
	desired := Desired{Values: make([]Value, 0, len(s.rules))}
	for _, r := range s.rules {
		value, err := r.value(e)
		switch {
		case err != nil:
			desired.Problem = firstProblem(desired.Problem, problem.New(problem.FormulaFailed, "the formula for %s: %s", r.Target, err))
			continue
		case value == nil && r.Required:
			desired.Problem = firstProblem(desired.Problem, problem.New(problem.RequiredMissing, "%s would be empty: %s", r.Target, r.lacks(e)))
			continue
		}
		desired.Values = append(desired.Values, Value{Path: r.path, Value: value, Source: r.source()})
	}
	return desired
}

func firstProblem(have, next *problem.Error) *problem.Error {
	if have != nil {
		return have
	}
	return next
}

// Value returns the desired value of a target, nil when there is none.
func (d Desired) Value(target string) any {
	for _, v := range d.Values {
		if strings.EqualFold(v.Path.String(), target) {
			return v.Value
		}
	}
	return nil
}

// Text returns the desired value of a target as text.
func (d Desired) Text(target string) string {
	text, _ := d.Value(target).(string)
	return text
}

func (r rule) value(e entry.Entry) (any, error) {
	switch {
	case r.formula != nil:
		return r.formula.Evaluate(e)
	case r.From != "":
		if text := strings.TrimSpace(e.Attributes.First(r.From)); text != "" {
			return text, nil
		}
		return nil, nil
	}
	switch fixed := r.Always.(type) {
	case uint64:
		return int64(fixed), nil
	case int:
		return int64(fixed), nil
	}
	return r.Always, nil
}

func (r rule) source() string {
	switch {
	case r.formula != nil:
		return "formula " + r.Formula
	case r.From != "":
		return "from " + r.From
	}
	return fmt.Sprintf("always %v", r.Always)
}

func (r rule) lacks(e entry.Entry) string {
	names := []string{r.From}
	if r.formula != nil {
		names = slices.Clone(r.formula.Attributes())
	}
	names = slices.DeleteFunc(names, func(name string) bool { return e.Attributes.First(name) != "" })
	return "the entry has no " + strings.Join(names, ", ")
}

// Explain tells for every rule the value it gives on the entry and how.
func (s *Set) Explain(e entry.Entry) []reason.Node {
	nodes := make([]reason.Node, 0, len(s.rules))
	for _, r := range s.rules {
		value, err := r.value(e)
		node := reason.Node{Text: r.Target, Outcome: reason.Note, Value: Show(value), Source: r.source()}
		if r.formula != nil {
			node.Children = r.formula.Explain(e).Children
		}
		switch {
		case err != nil:
			node.Outcome, node.Value, node.Deciding = reason.Bad, err.Error(), true
		case value == nil && r.Required:
			node.Outcome, node.Value, node.Deciding = reason.Bad, "required, and "+r.lacks(e), true
		case value == nil:
			node.Value = "(no value)"
		}
		nodes = append(nodes, node)
	}
	return nodes
}

// Show writes a value for people.
func Show(value any) string {
	switch v := value.(type) {
	case nil:
		return ""
	case string:
		return v
	case []string:
		return strings.Join(v, " | ")
	}
	return fmt.Sprint(value)
}
