// Package match decides for an entry without a link whether it takes over a
// resource that is already in the cloud, and which: by link key first, then by
// the match rules in their order. It never guesses; a doubt is a problem with
// both sides named.
package match

import (
	"fmt"
	"strings"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/reason"
	"kambrel.example/kambrel/core/settings"
)

// Key is one value by which a resource can be found. Text is what the cloud
// mirror indexes.
type Key struct {
	Kind      entry.Kind
	Rule      string // the match rule's name, "link key" for externalId
	Attribute string
	Value     string
}

// LinkKeyRule is the name of the implicit first rule.
const LinkKeyRule = "link key"

// Text is the indexed form: the attribute's path without selector, an equals
// sign, and the value in lower case.
func (k Key) Text() string { return KeyText(k.Kind, k.Attribute, k.Value) }

// KeyText builds the indexed form of an attribute's value. Kinds do not meet,
// but for addresses, which people, groups and contacts share.
func KeyText(kind entry.Kind, attribute, value string) string {
	if kind != entry.User && attribute != "emails.value" {
		attribute = string(kind) + ":" + attribute
	}
	return attribute + "=" + strings.ToLower(strings.TrimSpace(value))
}

// Action is the outcome of matching.
type Action string

// The actions.
const (
	Relink Action = "relink" // the resource bears the link key already
	Adopt  Action = "adopt"
	Create Action = "create"
	Stop   Action = "stop" // a problem keeps the entry from being matched
)

// Candidate is a resource that one of the keys found.
type Candidate struct {
	Resource entry.Resource
	// Owner is the entry that the resource belongs to, nil when it is free. Former:
	// it was this entry under another id, see Returned.
	Owner  *problem.Entry
	Former bool
}

// Decision is what happens with the entry, and why.
type Decision struct {
	Action   Action
	Resource entry.Resource
	Rule     string
	Problem  *problem.Error
	Reasons  []reason.Node
}

// Rules are the compiled match rules.
type Rules struct{ rules []settings.MatchRule }

// Compile prepares the match rules of a valid document.
func Compile(of settings.Taking) *Rules { return &Rules{of.Match} }

// Attributes lists the directory attributes that the rules read.
func (m *Rules) Attributes() []string {
	var names []string
	for _, rule := range m.rules {
		if rule.From != "" {
			names = append(names, rule.From)
		}
	}
	return names
}

// Indexed lists the resource attributes the cloud mirror must index.
func (m *Rules) Indexed() []entry.Path {
	var paths []entry.Path
	for _, rule := range m.rules {
		if path, err := entry.ParsePath(rule.Resource); err == nil {
			paths = append(paths, path)
		}
	}
	return paths
}

// Keys lists the values by which the entry's resource may be found, in the
// order in which they count. wanted gives the values that the resource would
// have at paths with a key (entry.Path.Key); others are ids of entries that are
// the same person.
func (m *Rules) Keys(e entry.Entry, wanted func(key string) []string, others ...entry.ID) []Key {
	keys := []Key{{e.Kind, LinkKeyRule, "externalId", e.LinkKey()}}
	for _, id := range others {
		keys = append(keys, Key{e.Kind, LinkKeyRule, "externalId", id.String()})
	}
	for _, rule := range m.rules {
		path, err := entry.ParsePath(rule.Resource)
		if err != nil {
			continue
		}
		values := wanted(path.Key())
		if rule.From != "" {
			values = e.Attributes.All(rule.From)
		}
		for _, value := range values {
			if strings.TrimSpace(value) != "" {
				keys = append(keys, Key{e.Kind, rule.Name, path.Key(), value})
			}
		}
	}
	return keys
}

// Decide matches an entry by its keys; found gives the candidates of one key.
func Decide(keys []Key, found func(Key) []Candidate) Decision {
	var d Decision
	byRule := map[string][]Candidate{}
	for _, key := range keys {
		for _, candidate := range found(key) {
			if !contains(byRule[key.Rule], candidate.Resource.ID()) {
				byRule[key.Rule] = append(byRule[key.Rule], candidate)
			}
		}
	}
	decided := false
	var reasons []reason.Node
	seen := map[string]bool{}
	for _, key := range keys {
		if seen[key.Rule] {
			continue
		}
		seen[key.Rule] = true
		node := reason.Node{Text: fmt.Sprintf("%s: a resource with %s = %s", key.Rule, key.Attribute, key.Value), Outcome: reason.No, Value: "none"}
		if candidates := byRule[key.Rule]; len(candidates) > 0 {
			names := make([]string, len(candidates))
			for i, c := range candidates {
				names[i] = c.Resource.Name() + " (" + c.Resource.ID() + ")"
			}
			node.Outcome, node.Value = reason.Yes, strings.Join(names, ", ")
			if !decided {
				decided, node.Deciding = true, true
				d = decideOne(key, candidates)
				if d.Problem != nil {
					node.Outcome = reason.Bad
				}
			}
		}
		reasons = append(reasons, node)
	}
	d.Reasons = reasons
	if !decided {
		d.Action = Create
	}
	return d
}

