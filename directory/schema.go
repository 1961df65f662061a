package directory

import (
	"regexp"
	"strings"

	"github.com/go-ldap/ldap/v3"

	"kambrel.example/kambrel/core/entry"
)

// Parts of the description of an attribute type (RFC 4512 section 4.1.2).
var (
	typeNames    = regexp.MustCompile(`NAME\s+(?:'([^']+)'|\(([^)]*)\))`)
	typeAbove    = regexp.MustCompile(`\sSUP\s+([\w.;-]+)`)
	typeEquality = regexp.MustCompile(`\sEQUALITY\s+([\w.-]+)`)
	typeOrdering = regexp.MustCompile(`\sORDERING\s+([\w.-]+)`)
)

// Schema reads how the directory compares the values of attributes; empty where it does
// not tell, which is no error.
func (s *Session) Schema(attributes []string) entry.Schema {
	root, err := s.conn.Search(&ldap.SearchRequest{Scope: ldap.ScopeBaseObject, Filter: "(objectClass=*)", Attributes: []string{"subschemaSubentry"}})
	if err != nil || len(root.Entries) == 0 {
		return nil
	}
	base := root.Entries[0].GetAttributeValue("subschemaSubentry")
	if base == "" {
		return nil
	}
	found, err := s.conn.Search(&ldap.SearchRequest{BaseDN: base, Scope: ldap.ScopeBaseObject, Filter: "(objectClass=subschema)", Attributes: []string{"attributeTypes"}})
	if err != nil || len(found.Entries) == 0 {
		return nil
	}
	return schemaOf(found.Entries[0].GetAttributeValues("attributeTypes"), attributes)
}

// schemaOf reads descriptions of attribute types. A type without a rule of its own has
// that of the one above it.
func schemaOf(descriptions, attributes []string) entry.Schema {
	byName := map[string]string{}
	for _, text := range descriptions {
		names := typeNames.FindStringSubmatch(text)
		if names == nil {
			continue
		}
		for _, name := range strings.FieldsFunc(names[1]+" "+names[2], func(r rune) bool { return r == ' ' || r == '\'' }) {
			byName[strings.ToLower(name)] = text
		}
	}
	part := func(pattern *regexp.Regexp, name string) string {
		for range 10 { // no type has so many above it
			text, known := byName[strings.ToLower(name)]
			if !known {
				return ""
			}
			if match := pattern.FindStringSubmatch(text); match != nil {
				return match[1]
			}
			above := typeAbove.FindStringSubmatch(text)
			if above == nil {
				return ""
			}
			name = above[1]
		}
		return ""
	}
	schema := entry.Schema{}
	for _, name := range attributes {
		name, _, _ = strings.Cut(strings.ToLower(name), ";")
		if byName[name] != "" {
			schema[name] = entry.Comparing{Equality: part(typeEquality, name), Ordering: part(typeOrdering, name)}
		}
	}
	return schema
}
