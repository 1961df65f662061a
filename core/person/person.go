// Package person finds which entries of several directories are one person, and
// which of them leads: it bears the link, and the others lend their values. A
// doubt is a problem; nothing is guessed. All of it is pure.
package person

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"unicode"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/formula"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/settings"
)

// Rules are the compiled person rules of one kind.
type Rules struct {
	rules   []rule
	carried string
}

type rule struct {
	settings.PersonRule
	formula *formula.Formula
}

// CarriedRule is the name of the rule by which an entry bears the id that the
// person had in another directory.
const CarriedRule = "carried id"

// Compile prepares the person rules of a kind in a valid document.
func Compile(of settings.Taking) (*Rules, error) {
	out := &Rules{carried: of.CarriedID}
	for i, r := range of.Person {
		one := rule{PersonRule: r}
		if r.Formula != "" {
			var err error
			if one.formula, err = formula.Compile(r.Formula); err != nil {
				return nil, fmt.Errorf("person[%d]: %w", i, err)
			}
		}
		out.rules = append(out.rules, one)
	}
	return out, nil
}

// Empty tells whether no entry is ever one with another.
func (r *Rules) Empty() bool { return len(r.rules) == 0 && r.carried == "" }

// Attributes lists the directory attributes that the rules read.
func (r *Rules) Attributes() []string {
	var names []string
	if r.carried != "" {
		names = append(names, r.carried)
	}
	for _, one := range r.rules {
		if one.formula != nil {
			names = append(names, one.formula.Attributes()...)
		} else {
			names = append(names, one.From)
		}
	}
	return names
}

// AsksForGroups tells whether a rule needs the groups that hold the entry.
func (r *Rules) AsksForGroups() bool {
	return slices.ContainsFunc(r.rules, func(one rule) bool { return one.formula != nil && one.formula.AsksForGroups() })
}

// Carried reads the ids that an entry bears from other directories: in textual
// form, in hex or base64, or as the 16 octets themselves.
func (r *Rules) Carried(e entry.Entry) []entry.ID {
	if r.carried == "" {
		return nil
	}
	var ids []entry.ID
	for _, value := range e.Attributes.All(r.carried) {
		if found, err := entry.ParseIDs(value); err == nil {
			ids = append(ids, found...)
		} else if len(value) == 16 && strings.ContainsFunc(value, func(r rune) bool { return !unicode.IsPrint(r) }) {
			if id, err := entry.IDFromObjectGUID([]byte(value)); err == nil {
				ids = append(ids, id)
			}
		}
	}
	return ids
}

// Keys are the texts by which an entry is one with others that have one of them.
func (r *Rules) Keys(e entry.Entry) []string {
	if r.Empty() {
		return nil
	}
	var keys []string
	add := func(name, value string) {
		value = strings.ToLower(strings.TrimSpace(value))
		if key := name + "=" + value; value != "" && !slices.Contains(keys, key) {
			keys = append(keys, key)
		}
	}
	for _, one := range r.rules {
		if one.formula == nil {
			add(one.Name, e.Attributes.First(one.From))
			continue
		}
		// Where a formula fails for an entry, it says nothing about it.
		if value, err := one.formula.Evaluate(e); err == nil && value != nil {
			add(one.Name, fmt.Sprint(value))
		}
	}
	if r.carried != "" {
		add(CarriedRule, e.ID.String())
		for _, id := range r.Carried(e) {
			add(CarriedRule, id.String())
		}
	}
	return keys
}

// Member is one entry of those that share keys.
type Member struct {
	Directory string
	ID        entry.ID
	DN        string
	Order     int // of its directory in the settings
	Keys      []string
	Inside    bool // it is in scope
	// ResourceID is set when the entry has a link; Left when it has left.
	ResourceID string
	Left       bool
}

// Ref names the entry.
func (m Member) Ref() entry.Ref { return entry.Ref{Directory: m.Directory, ID: m.ID} }

// Outcome is what is decided about one member.
type Outcome struct {
	Member
	// Lead is the entry that this one follows, nil when it stands for itself.
	Lead *Member
	// Rule is the person rule that ties it to its lead.
	Rule string
	// From is the entry out of scope whose link goes over to this one.
	From    *Member
	Problem *problem.Error
}

// Decide divides members into persons and says of each member what it is.
// Members out of scope are in it only as those from whom a link is taken.
func Decide(members []Member) []Outcome {
	var out []Outcome
	for _, person := range persons(members) {
		out = append(out, decide(person)...)
	}
	return out
}

