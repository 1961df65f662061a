package signin

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/rules"
	"kambrel.example/kambrel/core/settings"
)

// Persistent is the format of subjects that name somebody for good (saml-core-2.0-os section
// 8.3.7).
const Persistent = "urn:oasis:names:tc:SAML:2.0:nameid-format:persistent"

// LoginClaim is the attribute that most often holds the login (eduPersonPrincipalName).
const LoginClaim = "urn:oid:1.3.6.1.4.1.5923.1.1.1.6"

// Claim is how one value of an assertion is made of a resource in the cloud: from one of its
// attributes, always the same, or by a formula.
type Claim struct {
	Name    string `json:"name,omitempty" maxLength:"300" doc:"The name of the attribute; none for the subject"`
	From    string `json:"from,omitempty" maxLength:"300" doc:"An attribute of the resource"`
	Always  string `json:"always,omitempty" maxLength:"1000"`
	Formula string `json:"formula,omitempty" maxLength:"4000" doc:"A formula over the resource"`
}

// Claims are what an assertion says of somebody.
type Claims struct {
	Format  string  `json:"format" maxLength:"300" doc:"Of the subject"`
	Subject Claim   `json:"subject"`
	Claims  []Claim `json:"claims"`
}

// DefaultClaims are those that a cloud asks for: its link key as the subject, and what it wants
// besides, as far as that can be told by its name.
func DefaultClaims(cloud Cloud) Claims {
	c := Claims{Format: Persistent, Subject: Claim{From: "externalId"}, Claims: []Claim{}}
	if len(cloud.Formats) > 0 && !slices.Contains(cloud.Formats, Persistent) {
		c.Format = cloud.Formats[0]
	}
	if strings.HasSuffix(c.Format, ":emailAddress") {
		c.Subject = Claim{From: "userName"}
	}
	for _, wanted := range cloud.Wanted {
		if from := usual[strings.ToLower(wanted.Friendly)]; from != "" {
			c.Claims = append(c.Claims, Claim{Name: wanted.Name, From: from})
		} else if from := usual[strings.ToLower(wanted.Name)]; from != "" {
			c.Claims = append(c.Claims, Claim{Name: wanted.Name, From: from})
		}
	}
	return c
}

// usual are the attributes of a resource by what they are called in directories (RFC 4519, RFC
// 2798, eduPerson) and in SCIM.
var usual = map[string]string{
	"edupersonprincipalname": "userName", LoginClaim: "userName", "uid": "userName", "username": "userName", "login": "userName", "name": "userName",
	"displayname": "displayName", "givenname": "name.givenName", "sn": "name.familyName", "surname": "name.familyName", "mail": "emails.value", "email": "emails.value",
}

// Maker makes what an assertion says; it is immutable.
type Maker struct {
	claims Claims
	set    *rules.Set
}

// Compile makes claims ready, or tells what is wrong with them.
func Compile(c Claims) (*Maker, error) {
	if c.Format == "" {
		return nil, problem.New(problem.BadInput, "format: the subject needs one, such as %s.", Persistent)
	}
	list := make([]settings.Rule, 0, len(c.Claims)+1)
	seen := map[string]bool{}
	for i, one := range append([]Claim{c.Subject}, c.Claims...) {
		where := "subject"
		if i > 0 {
			where = fmt.Sprintf("claims[%d] (%s)", i-1, one.Name)
			if one.Name == "" || seen[one.Name] {
				return nil, problem.New(problem.BadInput, "%s: each claim needs a name of its own.", where)
			}
			seen[one.Name] = true
		}
		if n := count(one.From != "") + count(one.Always != "") + count(one.Formula != ""); n != 1 {
			return nil, problem.New(problem.BadInput, "%s: say one of from, always and formula.", where)
		}
		if i == 0 && one.Always != "" {
			return nil, problem.New(problem.BadInput, "subject: a subject that is always the same would sign everybody in as one person.")
		}
		rule := settings.Rule{Target: target(i), From: one.From, Formula: one.Formula}
		if one.Always != "" {
			rule.Always = one.Always
		}
		if _, err := rules.CompileOfResources([]settings.Rule{rule}); err != nil {
			return nil, problem.New(problem.BadInput, "%s: %s.", where, strings.TrimPrefix(err.Error(), "rules[0]: "))
		}
		list = append(list, rule)
	}
	set, err := rules.CompileOfResources(list)
	return &Maker{claims: c, set: set}, err
}

func count(is bool) int {
	if is {
		return 1
	}
	return 0
}

// target names a claim among rules, whose targets are paths of attributes.
func target(i int) string { return "claim" + strconv.Itoa(i) }

// Said is what an assertion says of somebody, or is to say.
type Said struct {
	Subject string              `json:"subject"`
	Format  string              `json:"format"`
	Claims  map[string][]string `json:"claims"`
}

// Of makes what is to be said of a person by the resource in the cloud.
func (m *Maker) Of(resource entry.Resource) (Said, error) {
	said := Said{Format: m.claims.Format, Claims: map[string][]string{}}
	desired := m.set.Apply(rules.Person{{Kind: entry.User, Attributes: resource.Flat()}})
	if desired.Problem != nil {
		return said, desired.Problem
	}
	said.Subject = desired.Text(target(0))
	if said.Subject == "" {
		return said, problem.New(problem.BadInput, "the resource gives no subject: %s is empty.", source(m.claims.Subject))
	}
	for i, claim := range m.claims.Claims {
		if values := desired.Texts(target(i + 1)); len(values) > 0 {
			said.Claims[claim.Name] = values
		}
	}
	return said, nil
}

func source(c Claim) string {
	if c.From != "" {
		return c.From
	}
	return "the formula"
}