func decideOne(key Key, candidates []Candidate) Decision {
	d := Decision{Action: Stop, Rule: key.Rule}
	first := candidates[0]
	stop := func(code problem.Code) {
		facts := problem.Facts{Rule: key.Rule, Attribute: key.Attribute, Value: key.Value}
		for _, c := range candidates {
			resource := problem.ResourceOf(c.Resource)
			resource.Owner = c.Owner
			facts.Resources = append(facts.Resources, resource)
		}
		d.Problem = problem.Of(code, facts)
	}
	switch {
	case len(candidates) > 1:
		stop(problem.AmbiguousMatch)
	case first.Former:
		d.Action, d.Resource = Relink, first.Resource
	case first.Owner != nil:
		stop(problem.LinkConflict)
	case key.Rule == LinkKeyRule:
		d.Action, d.Resource = Relink, first.Resource
	case first.Resource.ExternalID() != "":
		stop(problem.LinkConflict)
	case len(first.Resource.AdministrativeRoles()) > 0:
		stop(problem.ProtectedResource)
	default:
		d.Action, d.Resource = Adopt, first.Resource
	}
	return d
}

// Returned tells whether an entry is one that was deleted, made again: in the
// same directory, of the same kind, with the same name and, for people, the same
// login, and nothing that contradicts it. Somebody else who is given the name of
// a leaver has another number or was called otherwise.
func Returned(e, former entry.Entry) bool {
	same := func(names ...string) (known, equal bool) {
		for _, name := range names {
			a, b := strings.TrimSpace(e.Attributes.First(name)), strings.TrimSpace(former.Attributes.First(name))
			if a != "" && b != "" {
				return true, strings.EqualFold(a, b)
			}
		}
		return false, false
	}
	if !former.Gone || e.Gone || e.Directory != former.Directory || e.Kind != former.Kind || !strings.EqualFold(e.Name(), former.Name()) {
		return false
	}
	for _, name := range []string{"employeeNumber", "employeeID", "givenName", "sn", "displayName"} {
		if known, equal := same(name); known && !equal {
			return false
		}
	}
	if e.Kind == entry.User {
		known, equal := same("userPrincipalName", "mail", "uid")
		return known && equal
	}
	known, equal := same("mail")
	return equal || !known && entry.SameDN(e.DN, former.DN)
}

// FormerKey is the key by which the resource of an entry is found that was
// deleted and made again.
func FormerKey(kind entry.Kind, linkKey string) Key {
	return Key{kind, LinkKeyRule, "externalId", linkKey}
}

// ByHand is the match that an operator has decided. Only here may a resource
// with an administrative role be taken.
func ByHand(resource entry.Resource, by string) Decision {
	return Decision{Action: Adopt, Resource: resource, Rule: "by hand, " + by, Reasons: []reason.Node{
		{Text: "linked by hand", Outcome: reason.Yes, Value: by + " decided for " + resource.Name() + " (" + resource.ID() + ")", Deciding: true},
	}}
}

// TakenByHand is the match that an operator has decided, of a resource that
// belongs to another entry by now.
func TakenByHand(resource entry.Resource, by string, owner problem.Entry) Decision {
	taken := problem.ResourceOf(resource)
	taken.Owner = &owner
	p := problem.Of(problem.LinkConflict, problem.Facts{By: by, Resources: []problem.Resource{taken}})
	return Decision{Action: Stop, Rule: "by hand, " + by, Problem: p,
		Reasons: []reason.Node{{Text: "linked by hand", Outcome: reason.Bad, Value: p.Detail, Deciding: true}}}
}

// Held is the match of an entry that an operator has unlinked: none, until
// something else is decided.
func Held(by string) Decision {
	return Decision{Action: Stop, Rule: "by hand", Problem: problem.Of(problem.HeldByHand, problem.Facts{By: by}),
		Reasons: []reason.Node{{Text: "held by hand", Outcome: reason.Bad, Value: by + " has unlinked it", Deciding: true}}}
}

// TooNear is the problem of an entry for which somebody in the cloud looks like
// the same person.
func TooNear(found []Alike) Decision {
	d := Decision{Action: Stop, Rule: "near miss"}
	var facts problem.Facts
	for _, a := range found {
		resource := problem.ResourceOf(a.Resource)
		resource.Alike, resource.Value = a.Key.Rule, a.Key.Value
		facts.Resources = append(facts.Resources, resource)
	}
	d.Problem = problem.Of(problem.NearMiss, facts)
	for _, a := range found {
		d.Reasons = append(d.Reasons, reason.Node{Text: "near miss: " + a.Key.Rule, Outcome: reason.Bad, Value: a.Resource.Name() + " (" + a.Resource.ID() + "), " + a.Key.Value, Deciding: true})
	}
	return d
}

// Alike is a resource that looks like the same person, and why.
type Alike struct {
	Resource entry.Resource
	Key      Key
}

func contains(candidates []Candidate, id string) bool {
	for _, c := range candidates {
		if c.Resource.ID() == id {
			return true
		}
	}
	return false
}
