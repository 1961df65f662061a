package filter

import (
	"encoding/hex"
	"fmt"
	"strings"

	"kambrel.example/kambrel/core/entry"
)

// Operator is what a node of a filter does.
type Operator string

// The operators of RFC 4511 section 4.5.1.7.
const (
	And        Operator = "and"
	Or         Operator = "or"
	Not        Operator = "not"
	Equal      Operator = "="
	Approx     Operator = "~="
	AtLeast    Operator = ">="
	AtMost     Operator = "<="
	Present    Operator = "=*"
	Substrings Operator = "substrings"
	Extensible Operator = ":="
)

// Filter is one node of a parsed filter.
type Filter struct {
	Operator  Operator
	Children  []*Filter
	Attribute string
	Value     string
	// Parts of a substrings item between its stars: the first and the last may
	// be empty, which means that they are open.
	Parts []string
	// Rule is the matching rule of an extensible item, DNAttributes its ":dn".
	Rule         string
	DNAttributes bool

	text   string
	ad     bool         // see For
	schema entry.Schema // see By
}

// SyntaxError tells where a filter stops being one.
type SyntaxError struct {
	Filter string
	Offset int // 0-based byte
	Reason string
}

func (e *SyntaxError) Error() string {
	return fmt.Sprintf("filter %q: at character %d: %s", e.Filter, e.Offset+1, e.Reason)
}

const deepest = 50

// Parse reads the string form of a filter.
func Parse(text string) (*Filter, error) {
	p := &parser{text: text}
	p.space()
	f, err := p.filter(0)
	if err != nil {
		return nil, err
	}
	p.space()
	if p.at < len(text) {
		return nil, p.fail("text follows after the filter's end")
	}
	return f, nil
}

// String returns the filter as it was written.
func (f *Filter) String() string { return f.text }

// Attributes lists the attributes that the filter asks about and that a
// directory must be asked for; names, ids and memberships are always known.
func (f *Filter) Attributes() []string {
	var names []string
	if f.Attribute != "" && !alwaysKnown[strings.ToLower(f.Attribute)] {
		names = append(names, f.Attribute)
	}
	for _, child := range f.Children {
		names = append(names, child.Attributes()...)
	}
	return names
}

var alwaysKnown = map[string]bool{"memberof": true, "member": true, "objectguid": true, "entryuuid": true, "distinguishedname": true, "entrydn": true, "objectcategory": true}

type parser struct {
	text string
	at   int
}

func (p *parser) fail(format string, facts ...any) error {
	return &SyntaxError{Filter: p.text, Offset: p.at, Reason: fmt.Sprintf(format, facts...)}
}

func (p *parser) space() {
	for p.at < len(p.text) && strings.IndexByte(" \t\r\n", p.text[p.at]) >= 0 {
		p.at++
	}
}

func (p *parser) peek() byte {
	if p.at < len(p.text) {
		return p.text[p.at]
	}
	return 0
}

func (p *parser) filter(depth int) (*Filter, error) {
	if depth > deepest {
		return nil, p.fail("nested more than %d deep", deepest)
	}
	start := p.at
	if p.peek() != '(' {
		return nil, p.fail("expected an opening parenthesis")
	}
	p.at++
	p.space()
	f := &Filter{}
	var err error
	switch p.peek() {
	case '&':
		f.Operator = And
		err = p.list(f, depth)
	case '|':
		f.Operator = Or
		err = p.list(f, depth)
	case '!':
		f.Operator = Not
		if err = p.list(f, depth); err == nil && len(f.Children) != 1 {
			err = p.fail("a negation takes exactly one filter, not %d", len(f.Children))
		}
	default:
		err = p.item(f)
	}
	if err != nil {
		return nil, err
	}
	if p.peek() != ')' {
		return nil, p.fail("expected a closing parenthesis")
	}
	p.at++
	f.text = p.text[start:p.at]
	return f, nil
}

