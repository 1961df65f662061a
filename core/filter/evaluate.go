package filter

import (
	"encoding/base64"
	"slices"
	"strconv"
	"strings"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/reason"
)

// Matching rules that AD-compatible directories add to RFC 4517.
const (
	bitAnd = "1.2.840.113556.1.4.803"
	bitOr  = "1.2.840.113556.1.4.804"
	// inChain follows memberships through nested groups.
	inChain = "1.2.840.113556.1.4.1941"
)

// outcome is what a filter comes to; an item that the directory cannot evaluate
// is undefined, and so is its opposite (RFC 4511 section 4.5.1.7).
type outcome int

const (
	no outcome = iota
	undefined
	yes
)

// Matches tells whether the filter keeps the entry.
func (f *Filter) Matches(e entry.Entry) bool { return f.evaluate(e) == yes }

func (f *Filter) evaluate(e entry.Entry) outcome {
	switch f.Operator {
	case And:
		out := yes
		for _, child := range f.Children {
			if out = min(out, child.evaluate(e)); out == no {
				break
			}
		}
		return out
	case Or:
		out := no
		for _, child := range f.Children {
			if out = max(out, child.evaluate(e)); out == yes {
				break
			}
		}
		return out
	case Not:
		return yes - f.Children[0].evaluate(e)
	}
	if f.undefined() {
		return undefined
	}
	for _, value := range f.values(e) {
		if f.holds(value) {
			return yes
		}
	}
	return no
}

// For returns the filter as a directory evaluates it: of the dialect ad or by
// the standard schemas.
func (f *Filter) For(ad bool) *Filter { return f.changed(func(node *Filter) { node.ad = ad }) }

// By returns the filter as a directory with a schema evaluates it, in letter case and order
// too; of what the schema does not tell, the usual is assumed.
func (f *Filter) By(schema entry.Schema) *Filter {
	return f.changed(func(node *Filter) { node.schema = schema })
}

// changed is a copy of which each node is changed.
func (f *Filter) changed(change func(*Filter)) *Filter {
	copied := *f
	change(&copied)
	copied.Children = make([]*Filter, len(f.Children))
	for i, child := range f.Children {
		copied.Children[i] = child.changed(change)
	}
	return &copied
}

func (f *Filter) comparing() (entry.Comparing, bool) {
	if len(f.schema) == 0 {
		return entry.Comparing{}, false
	}
	name, _, _ := strings.Cut(strings.ToLower(f.Attribute), ";")
	comparing, known := f.schema[name]
	return comparing, known
}

// exact tells whether letter case counts.
func (f *Filter) exact() bool {
	comparing, _ := f.comparing()
	return strings.HasPrefix(comparing.Equality, "caseExact")
}

func (f *Filter) ordered() bool {
	if comparing, known := f.comparing(); known {
		return comparing.Ordering != ""
	}
	return isOrdered(f.Attribute)
}

// undefined tells items that a directory has no matching rule for.
func (f *Filter) undefined() bool {
	switch {
	case f.Operator == Extensible && f.ad:
		return f.Rule != "" && f.Rule != bitAnd && f.Rule != bitOr && f.Rule != inChain
	case f.Operator == Extensible:
		return !knownRule(f.Rule)
	case f.Operator == AtLeast || f.Operator == AtMost:
		return !f.ad && !f.ordered()
	}
	return false
}

// values are what an item is held against. Names, ids and memberships are not
// among an entry's attributes in the mirror, but known all the same.
func (f *Filter) values(e entry.Entry) []string {
	var values []string
	switch strings.ToLower(f.Attribute) {
	case "memberof":
		if values = e.Groups; f.Rule == inChain {
			values = e.AllGroups
		}
	case "member":
		values = e.Members
	case "objectguid":
		if e.ID.IsZero() {
			break
		}
		values = []string{string(e.ID.ObjectGUID())}
	case "entryuuid":
		values = []string{e.ID.String()}
	case "objectcategory":
		// Changes leave it out, and it follows from the kind.
		if name := categories[e.Kind]; f.ad && name != "" {
			values = []string{name}
		}
	case "distinguishedname", "entrydn":
		values = []string{e.DN}
	case "":
		for _, all := range e.Attributes {
			values = append(values, all...)
		}
	default:
		values = e.Attributes.All(f.Attribute)
	}
	if f.DNAttributes {
		values = append(values[:len(values):len(values)], dnValues(e.DN, f.Attribute)...)
	}
	return values
}

