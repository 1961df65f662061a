package entry

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
)

// Path names one value of a resource (RFC 7644 section 3.5.2), in the forms a
// rule can own: userName, name.givenName, emails[type eq "work"].value, and
// each of them behind a schema URN and a colon.
type Path struct {
	Schema    string // extension schema URN, "" for the core schema
	Attribute string
	// SelectorAttribute and SelectorValue choose one element of a
	// multi-valued attribute; both are "" when there is no selector.
	SelectorAttribute, SelectorValue string
	Sub                              string

	text string
}

var pathForm = regexp.MustCompile(`^(?:(urn:[A-Za-z0-9:._-]+):)?([A-Za-z$][A-Za-z0-9_$-]*)(?:\[\s*([A-Za-z][A-Za-z0-9_-]*)\s+eq\s+"([^"\\]*)"\s*\])?(?:\.([A-Za-z$][A-Za-z0-9_$-]*))?$`)

// parsed keeps paths that were read, since a run reads the same few again and
// again; not without end, since texts may come from anywhere.
var (
	parsed      sync.Map
	parsedCount atomic.Int32
)

const mostParsed = 4096

// ParsePath reads a path; the error says what form is expected.
func ParsePath(text string) (Path, error) {
	if known, ok := parsed.Load(text); ok {
		return known.(Path), nil
	}
	p, err := parsePath(text)
	if err == nil && parsedCount.Load() < mostParsed {
		parsedCount.Add(1)
		parsed.Store(strings.Clone(text), p)
	}
	return p, err
}

func parsePath(text string) (Path, error) {
	m := pathForm.FindStringSubmatch(text)
	if m == nil {
		return Path{}, fmt.Errorf(`%q is no resource attribute: write userName, name.givenName, emails[type eq "work"].value or an extension URN with a colon before it`, text)
	}
	p := Path{Schema: m[1], Attribute: m[2], SelectorAttribute: m[3], SelectorValue: m[4], Sub: m[5], text: text}
	if p.SelectorAttribute != "" && p.Sub == "" {
		return Path{}, fmt.Errorf("%q chooses an element but no part of it: add the part, for example %s.value", text, text)
	}
	return p, nil
}

// MustPath is ParsePath for paths known at compile time.
func MustPath(text string) Path {
	p, err := ParsePath(text)
	if err != nil {
		panic(err)
	}
	return p
}

func (p Path) String() string { return p.text }

// Get returns the value at the path, nil when there is none.
func (p Path) Get(r Resource) any {
	holder := p.holder(r)
	if holder == nil {
		return nil
	}
	value := lookup(holder, p.Attribute)
	if p.SelectorAttribute != "" {
		element := p.Element(r)
		if element == nil {
			return nil
		}
		return lookup(element, p.Sub)
	}
	if p.Sub == "" {
		return value
	}
	inner, _ := value.(map[string]any)
	return lookup(inner, p.Sub)
}

// Element returns the element of a multi-valued attribute that the selector
// chooses, nil when there is none.
func (p Path) Element(r Resource) map[string]any {
	elements, _ := lookup(p.holder(r), p.Attribute).([]any)
	for _, item := range elements {
		element, _ := item.(map[string]any)
		if value, _ := lookup(element, p.SelectorAttribute).(string); strings.EqualFold(value, p.SelectorValue) {
			return element
		}
	}
	return nil
}

// Untyped tells whether a list holds the value in an element that does not say what the
// selector chooses by, since the service does not keep that.
func (p Path) Untyped(r Resource, value any) bool {
	text, _ := value.(string)
	if text == "" || p.SelectorAttribute == "" {
		return false
	}
	elements, _ := lookup(p.holder(r), p.Attribute).([]any)
	return slices.ContainsFunc(elements, func(item any) bool {
		element, _ := item.(map[string]any)
		return lookup(element, p.SelectorAttribute) == nil && lookup(element, p.Sub) == value
	})
}

// Set puts the value at the path, making what lies on the way. A nil value is
// not set.
func (p Path) Set(r Resource, value any) {
	if value == nil {
		return
	}
	holder := p.holderFor(r)
	attribute := named(holder, p.Attribute)
	switch {
	case p.SelectorAttribute != "":
		if element := p.Element(r); element != nil {
			element[named(element, p.Sub)] = value
			return
		}
		elements, _ := holder[attribute].([]any)
		holder[attribute] = append(elements, p.NewElement(value, len(elements) == 0))
	case p.Sub != "":
		inner, ok := holder[attribute].(map[string]any)
		if !ok {
			inner = map[string]any{}
			holder[attribute] = inner
		}
		inner[named(inner, p.Sub)] = value
	default:
		holder[attribute] = value
	}
}

// Values lists the values of a multi-valued attribute: its texts, or the value
// of each of its elements.
func (p Path) Values(r Resource) []string {
	var out []string
	elements, _ := lookup(p.holder(r), p.Attribute).([]any)
	for _, item := range elements {
		element, _ := item.(map[string]any)
		text, ok := item.(string)
		if !ok {
			text, _ = lookup(element, "value").(string)
		}
		if text != "" {
			out = append(out, text)
		}
	}
	return out
}