func (p *parser) list(f *Filter, depth int) error {
	p.at++
	for {
		p.space()
		if p.peek() != '(' {
			return nil
		}
		child, err := p.filter(depth + 1)
		if err != nil {
			return err
		}
		f.Children = append(f.Children, child)
	}
}

func (p *parser) item(f *Filter) error {
	start := p.at
	for p.at < len(p.text) && strings.IndexByte("=~<>:()", p.text[p.at]) < 0 {
		p.at++
	}
	f.Attribute = strings.TrimSpace(p.text[start:p.at])
	if bad := strings.IndexFunc(f.Attribute, notInName); bad >= 0 {
		p.at = start + bad
		return p.fail("%q is no attribute name", f.Attribute)
	}
	switch p.peek() {
	case '=':
		f.Operator = Equal
		p.at++
	case '~', '<', '>':
		f.Operator = map[byte]Operator{'~': Approx, '<': AtMost, '>': AtLeast}[p.peek()]
		p.at++
		if p.peek() != '=' {
			return p.fail("expected = after the sign before it")
		}
		p.at++
	case ':':
		if err := p.extensible(f); err != nil {
			return err
		}
	default:
		return p.fail("expected =, ~=, >=, <= or := after the attribute")
	}
	if f.Attribute == "" && f.Rule == "" {
		p.at = start
		return p.fail("expected an attribute name")
	}
	return p.value(f)
}

func notInName(r rune) bool {
	return r != '-' && r != '.' && r != ';' && r != '_' && (r < '0' || r > '9') && (r < 'a' || r > 'z') && (r < 'A' || r > 'Z')
}

// extensible reads what follows the attribute: [":dn"] [":" rule] ":=".
func (p *parser) extensible(f *Filter) error {
	f.Operator = Extensible
	for {
		p.at++ // the colon
		if p.peek() == '=' {
			p.at++
			return nil
		}
		start := p.at
		for p.at < len(p.text) && strings.IndexByte(":=()", p.text[p.at]) < 0 {
			p.at++
		}
		word := p.text[start:p.at]
		if p.peek() != ':' {
			return p.fail("expected := in an extensible item")
		}
		switch {
		case strings.EqualFold(word, "dn") && !f.DNAttributes && f.Rule == "":
			f.DNAttributes = true
		case word != "" && f.Rule == "" && strings.IndexFunc(word, notInName) < 0:
			f.Rule = word
		default:
			p.at = start
			return p.fail("%q is no matching rule", word)
		}
	}
}

// value reads up to the closing parenthesis, undoing escapes (RFC 4515 section 3).
func (p *parser) value(f *Filter) error {
	var parts []string
	var b strings.Builder
	for p.at < len(p.text) && p.text[p.at] != ')' {
		switch c := p.text[p.at]; c {
		case '(':
			return p.fail(`an opening parenthesis inside a value is written \28`)
		case '\\':
			if p.at+3 > len(p.text) {
				return p.fail("a backslash needs two hex digits after it")
			}
			octet, err := hex.DecodeString(p.text[p.at+1 : p.at+3])
			if err != nil {
				return p.fail(`a backslash needs two hex digits after it; a backslash itself is \5c`)
			}
			b.WriteByte(octet[0])
			p.at += 3
			continue
		case '*':
			if f.Operator != Equal {
				return p.fail(`a star inside this value is written \2a`)
			}
			parts = append(parts, b.String())
			b.Reset()
		default:
			b.WriteByte(c)
		}
		p.at++
	}
	if len(parts) == 0 {
		f.Value = b.String()
		return nil
	}
	parts = append(parts, b.String())
	if len(parts) == 2 && parts[0] == "" && parts[1] == "" {
		f.Operator = Present
		return nil
	}
	for _, part := range parts[1 : len(parts)-1] {
		if part == "" {
			return p.fail("two stars without a value between them")
		}
	}
	f.Operator, f.Parts = Substrings, parts
	return nil
}
