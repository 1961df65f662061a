package plan

import (
	"slices"

	"kambrel.example/kambrel/core/change"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/match"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/rules"
)

// Claim is a value that only one resource in the cloud may have.
type Claim struct {
	Kind      entry.Kind
	Attribute string // userName or emails.value
	Value     string
	Code      problem.Code // the problem when somebody else has it
}

// Key is the form in which claims and the cloud mirror are indexed.
func (c Claim) Key() string { return match.KeyText(c.Kind, c.Attribute, c.Value) }

// Claims lists the unique values a desired resource takes: the login (RFC 7643
// section 4.1.1), the addresses, and what else the cloud says is unique, as keys
// of paths.
func Claims(kind entry.Kind, desired rules.Desired, unique []string) []Claim {
	var claims []Claim
	for _, v := range desired.Values {
		text, _ := v.Value.(string)
		if text == "" {
			continue
		}
		if key := v.Path.Key(); Unique(key, unique) {
			claims = append(claims, Claim{kind, key, text, Duplicate(key)})
		}
	}
	return claims
}

// Unique tells whether only one resource may have a value at paths with a key:
// the login, an address, or what the cloud says.
func Unique(key string, unique []string) bool {
	return Duplicate(key) != problem.DuplicateName || slices.Contains(unique, key)
}

// Duplicate is the problem of a value at paths with a key that somebody else has.
func Duplicate(key string) problem.Code {
	switch key {
	case "userName":
		return problem.DuplicateLogin
	case "emails.value":
		return problem.DuplicateAddress
	}
	return problem.DuplicateName
}

// ResourceClaim makes sure that only one entry takes a resource over.
func ResourceClaim(id string) Claim { return Claim{entry.User, "resource", id, problem.LinkConflict} }

// Clash is the decision where somebody else holds the value of a claim, an entry or
// a resource that no entry in scope owns: of a resource that is there, only that
// value waits.
func Clash(d Decision, c Claim, holder problem.Facts) Decision {
	holder.Attribute, holder.Value = c.Attribute, c.Value
	if c.Code == problem.LinkConflict { // the value is the resource
		holder.Resources = append(holder.Resources, problem.Resource{ID: c.Value})
	}
	return d.without(problem.Of(c.Code, holder), func(diff change.Diff) bool {
		path, err := entry.ParsePath(diff.Target)
		return err == nil && path.Key() == c.Attribute && change.Same(diff.After, c.Value)
	})
}
