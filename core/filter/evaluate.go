package filter

import (
	"strconv"
	"strings"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/reason"
)

// Matching rules that AD-compatible directories add to RFC 4517.
const (
	bitAnd = "1.2.840.113556.1.4.803"
	bitOr  = "1.2.840.113556.1.4.804"
)

// Matches tells whether the filter keeps the entry.
func (f *Filter) Matches(e entry.Entry) bool {
	switch f.Operator {
	case And:
		for _, child := range f.Children {
			if !child.Matches(e) {
				return false
			}
		}
		return true
	case Or:
		for _, child := range f.Children {
			if child.Matches(e) {
				return true
			}
		}
		return false
	case Not:
		return !f.Children[0].Matches(e)
	}
	values := e.Attributes.All(f.Attribute)
	if f.DNAttributes {
		values = append(values[:len(values):len(values)], dnValues(e.DN, f.Attribute)...)
	}
	for _, value := range values {
		if f.holds(value) {
			return true
		}
	}
	return false
}

// Explain tells for every part of the filter how it came out on the entry, and
// marks the parts that made the whole what it is.
func (f *Filter) Explain(e entry.Entry) reason.Node {
	return f.explain(e, true)
}

func (f *Filter) explain(e entry.Entry, deciding bool) reason.Node {
	kept := f.Matches(e)
	node := reason.Node{Text: f.text, Outcome: reason.Of(kept), Deciding: deciding && len(f.Children) == 0}
	for _, child := range f.Children {
		// In an "and" that is false only its false parts decide, in an "or" that
		// is true only its true parts; otherwise all of them do.
		decides := true
		if f.Operator == And && !kept || f.Operator == Or && kept {
			decides = child.Matches(e) == kept
		}
		node.Children = append(node.Children, child.explain(e, deciding && decides))
	}
	if f.Attribute != "" {
		values := e.Attributes.All(f.Attribute)
		node.Value = strings.Join(values, " | ")
		if len(values) == 0 {
			node.Value = "(the entry has no " + f.Attribute + ")"
		}
	}
	return node
}

func (f *Filter) holds(value string) bool {
	switch f.Operator {
	case Present:
		return true
	case Equal, Approx:
		return strings.EqualFold(value, f.Value)
	case AtLeast:
		return compare(value, f.Value) >= 0
	case AtMost:
		return compare(value, f.Value) <= 0
	case Substrings:
		return f.substrings(strings.ToLower(value))
	case Extensible:
		return f.extended(value)
	}
	return false
}

func (f *Filter) substrings(value string) bool {
	last := len(f.Parts) - 1
	first := strings.ToLower(f.Parts[0])
	if !strings.HasPrefix(value, first) {
		return false
	}
	value = value[len(first):]
	for _, part := range f.Parts[1:last] {
		part = strings.ToLower(part)
		at := strings.Index(value, part)
		if at < 0 {
			return false
		}
		value = value[at+len(part):]
	}
	return strings.HasSuffix(value, strings.ToLower(f.Parts[last]))
}

func (f *Filter) extended(value string) bool {
	switch f.Rule {
	case bitAnd, bitOr:
		have, err := strconv.ParseInt(value, 10, 64)
		want, err2 := strconv.ParseInt(f.Value, 10, 64)
		if err != nil || err2 != nil {
			return false
		}
		if f.Rule == bitAnd {
			return have&want == want
		}
		return have&want != 0
	case "2.5.13.5", "caseExactMatch":
		return value == f.Value
	default:
		return strings.EqualFold(value, f.Value)
	}
}

// compare orders two values: as whole numbers where both are, else as text
// without regard to case, which also orders generalized times.
func compare(a, b string) int {
	x, err := strconv.ParseInt(a, 10, 64)
	y, err2 := strconv.ParseInt(b, 10, 64)
	if err == nil && err2 == nil {
		switch {
		case x < y:
			return -1
		case x > y:
			return 1
		}
		return 0
	}
	return strings.Compare(strings.ToLower(a), strings.ToLower(b))
}

func dnValues(dn, attribute string) []string {
	parsed, err := entry.ParseDN(dn)
	if err != nil {
		return nil
	}
	var values []string
	for _, step := range strings.Split(parsed.Path(), "/") {
		if name, value, ok := strings.Cut(step, "="); ok && (attribute == "" || strings.EqualFold(name, attribute)) {
			values = append(values, value)
		}
	}
	return values
}
