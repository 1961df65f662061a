package standin

import (
	"encoding/json"
	"fmt"
	"strings"
)

// expression is a parsed SCIM filter (RFC 7644 section 3.4.2.2).
type expression struct {
	operator string // and, or, not, pr, eq, ne, co, sw, ew, gt, ge, lt, le, or [] for a value path
	left     *expression
	right    *expression
	path     string
	value    any
}

type filterParser struct {
	text  string
	at    int
	depth int
}

func parseFilter(text string) (*expression, error) {
	p := &filterParser{text: text}
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

func (p *filterParser) fail(reason string) error {
	return fmt.Errorf("filter %q at character %d: %s", p.text, p.at+1, reason)
}

func (p *filterParser) space() {
	for p.at < len(p.text) && p.text[p.at] == ' ' {
		p.at++
	}
}

func (p *filterParser) word(want string) bool {
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

func (p *filterParser) sign(c byte) bool {
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

func (p *filterParser) or() (*expression, error) {
	left, err := p.and()
	for err == nil && p.word("or") {
		var right *expression
		right, err = p.and()
		left = &expression{operator: "or", left: left, right: right}
	}
	return left, err
}

func (p *filterParser) and() (*expression, error) {
	left, err := p.term()
	for err == nil && p.word("and") {
		var right *expression
		right, err = p.term()
		left = &expression{operator: "and", left: left, right: right}
	}
	return left, err
}

func (p *filterParser) term() (*expression, error) {
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
			e = &expression{operator: "not", left: e}
		}
		return e, nil
	}
	if not {
		return nil, p.fail("expected ( after not")
	}
	return p.comparison()
}

func (p *filterParser) comparison() (*expression, error) {
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
		return &expression{operator: "[]", path: path, left: inner}, nil
	}
	if p.word("pr") {
		return &expression{operator: "pr", path: path}, nil
	}
	for _, operator := range []string{"eq", "ne", "co", "sw", "ew", "gt", "ge", "lt", "le"} {
		if p.word(operator) {
			value, err := p.literal()
			return &expression{operator: operator, path: path, value: value}, err
		}
	}
	return nil, p.fail("expected an operator (eq, ne, co, sw, ew, gt, ge, lt, le, pr)")
}

func (p *filterParser) literal() (any, error) {
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

// matches evaluates the filter on a resource or on one element of a
// multi-valued attribute.
func (e *expression) matches(object map[string]any) bool {
	switch e.operator {
	case "and":
		return e.left.matches(object) && e.right.matches(object)
	case "or":
		return e.left.matches(object) || e.right.matches(object)
	case "not":
		return !e.left.matches(object)
	case "[]":
		for _, value := range valuesAt(object, e.path) {
			if element, ok := value.(map[string]any); ok && e.left.matches(element) {
				return true
			}
		}
		return false
	}
	values := valuesAt(object, e.path)
	if e.operator == "ne" {
		for _, value := range values {
			if compareValues("eq", value, e.value) {
				return false
			}
		}
		return true
	}
	for _, value := range values {
		if inner, ok := value.(map[string]any); ok {
			value = inner["value"]
		}
		if e.operator == "pr" || compareValues(e.operator, value, e.value) {
			return true
		}
	}
	return e.operator == "eq" && e.value == nil && len(values) == 0
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

// asksFor tells whether the filter has a condition on an attribute.
func (e *expression) asksFor(name string) bool {
	if e == nil {
		return false
	}
	first, _, _ := strings.Cut(e.path, ".")
	return strings.EqualFold(first, name) || e.left.asksFor(name) || e.right.asksFor(name)
}
