package setup

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/protocol/federation"
	"kambrel.example/kambrel/protocol/wire"
)

// listsWithin is how long it is waited for the cloud's list of domains.
const listsWithin = 3 * time.Second

// Domains tells of each login domain whether the cloud has verified it, how many people have
// logins in it, how they sign in, and who waits for it. A cloud that is away does not keep one
// from looking at the rest.
func (e *Setup) Domains(ctx context.Context) (wire.LoginDomains, error) {
	out := wire.LoginDomains{Items: []wire.LoginDomain{}}
	counts, looked, of, err := e.store.Resources.LoginDomains(ctx)
	if err != nil {
		return out, err
	}
	out.Looked, out.Of = looked, of
	waiting, err := e.store.Problems.WaitingLogins(ctx, string(problem.LoginSuffix))
	if err != nil {
		return out, err
	}
	document, err := e.Document(ctx, true)
	if err != nil {
		return out, err
	}
	at := map[string]int{}
	domain := func(name string) *wire.LoginDomain {
		name = strings.ToLower(name)
		i, known := at[name]
		if !known {
			i = len(out.Items)
			at[name], out.Items = i, append(out.Items, wire.LoginDomain{Name: name, Verified: wire.DomainUnknown, SignOn: string(federation.ByPassword)})
		}
		return &out.Items[i]
	}
	asking, cancel := context.WithTimeout(ctx, listsWithin)
	defer cancel()
	catalogue, err := e.cloud.Catalogue(asking)
	switch {
	case asking.Err() != nil && ctx.Err() == nil:
		out.Away = fmt.Sprintf("the cloud does not answer within %s.", listsWithin)
	case err != nil:
		out.Away = err.Error()
	case catalogue.Domains != nil:
		out.From = "cloud"
		for _, listed := range catalogue.Listed {
			d := domain(listed.Name)
			d.Verification = listed.Verification
			if d.Verified = wire.DomainUnverified; listed.Verified {
				d.Verified = wire.DomainVerified
			}
		}
	default:
		for _, name := range document.Cloud.Domains {
			out.From = "settings"
			domain(name).Verified = wire.DomainVerified
		}
	}
	for _, c := range counts {
		d := domain(c.Name)
		d.People, d.Active, d.Linked, d.Digests = c.People, c.Active, c.Linked, c.Digests
	}
	federations, err := e.store.Federations.List(ctx)
	if err != nil {
		return out, err
	}
	for _, one := range federations {
		domain(one.Domain).SignOn = string(one.SignOn)
	}
	for name, n := range waiting {
		domain(name).Waiting = n
	}
	for i := range out.Items {
		// A list that leaves a domain out says that it is not verified.
		if d := &out.Items[i]; out.From != "" && d.Verified == wire.DomainUnknown {
			d.Verified = wire.DomainUnverified
		}
	}
	slices.SortFunc(out.Items, func(a, b wire.LoginDomain) int { return strings.Compare(a.Name, b.Name) })
	return out, nil
}
