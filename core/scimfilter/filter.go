// Package scimfilter reads and evaluates SCIM filters (RFC 7644 section 3.4.2.2) over
// resources as decoded JSON.
package scimfilter

import (
	"encoding/json"
	"fmt"
	"strings"
)

// Filter is a parsed filter; it is immutable.
type Filter struct {
	Operator string // and, or, not, pr, eq, ne, co, sw, ew, gt, ge, lt, le, or [] for a value path
	Left     *Filter
	Right    *Filter
	Path     string
	Value    any
}

type parser struct {
	text  string
	at    int
	depth int
}

// Parse reads a filter. The error names the character where it stopped.
func Parse(text string) (*Filter, error) {
	p := &parser{text: text}
	e, err := p.or()
	if err != nil {
		return nil, err
	}
	p.space()
	if p.at < len(text) {
		return nil, p.fail("unexpected text")
	}
	return e, nil
}

func (p *parser) fail(reason string) error {
	return fmt.Errorf("filter %q at character %d: %s", p.text, p.at+1, reason)
}

func (p *parser) space() {
	for p.at < len(p.text) && p.text[p.at] == ' ' {
		p.at++
	}
}

func (p *parser) word(want string) bool {
	p.space()
	end := p.at + len(want)
	if end > len(p.text) || !strings.EqualFold(p.text[p.at:end], want) {
		return false
	}
	if end < len(p.text) && nameByte(p.text[end]) {
		return false
	}
	p.at = end
	return true
}

func (p *parser) sign(c byte) bool {
	p.space()
	if p.at < len(p.text) && p.text[p.at] == c {
		p.at++
		return true
	}
	return false
}

func nameByte(c byte) bool {
	return c == '-' || c == '_' || c == '$' || c == '.' || c == ':' || c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z'
}

func (p *parser) or() (*Filter, error) {
	left, err := p.and()
	for err == nil && p.word("or") {
		var right *Filter
		right, err = p.and()
		left = &Filter{Operator: "or", Left: left, Right: right}
	}
	return left, err
}

func (p *parser) and() (*Filter, error) {
	left, err := p.term()
	for err == nil && p.word("and") {
		var right *Filter
		right, err = p.term()
		left = &Filter{Operator: "and", Left: left, Right: right}
	}
	return left, err
}

func (p *parser) term() (*Filter, error) {
	if p.depth++; p.depth > 200 {
		return nil, p.fail("nested too deep")
	}
	not := p.word("not")
	if p.sign('(') {
		e, err := p.or()
		if err != nil {
			return nil, err
		}
		if !p.sign(')') {
			return nil, p.fail("expected )")
		}
		if not {
			e = &Filter{Operator: "not", Left: e}
		}
		return e, nil
	}
	if not {
		return nil, p.fail("expected ( after not")
	}
	return p.comparison()
}

func (p *parser) comparison() (*Filter, error) {
	p.space()
	start := p.at
	for p.at < len(p.text) && nameByte(p.text[p.at]) {
		p.at++
	}
	path := p.text[start:p.at]
	if path == "" {
		return nil, p.fail("expected an attribute")
	}
	if p.sign('[') {
		inner, err := p.or()
		if err != nil {
			return nil, err
		}
		if !p.sign(']') {
			return nil, p.fail("expected ]")
		}
		return &Filter{Operator: "[]", Path: path, Left: inner}, nil
	}
	if p.word("pr") {
		return &Filter{Operator: "pr", Path: path}, nil
	}
	for _, operator := range []string{"eq", "ne", "co", "sw", "ew", "gt", "ge", "lt", "le"} {
		if p.word(operator) {
			value, err := p.literal()
			return &Filter{Operator: operator, Path: path, Value: value}, err
		}
	}
	return nil, p.fail("expected an operator (eq, ne, co, sw, ew, gt, ge, lt, le, pr)")
}

