package plan

import (
	"slices"

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
		switch key := v.Path.Key(); key {
		case "userName":
			claims = append(claims, Claim{kind, key, text, problem.DuplicateLogin})
		case "emails.value":
			claims = append(claims, Claim{kind, key, text, problem.DuplicateAddress})
		default:
			if slices.Contains(unique, key) {
				claims = append(claims, Claim{kind, key, text, problem.DuplicateName})
			}
		}
	}
	return claims
}

// ResourceClaim makes sure that only one entry takes a resource over.
func ResourceClaim(id string) Claim { return Claim{entry.User, "resource", id, problem.LinkConflict} }

// Clash is the problem of a claim whose value somebody else holds.
func Clash(c Claim, holder string) Decision {
	return blocked(problem.New(c.Code, "%s = %s is also that of %s", c.Attribute, c.Value, holder))
}
