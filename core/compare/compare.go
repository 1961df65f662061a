// Package compare says in what the plans of two services differ, of which one may be of
// another version, or have other settings: each object by its entry.
package compare

import (
	"cmp"
	"fmt"
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

// Change is a plan with what it is about.
type Change struct {
	Entry string // directory and id
	// Written is what is written in a directory, by the resource that it is of; "" for the
	// resource in the cloud.
	Written        string
	Kind, Name, DN string
	Plan
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

// object tells an object from others.
type object struct{ entry, written string }

// Compare returns the differences in the order of names, and how many objects have the
// same planned by both. Who is in step has no change.
func Compare(here, there []Change) (alike int, differ []Difference) {
	objects := map[object]*Difference{}
	of := func(c Change) *Difference {
		key := object{c.Entry, c.Written}
		if objects[key] == nil {
			objects[key] = &Difference{Entry: c.Entry, Kind: c.Kind, Name: c.Name, DN: c.DN, Here: []Plan{}, There: []Plan{}}
		}
		return objects[key]
	}
	for _, c := range here {
		d := of(c)
		d.Here = append(d.Here, c.Plan)
	}
	for _, c := range there {
		d := of(c)
		d.There = append(d.There, c.Plan)
	}
	differ = []Difference{}
	for _, d := range objects {
		if slices.Equal(texts(d.Here), texts(d.There)) {
			alike++
		} else {
			differ = append(differ, *d)
		}
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