func (p *parser) literal() (any, error) {
	p.space()
	decoder := json.NewDecoder(strings.NewReader(p.text[p.at:]))
	var value any
	if err := decoder.Decode(&value); err != nil {
		return nil, p.fail("expected a JSON value")
	}
	switch value.(type) {
	case map[string]any, []any:
		return nil, p.fail("expected a text, a number, true, false or null")
	}
	p.at += int(decoder.InputOffset())
	return value, nil
}

// Matches evaluates the filter on a resource or on one element of a
// multi-valued attribute.
func (e *Filter) Matches(object map[string]any) bool {
	switch e.Operator {
	case "and":
		return e.Left.Matches(object) && e.Right.Matches(object)
	case "or":
		return e.Left.Matches(object) || e.Right.Matches(object)
	case "not":
		return !e.Left.Matches(object)
	case "[]":
		for _, value := range valuesAt(object, e.Path) {
			if element, ok := value.(map[string]any); ok && e.Left.Matches(element) {
				return true
			}
		}
		return false
	}
	values := valuesAt(object, e.Path)
	if e.Operator == "ne" {
		for _, value := range values {
			if compareValues("eq", value, e.Value) {
				return false
			}
		}
		return true
	}
	for _, value := range values {
		if inner, ok := value.(map[string]any); ok {
			value = inner["value"]
		}
		if e.Operator == "pr" || compareValues(e.Operator, value, e.Value) {
			return true
		}
	}
	return e.Operator == "eq" && e.Value == nil && len(values) == 0
}

// valuesAt follows a path such as urn:...:department, name.givenName or
// emails.value and flattens multi-valued attributes.
func valuesAt(object map[string]any, path string) []any {
	if strings.HasPrefix(strings.ToLower(path), "urn:") {
		for key, value := range object {
			if inner, ok := value.(map[string]any); ok && len(path) > len(key) && strings.EqualFold(path[:len(key)], key) && path[len(key)] == ':' {
				return valuesAt(inner, path[len(key)+1:])
			}
		}
		at := strings.LastIndexByte(path, ':')
		path = path[at+1:]
	}
	current := []any{object}
	for _, step := range strings.Split(path, ".") {
		var next []any
		for _, item := range current {
			inner, ok := item.(map[string]any)
			if !ok {
				continue
			}
			value := member(inner, step)
			if list, ok := value.([]any); ok {
				next = append(next, list...)
			} else if value != nil {
				next = append(next, value)
			}
		}
		current = next
	}
	return current
}

func member(object map[string]any, name string) any {
	if value, ok := object[name]; ok {
		return value
	}
	for key, value := range object {
		if strings.EqualFold(key, name) {
			return value
		}
	}
	return nil
}

func compareValues(operator string, have, want any) bool {
	a, isText := have.(string)
	b, wantText := want.(string)
	if !isText || !wantText {
		switch operator {
		case "eq":
			return have == want
		case "gt", "ge", "lt", "le":
			x, ok := have.(float64)
			y, ok2 := want.(float64)
			return ok && ok2 && ordered(operator, x-y)
		}
		return false
	}
	a, b = strings.ToLower(a), strings.ToLower(b)
	switch operator {
	case "eq":
		return a == b
	case "co":
		return strings.Contains(a, b)
	case "sw":
		return strings.HasPrefix(a, b)
	case "ew":
		return strings.HasSuffix(a, b)
	}
	return ordered(operator, float64(strings.Compare(a, b)))
}

func ordered(operator string, difference float64) bool {
	switch operator {
	case "gt":
		return difference > 0
	case "ge":
		return difference >= 0
	case "lt":
		return difference < 0
	case "le":
		return difference <= 0
	}
	return false
}

// AsksFor tells whether the filter has a condition on an attribute.
func (e *Filter) AsksFor(name string) bool {
	if e == nil {
		return false
	}
	first, _, _ := strings.Cut(e.Path, ".")
	return strings.EqualFold(first, name) || e.Left.AsksFor(name) || e.Right.AsksFor(name)
}