// Texts lists the texts at the path: one, or that of each element where the
// attribute is multi-valued, as emails.value names those of all addresses.
func (p Path) Texts(r Resource) []string {
	if text, ok := p.Get(r).(string); ok {
		return []string{text}
	}
	if p.SelectorAttribute != "" {
		return nil
	}
	if p.Sub == "" || strings.EqualFold(p.Sub, "value") {
		return p.Values(r)
	}
	var out []string
	elements, _ := lookup(p.holder(r), p.Attribute).([]any)
	for _, item := range elements {
		element, _ := item.(map[string]any)
		if text, ok := lookup(element, p.Sub).(string); ok {
			out = append(out, text)
		}
	}
	return out
}

// Whole is the path of the attribute that the path is a part of.
func (p Path) Whole() Path {
	text := p.Attribute
	if p.Schema != "" {
		text = p.Schema + ":" + text
	}
	return Path{Schema: p.Schema, Attribute: p.Attribute, text: text}
}

// AddElement adds an element to a multi-valued attribute, unless one with its
// value is there.
func (p Path) AddElement(r Resource, element map[string]any) {
	if slices.Contains(p.Values(r), fmt.Sprint(element["value"])) {
		return
	}
	holder := p.holderFor(r)
	attribute := named(holder, p.Attribute)
	elements, _ := holder[attribute].([]any)
	holder[attribute] = append(elements, element)
}

// RemoveValue takes the elements with a value away.
func (p Path) RemoveValue(r Resource, value string) {
	holder := p.holder(r)
	elements, _ := lookup(holder, p.Attribute).([]any)
	kept := slices.DeleteFunc(slices.Clone(elements), func(item any) bool {
		element, _ := item.(map[string]any)
		return item == value || lookup(element, "value") == value
	})
	if len(kept) < len(elements) {
		holder[named(holder, p.Attribute)] = kept
	}
}

// Remove takes the value at the path away. Of an element of a multi-valued
// attribute other parts stay, which others may own; it goes as a whole with its
// value, or with the last part that says anything.
func (p Path) Remove(r Resource) {
	holder := p.holder(r)
	if holder == nil {
		return
	}
	attribute := named(holder, p.Attribute)
	switch {
	case p.SelectorAttribute != "":
		elements, _ := holder[attribute].([]any)
		kept := make([]any, 0, len(elements))
		for _, item := range elements {
			element, _ := item.(map[string]any)
			if value, _ := lookup(element, p.SelectorAttribute).(string); strings.EqualFold(value, p.SelectorValue) {
				if delete(element, named(element, p.Sub)); p.Sub == "value" || p.empty(element) {
					continue
				}
			}
			kept = append(kept, item)
		}
		holder[attribute] = kept
		if len(kept) == 0 {
			delete(holder, attribute)
		}
	case p.Sub != "":
		if inner, ok := holder[attribute].(map[string]any); ok {
			delete(inner, named(inner, p.Sub))
		}
	default:
		delete(holder, attribute)
	}
}

// empty tells whether an element says no more than what it is.
func (p Path) empty(element map[string]any) bool {
	for name := range element {
		if !strings.EqualFold(name, p.SelectorAttribute) && !strings.EqualFold(name, "primary") {
			return false
		}
	}
	return true
}

// NewElement is the element that the path's selector would choose, bearing value.
// The first address of a resource is its primary one (RFC 7643 section 2.4).
func (p Path) NewElement(value any, primary bool) map[string]any {
	element := map[string]any{p.SelectorAttribute: p.SelectorValue, p.Sub: value}
	if primary && p.Attribute == "emails" {
		element["primary"] = true
	}
	return element
}

// Key is the path without its selector, as used for comparing values across
// resources: emails[type eq "work"].value and emails.value have the same key.
func (p Path) Key() string {
	key := p.Attribute
	if p.Sub != "" {
		key += "." + p.Sub
	}
	if p.Schema != "" {
		key = p.Schema + ":" + key
	}
	return key
}

// holderFor is holder, which is made where it is missing.
func (p Path) holderFor(r Resource) map[string]any {
	if p.Schema == "" {
		return r
	}
	schema := named(r, p.Schema)
	inner, ok := r[schema].(map[string]any)
	if !ok {
		inner = map[string]any{}
		r[schema] = inner
	}
	return inner
}

func (p Path) holder(r Resource) map[string]any {
	if p.Schema == "" {
		return r
	}
	inner, _ := lookup(r, p.Schema).(map[string]any)
	return inner
}

// lookup finds a member by name, ignoring case (RFC 7643 section 2.1).
func lookup(object map[string]any, name string) any { return object[named(object, name)] }

// named is how an object writes a name; the name as it is, where it has none such.
func named(object map[string]any, name string) string {
	if _, ok := object[name]; ok {
		return name
	}
	for key := range object {
		if strings.EqualFold(key, name) {
			return key
		}
	}
	return name
}
