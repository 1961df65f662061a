package plan

import (
	"slices"
	"strings"

	"kambrel.example/kambrel/core/problem"
)

// CheckLogin turns a decision that would give a resource a login outside the
// verified domains into a problem, before anything is sent. Domains are in
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
			return blocked(problem.New(problem.LoginSuffix, "%s ends in %s; verified are %s", login, domain, strings.Join(domains, ", ")))
		}
	}
	return d
}