// AsksForGroups tells whether the filter asks who is a member of what.
func (f *Filter) AsksForGroups() bool {
	return strings.EqualFold(f.Attribute, "memberOf") || slices.ContainsFunc(f.Children, (*Filter).AsksForGroups)
}

// AsksForMembers tells whether the filter asks for the members of a group.
func (f *Filter) AsksForMembers() bool {
	return strings.EqualFold(f.Attribute, "member") || slices.ContainsFunc(f.Children, (*Filter).AsksForMembers)
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
		values := f.values(e)
		node.Value = strings.ToValidUTF8(strings.Join(values, " | "), "?")
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
		return f.equal(value)
	case AtLeast:
		return compare(value, f.Value) >= 0
	case AtMost:
		return compare(value, f.Value) <= 0
	case Substrings:
		return f.substrings(value)
	case Extensible:
		return f.extended(value)
	}
	return false
}

func (f *Filter) equal(value string) bool {
	switch syntaxOf(f.Attribute) {
	case names:
		return sameName(value, f.Value)
	case octets:
		if value == f.Value {
			return true
		}
		// The mirror keeps values that are no text as base64.
		decoded, err := base64.StdEncoding.DecodeString(value)
		return err == nil && string(decoded) == f.Value
	case telephone:
		return strings.EqualFold(squeeze(value), squeeze(f.Value))
	case class:
		return strings.EqualFold(value, f.Value) || isSubclass(value, f.Value)
	case category:
		// Directories of the dialect ad take the short name of a class for the
		// whole name of its category.
		return strings.EqualFold(value, f.Value) || strings.HasPrefix(strings.ToLower(f.Value), "cn="+value+",")
	}
	if f.exact() {
		return spaced(value) == spaced(f.Value)
	}
	return fold(value) == fold(f.Value)
}

func (f *Filter) substrings(value string) bool {
	alike := strings.ToLower
	if f.exact() {
		alike = func(text string) string { return text }
	}
	value = spaced(alike(value))
	last := len(f.Parts) - 1
	first := strings.TrimLeft(spaced(alike(f.Parts[0])), " ")
	if !strings.HasPrefix(value, first) {
		return false
	}
	value = value[len(first):]
	for _, part := range f.Parts[1:last] {
		part = alike(part)
		at := strings.Index(value, part)
		if at < 0 {
			return false
		}
		value = value[at+len(part):]
	}
	return strings.HasSuffix(value, alike(f.Parts[last]))
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
	case inChain:
		return sameName(value, f.Value)
	case "2.5.13.5", "caseExactMatch", "1.3.6.1.4.1.1466.109.114.1", "caseExactIA5Match":
		return value == f.Value
	case "2.5.13.4", "caseIgnoreSubstringsMatch", "2.5.13.7", "caseExactSubstringsMatch":
		return strings.Contains(fold(value), fold(f.Value))
	case "2.5.13.1", "distinguishedNameMatch":
		return sameName(value, f.Value)
	}
	return f.equal(value)
}

// fold makes texts comparable: without regard to case, and to how many spaces
// stand around and between words (RFC 4518 section 2.6.1).
func fold(text string) string { return spaced(strings.ToLower(text)) }

// spaced makes texts comparable without regard to how many spaces stand around and between
// words.
func spaced(text string) string {
	if strings.HasPrefix(text, " ") || strings.HasSuffix(text, " ") || strings.Contains(text, "  ") {
		text = strings.Join(strings.FieldsFunc(text, func(r rune) bool { return r == ' ' }), " ")
	}
	return text
}

func sameName(a, b string) bool {
	return strings.EqualFold(a, b) || entry.SameDN(a, b)
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
	return strings.Compare(fold(a), fold(b))
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
