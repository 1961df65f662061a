// Package compare says in what the plans of two services differ, of which one may be of
// another version, or have other settings: each object by its entry.
package compare

import (
	"cmp"
	"fmt"
	"maps"
	"slices"

	"kambrel.example/kambrel/core/change"
)

// Plan is what a service would do about an object: one of several changes.
type Plan struct {
	Operation string        `json:"operation"`
	Code      string        `json:"code,omitempty" doc:"The problem that stands against it"`
	Held      bool          `json:"held,omitempty"`
	Diffs     []change.Diff `json:"diffs"`
}

// Object is an object with all that is planned for it, nothing where it is in step.
type Object struct {
	Entry string // directory and id
	Kind  string
	Name  string
	DN    string
	Plans []Plan
}

// Difference is an object about which the two would do something else.
type Difference struct {
	Entry string `json:"entry" doc:"Directory and id of the entry"`
	Kind  string `json:"kind"`
	Name  string `json:"name"`
	DN    string `json:"dn"`
	Here  []Plan `json:"here"`
	There []Plan `json:"there"`
}

// Compare returns the differences in the order of names, and how many objects have the
// same planned by both.
func Compare(here, there []Object) (alike int, differ []Difference) {
	others := map[string]Object{}
	for _, object := range there {
		others[object.Entry] = object
	}
	of := func(o Object) Difference {
		return Difference{Entry: o.Entry, Kind: o.Kind, Name: o.Name, DN: o.DN, Here: []Plan{}, There: []Plan{}}
	}
	for _, object := range here {
		other := others[object.Entry]
		delete(others, object.Entry)
		if slices.Equal(texts(object.Plans), texts(other.Plans)) {
			alike++
			continue
		}
		d := of(object)
		d.Here, d.There = object.Plans, append(d.There, other.Plans...)
		differ = append(differ, d)
	}
	for object := range maps.Values(others) {
		d := of(object)
		d.There = object.Plans
		differ = append(differ, d)
	}
	slices.SortFunc(differ, func(a, b Difference) int {
		return cmp.Or(cmp.Compare(a.Kind, b.Kind), cmp.Compare(a.Name, b.Name), cmp.Compare(a.Entry, b.Entry))
	})
	return alike, differ
}

// texts puts plans into words that are equal where they do the same, whatever the order
// in which they were decided, and by which rule.
func texts(plans []Plan) []string {
	var out []string
	for _, p := range plans {
		if len(p.Diffs) == 0 {
			out = append(out, fmt.Sprint(p.Operation, p.Code, p.Held))
		}
		for _, diff := range p.Diffs {
			out = append(out, fmt.Sprintf("%s %s %t %s %v %v %v", p.Operation, p.Code, p.Held, diff.Target, diff.After, members(diff.Added), members(diff.Removed)))
		}
	}
	slices.Sort(out)
	return out
}

func members(list []change.Member) []string {
	values := make([]string, len(list))
	for i, m := range list {
		values[i] = m.Value
	}
	slices.Sort(values)
	return values
}