// persons puts together whoever shares a key, through others too.
func persons(members []Member) [][]Member {
	parent := make([]int, len(members))
	var find func(int) int
	find = func(i int) int {
		if parent[i] != i {
			parent[i] = find(parent[i])
		}
		return parent[i]
	}
	first := map[string]int{}
	for i, m := range members {
		parent[i] = i
		for _, key := range m.Keys {
			if other, ok := first[key]; ok {
				parent[find(i)] = find(other)
			} else {
				first[key] = i
			}
		}
	}
	var roots []int
	groups := map[int][]Member{}
	for i, m := range members {
		root := find(i)
		if groups[root] == nil {
			roots = append(roots, root)
		}
		groups[root] = append(groups[root], m)
	}
	out := make([][]Member, len(roots))
	for i, root := range roots {
		out[i] = groups[root]
	}
	return out
}

func decide(person []Member) []Outcome {
	slices.SortFunc(person, func(a, b Member) int {
		return cmp.Or(cmp.Compare(a.Order, b.Order), strings.Compare(a.DN, b.DN), slices.Compare(a.ID[:], b.ID[:]))
	})
	var inside, donors []Member
	var out []Outcome
	for _, m := range person {
		switch {
		case m.Inside:
			inside = append(inside, m)
		default:
			out = append(out, Outcome{Member: m})
			if m.ResourceID != "" {
				donors = append(donors, m)
			}
		}
	}
	if len(inside) == 0 {
		return out
	}
	lead := inside[0]
	for _, m := range inside {
		if m.ResourceID != "" {
			lead = m
			break
		}
	}
	if !severalDirectories(inside) {
		for _, m := range inside {
			o := Outcome{Member: m}
			if len(inside) == 1 && m.ResourceID == "" {
				o.From = donor(donors)
			}
			out = append(out, o)
		}
		return out
	}
	twice := twiceIn(inside)
	for _, m := range inside {
		o := Outcome{Member: m}
		switch {
		case m.ID == lead.ID && m.Directory == lead.Directory:
			if twice != nil && m.ResourceID == "" {
				o.Problem = twice
			} else if m.ResourceID == "" {
				o.From = donor(donors)
			}
		case m.ResourceID == "" && twice != nil:
			o.Problem = twice
		case m.ResourceID == "":
			o.Lead, o.Rule = &lead, shared(m, lead, person)
		case twice == nil:
			o.Problem = problem.Of(problem.PersonTwoResources, problem.Facts{Rule: shared(m, lead, person), Entries: []problem.Entry{problem.EntryOf(lead.Ref(), lead.DN)},
				Resources: []problem.Resource{{ID: lead.ResourceID}, {ID: m.ResourceID}}})
		}
		out = append(out, o)
	}
	return out
}

// severalDirectories tells whether members are of more than one. Within one
// alone, entries that share a value are people of their own.
func severalDirectories(members []Member) bool {
	return slices.ContainsFunc(members, func(m Member) bool { return m.Directory != members[0].Directory })
}

// twiceIn is the problem of several entries of one directory that would be one
// with somebody of another directory.
func twiceIn(inside []Member) *problem.Error {
	byDirectory := map[string][]problem.Entry{}
	for _, m := range inside {
		byDirectory[m.Directory] = append(byDirectory[m.Directory], problem.EntryOf(m.Ref(), m.DN))
	}
	for _, m := range inside {
		if entries := byDirectory[m.Directory]; len(entries) > 1 {
			return problem.Of(problem.PersonAmbiguous, problem.Facts{Entries: entries})
		}
	}
	return nil
}

// donor is the entry out of scope whose link goes over: one that has not left
// before one that has.
func donor(donors []Member) *Member {
	if len(donors) == 0 {
		return nil
	}
	for i, m := range donors {
		if !m.Left {
			return &donors[i]
		}
	}
	return &donors[0]
}

// shared names the rule that ties two members, and through whom: it may be an
// entry out of scope, such as the one whose id was carried over.
func shared(a, b Member, person []Member) string {
	for _, key := range a.Keys {
		if slices.Contains(b.Keys, key) {
			name, _, _ := strings.Cut(key, "=")
			return name
		}
	}
	for _, key := range a.Keys {
		for _, m := range person {
			if m.ID != a.ID && slices.Contains(m.Keys, key) {
				name, _, _ := strings.Cut(key, "=")
				return name + ", through " + m.DN
			}
		}
	}
	return ""
}
