package plan

import (
	"slices"
	"strings"

	"kambrel.example/kambrel/core/change"
	"kambrel.example/kambrel/core/problem"
)

// CheckLogin turns a decision that would give a resource a login outside the
// verified domains into a problem, before it is sent; of a resource that is there
// only the login waits. Domains are in
// small letters; nil means that they are not known.
func CheckLogin(d Decision, domains []string) Decision {
	if domains == nil {
		return d
	}
	for _, diff := range d.Diffs {
		login, ok := diff.After.(string)
		if !ok || !strings.EqualFold(diff.Target, "userName") {
			continue
		}
		_, domain, found := strings.Cut(login, "@")
		if found && !slices.Contains(domains, strings.ToLower(domain)) {
			return d.without(problem.Of(problem.LoginSuffix, problem.Facts{Attribute: diff.Target, Value: login, Domains: domains}), func(other change.Diff) bool {
				return strings.EqualFold(other.Target, diff.Target)
			})
		}
	}
	return d
}
