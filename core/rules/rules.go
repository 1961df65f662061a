// Package rules turns an entry into the resource it should be: for every rule
// the value of one resource attribute, with where it came from. Only
// attributes with a rule are Kambrel's; nothing else of a resource is touched.
package rules

import (
	"encoding/json"
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

// Person is the entries that are one person, in the order of the directories
// in the settings; for most people it is one entry.
type Person []entry.Entry

type rule struct {
	settings.Rule
	path                    entry.Path
	formula, when, fallback *formula.Formula
	granted                 []grant
}

// grant gives value to the members of a group.
type grant struct {
	group entry.DN
	value string
}

// Value is what one rule gives for one entry.
type Value struct {
	Path entry.Path
	// Value is a string, bool, int64 or []string; nil means that the resource
	// shall have no value there.
	Value any
	// Source says where the value came from, as in "from title".
	Source string
	// CreateOnly: it is given to new resources only.
	CreateOnly bool
	// Granted is set where the rule owns some values of the attribute only.
	Granted *Granted
}

// Granted is what a rule gives by membership: of the values that it owns, those
// that the resource shall have.
type Granted struct{ Have, Owned []string }

// Desired is the resource an entry should be, as far as rules own it.
type Desired struct {
	Values []Value
	// Problem is set when the entry cannot be synced as it is.
	Problem *problem.Error
}

// Compile prepares the rules of a kind in a valid document.
func Compile(of settings.Taking) (*Set, error) { return compile(of.Rules, formula.Compile) }

// CompileOfResources prepares rules that make attributes of an entry from a resource.
func CompileOfResources(list []settings.Rule) (*Set, error) {
	return compile(list, formula.CompileOfResource)
}

func compile(list []settings.Rule, compileFormula func(string) (*formula.Formula, error)) (*Set, error) {
	set := &Set{}
	for i, r := range list {
		path, err := entry.ParsePath(r.Target)
		if err != nil {
			return nil, fmt.Errorf("rules[%d]: %w", i, err)
		}
		compiled := rule{Rule: r, path: path}
		for _, f := range []struct {
			text string
			into **formula.Formula
		}{{r.Formula, &compiled.formula}, {r.When, &compiled.when}, {r.Fallback, &compiled.fallback}} {
			if f.text == "" {
				continue
			}
			if *f.into, err = compileFormula(f.text); err != nil {
				return nil, fmt.Errorf("rules[%d]: %w", i, err)
			}
		}
		for _, g := range r.Granted {
			dn, err := entry.ParseDN(g.Group)
			if err != nil {
				return nil, fmt.Errorf("rules[%d]: %w", i, err)
			}
			compiled.granted = append(compiled.granted, grant{dn, g.Value})
		}
		set.rules = append(set.rules, compiled)
	}
	return set, nil
}

// Empty tells whether there are no rules, so that the kind is not written.
func (s *Set) Empty() bool { return len(s.rules) == 0 }

// AsksForGroups tells whether a rule needs the groups that hold the entry.
func (s *Set) AsksForGroups() bool {
	return slices.ContainsFunc(s.rules, func(r rule) bool {
		return len(r.granted) > 0 || slices.ContainsFunc(r.formulas(), (*formula.Formula).AsksForGroups)
	})
}

// Groups lists the groups whose members are granted something.
func (s *Set) Groups() []string {
	var names []string
	for _, r := range s.rules {
		for _, g := range r.granted {
			names = append(names, g.group.String())
		}
	}
	return names
}

// formulas lists those that a rule has.
func (r rule) formulas() []*formula.Formula {
	return slices.DeleteFunc([]*formula.Formula{r.formula, r.when, r.fallback}, func(f *formula.Formula) bool { return f == nil })
}

// reads lists the directory attributes that a rule reads.
func (r rule) reads() []string {
	var names []string
	if r.From != "" {
		names = append(names, r.From)
	}
	if r.Reference != "" && !r.members() {
		names = append(names, r.Reference)
	}
	for _, f := range r.formulas() {
		names = append(names, f.Attributes()...)
	}
	return names
}

// Attributes lists the directory attributes that the rules read.
func (s *Set) Attributes() []string {
	var names []string
	for _, r := range s.rules {
		names = append(names, r.reads()...)
	}
	return names
}

// AttributesOf lists the attributes from which the rule for a target makes its
// value.
func (s *Set) AttributesOf(target string) []string {
	for _, r := range s.rules {
		if strings.EqualFold(r.Target, target) {
			return r.reads()
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

// Apply works every rule out on the entries of one person.
func (s *Set) Apply(person Person) Desired {
	desired := Desired{Values: make([]Value, 0, len(s.rules))}
	for _, r := range s.rules {
		if r.Reference != "" {
			continue
		}
		value, e, err := r.best(person)
		switch {
		case err != nil:
			desired.Problem = firstProblem(desired.Problem, problem.Of(problem.FormulaFailed, problem.Facts{Attribute: r.Target, Answer: err.Error()}))
			continue
		case value == nil && r.Required:
			desired.Problem = firstProblem(desired.Problem, problem.Of(problem.RequiredMissing, problem.Facts{Attribute: r.Target, Lacks: r.lacks(e)}))
			continue
		}
		next := Value{Path: r.path, Value: value, Source: r.sourceOf(person, e), CreateOnly: r.CreateOnly}
		if len(r.granted) > 0 {
			next.Value, next.Granted = nil, r.owned(value)
		}
		desired.Values = append(desired.Values, next)
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

// Texts lists the desired values at paths with a key (entry.Path.Key).
func (d Desired) Texts(key string) []string {
	var texts []string
	for _, v := range d.Values {
		if v.Path.Key() != key {
			continue
		}
		switch value := v.Value.(type) {
		case string:
			texts = append(texts, value)
		case []string:
			texts = append(texts, value...)
		}
	}
	return texts
}

// Text returns the desired value of a target as text.
func (d Desired) Text(target string) string {
	text, _ := d.Value(target).(string)
	return text
}

// ordered are the entries of a person in the order in which the rule asks them.
func (r rule) ordered(person Person) Person {
	return Preferred(person, r.Prefer, func(e entry.Entry) string { return e.Directory })
}

// Preferred puts first what comes from the directories that are named, in their
// order; the rest keeps its own.
func Preferred[T any](items []T, directories []string, directory func(T) string) []T {
	if len(items) < 2 || len(directories) == 0 {
		return items
	}
	rank := func(item T) int {
		if at := slices.Index(directories, directory(item)); at >= 0 {
			return at
		}
		return len(directories)
	}
	out := slices.Clone(items)
	slices.SortStableFunc(out, func(a, b T) int { return rank(a) - rank(b) })
	return out
}

// best asks the entries in their order for a value before any fallback, and
// tells whose counted. What is granted is granted by every entry.
func (r rule) best(person Person) (any, entry.Entry, error) {
	ordered := r.ordered(person)
	first := ordered[0]
	if len(ordered) == 1 {
		value, err := r.value(first)
		return value, first, err
	}
	if len(r.granted) > 0 {
		for _, e := range ordered[1:] {
			first.AllGroups = append(slices.Clone(first.AllGroups), e.AllGroups...)
		}
		value, err := r.value(first)
		return value, first, err
	}
	own := r
	own.fallback = nil
	for _, e := range ordered {
		if value, err := own.value(e); err != nil || value != nil && value != "" {
			return value, e, err
		}
	}
	value, err := r.value(first)
	return value, first, err
}

// sourceOf also names the directory where a person has several entries.
func (r rule) sourceOf(person Person, e entry.Entry) string {
	if len(person) < 2 || len(r.granted) > 0 {
		return r.source()
	}
	return r.source() + ", of " + e.Directory
}

// value works the rule out: where its condition holds and it gives something,
// that, else its fallback.
func (r rule) value(e entry.Entry) (any, error) {
	holds := true
	if r.when != nil {
		value, err := r.when.Evaluate(e)
		if err != nil {
			return nil, fmt.Errorf("its condition: %w", err)
		}
		holds, _ = value.(bool)
	}
	if holds {
		value, err := r.gives(e)
		if err != nil || value != nil {
			return value, err
		}
	}
	if r.fallback == nil {
		return nil, nil
	}
	value, err := r.fallback.Evaluate(e)
	if err != nil {
		return nil, fmt.Errorf("its fallback: %w", err)
	}
	if text, ok := value.(string); ok && len(r.granted) > 0 {
		return []string{text}, nil
	}
	return value, nil
}

// gives is the value without condition and fallback.
func (r rule) gives(e entry.Entry) (any, error) {
	switch {
	case r.formula != nil:
		return r.formula.Evaluate(e)
	case len(r.granted) > 0:
		var values []string
		for _, g := range r.granted {
			if g.holds(e) && !slices.Contains(values, g.value) {
				values = append(values, g.value)
			}
		}
		if values == nil {
			return nil, nil
		}
		return values, nil
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

func (g grant) holds(e entry.Entry) bool {
	return slices.ContainsFunc(e.AllGroups, func(name string) bool {
		dn, err := entry.ParseDN(name)
		return err == nil && dn.Equal(g.group)
	})
}

// owned tells which values the rule owns and which of them are given.
func (r rule) owned(value any) *Granted {
	out := &Granted{}
	out.Have, _ = value.([]string)
	for _, g := range r.granted {
		if !slices.Contains(out.Owned, g.value) {
			out.Owned = append(out.Owned, g.value)
		}
	}
	return out
}

func (r rule) source() string {
	switch {
	case r.formula != nil:
		return "formula " + r.Formula
	case r.From != "":
		return "from " + r.From
	case r.Reference != "":
		return "reference " + r.Reference
	case len(r.granted) > 0:
		return "granted by membership"
	}
	return fmt.Sprintf("always %v", r.Always)
}

func (r rule) lacks(e entry.Entry) []string {
	return slices.DeleteFunc(r.reads(), func(name string) bool { return e.Attributes.First(name) != "" })
}

// Explain tells for every rule the value it gives on the person's entries and how.
func (s *Set) Explain(person Person) []reason.Node {
	nodes := make([]reason.Node, 0, len(s.rules))
	for _, r := range s.rules {
		if len(person) == 1 || r.Reference != "" {
			nodes = append(nodes, r.explain(person[0]))
			continue
		}
		_, best, _ := r.best(person) // the error is in the node
		node := r.explain(best)
		node.Source = r.sourceOf(person, best)
		for _, e := range r.ordered(person) {
			if e.Directory != best.Directory {
				other := r.explain(e)
				other.Text = "of " + e.Directory + ", which does not count"
				node.Children = append(node.Children, other)
			}
		}
		nodes = append(nodes, node)
	}
	return nodes
}

func (r rule) explain(e entry.Entry) reason.Node {
	node := reason.Node{Text: r.Target, Outcome: reason.Note, Source: r.source()}
	if r.Reference != "" {
		node.Value = "the resources of the entries that it names"
		return node
	}
	value, err := r.value(e)
	node.Value = Show(value)
	if r.when != nil {
		condition := r.when.Explain(e)
		condition.Text, condition.Outcome = "when "+r.When, reason.Of(condition.Value == "true")
		condition.Deciding = condition.Value == "false"
		node.Children = append(node.Children, condition)
	}
	if r.formula != nil {
		node.Children = append(node.Children, r.formula.Explain(e).Children...)
	}
	for _, g := range r.granted {
		node.Children = append(node.Children, reason.Node{Text: "member of " + g.group.String(), Outcome: reason.Of(g.holds(e)), Value: g.value})
	}
	if r.fallback != nil {
		fallback := r.fallback.Explain(e)
		fallback.Text = "fallback " + r.Fallback
		node.Children = append(node.Children, fallback)
	}
	if r.CreateOnly {
		node.Source += ", on creation only"
	}
	switch {
	case err != nil:
		node.Outcome, node.Value, node.Deciding = reason.Bad, err.Error(), true
	case value == nil && r.Required:
		node.Outcome, node.Value, node.Deciding = reason.Bad, "required, and "+problem.Lacks(r.lacks(e)), true
	case value == nil:
		node.Value = "(no value)"
	}
	return node
}

// Show writes a value for people; one with parts is JSON.
func Show(value any) string {
	switch v := value.(type) {
	case nil:
		return ""
	case string:
		return v
	case []string:
		return strings.Join(v, " | ")
	case map[string]any, []any:
		var text strings.Builder
		encoder := json.NewEncoder(&text)
		encoder.SetEscapeHTML(false)
		if encoder.Encode(v) == nil {
			return strings.TrimSpace(text.String())
		}
	}
	return fmt.Sprint(value)
}
