package signin

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"time"

	"kambrel.example/kambrel/core/act"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/problem"
	core "kambrel.example/kambrel/core/signin"
	"kambrel.example/kambrel/protocol/federation"
	"kambrel.example/kambrel/protocol/orders"
	"kambrel.example/kambrel/protocol/saml"
	"kambrel.example/kambrel/protocol/wire"
	"kambrel.example/kambrel/service/explain"
	"kambrel.example/kambrel/service/store"
)

// Of tells how the people of a domain sign in, and what that hangs on.
func (s *SignIn) Of(ctx context.Context, domain string) (wire.Federation, error) {
	one, err := s.known(ctx, domain)
	if err != nil {
		return wire.Federation{}, err
	}
	view := wire.Federation{Domain: domain, SignOn: string(one.SignOn), ChangedBy: one.ChangedBy, SentAt: one.SentAt, Checks: []orders.Verdict{}, Tests: []wire.SignInTest{}}
	if one.Version > 0 {
		view.ChangedAt = &one.ChangedAt
	}
	side, away := s.side(ctx, domain)
	if away != nil {
		view.Away = away.Error()
	}
	// Of a cloud that does not answer now it is not said that it offers nothing.
	view.Offered = side.offered || away != nil
	if side.offered {
		view.Cloud = &wire.FederationCloud{EntityID: side.EntityID, Consumer: side.Consumer, Formats: list(side.Formats), Wanted: list(side.Wanted), Metadata: side.metadata}
	}
	view.Claims, view.Default = one.ClaimsFor(side.Cloud), one.Claims == nil
	view.State, view.Detail = stateOf(one)
	var provider core.Provider
	if one.Provider != "" {
		if provider, err = saml.Provider(one.Provider); err != nil {
			return view, err
		}
		shown := providerView(provider, core.Trust{Fingerprint: one.Fingerprint, Unsigned: one.Unsigned}, side.Cloud)
		shown.URL, shown.Own, shown.Fingerprint, shown.Unsigned, shown.Fetched, shown.FetchFailure, shown.Metadata = one.ProviderURL, one.Own, one.Fingerprint, one.Unsigned, one.Fetched, one.FetchFailure, one.Provider
		view.Provider = &shown
	}
	if one.Offer != "" {
		if offered, err := saml.Provider(one.Offer); err == nil {
			shown := providerView(offered, core.Trust{Fingerprint: one.Fingerprint, Unsigned: one.Unsigned, EntityID: provider.EntityID}, side.Cloud)
			shown.URL, shown.Metadata = one.ProviderURL, one.Offer
			view.Offer = &shown
		}
	}
	if view.People, err = s.named(ctx, one.People); err != nil {
		return view, err
	}
	if view.Groups, err = s.named(ctx, one.Groups); err != nil {
		return view, err
	}
	if away == nil {
		s.lookAtOpen(ctx, domain)
	}
	tests, err := s.store.Federations.Tests(ctx, domain)
	if err != nil {
		return view, err
	}
	basis := basisOf(provider, view.Claims)
	for _, test := range tests {
		view.Tests = append(view.Tests, testView(test, basis))
	}
	checks, err := s.checks(ctx, one, view.Claims, federation.ByProvider)
	view.Checks = verdicts(checks)
	return view, err
}

// side is the cloud's.
type side struct {
	core.Cloud
	metadata string
	offered  bool
}

func (s *SignIn) side(ctx context.Context, domain string) (side, error) {
	asking, cancel := context.WithTimeout(ctx, asksWithin)
	defer cancel()
	d, offered, err := s.cloud.Federation(asking, domain)
	switch {
	case asking.Err() != nil && ctx.Err() == nil:
		return side{}, fmt.Errorf("the cloud does not answer within %s", asksWithin)
	case err != nil || !offered:
		return side{}, err
	}
	c, err := saml.Cloud(d.Metadata)
	return side{c, d.Metadata, err == nil}, err
}

func list[T any](items []T) []T {
	if items == nil {
		return []T{}
	}
	return items
}

func stateOf(one store.Federation) (string, string) {
	switch {
	case one.Failing != nil:
		return "failing", one.Failure
	case one.Drift != "":
		return "drifted", one.Drift
	case one.Sent < one.Version:
		return "sending", ""
	}
	return "in-step", ""
}

// named are resources by name; of one that is gone only the id is left.
func (s *SignIn) named(ctx context.Context, ids []string) ([]wire.NamedResource, error) {
	out := []wire.NamedResource{}
	for _, id := range ids {
		resource, err := s.store.Resources.Get(ctx, id)
		if err != nil && !store.NotFound(err) {
			return out, err
		}
		out = append(out, named(id, resource))
	}
	return out, nil
}

func named(id string, resource entry.Resource) wire.NamedResource {
	text := func(name string) string { value, _ := resource[name].(string); return value }
	return wire.NamedResource{ID: id, Name: cmp.Or(text("displayName"), text("userName"), id), Login: text("userName")}
}

// resource finds somebody or a group in the cloud by what people call them.
func (s *SignIn) resource(ctx context.Context, text string, kind entry.Kind) (string, entry.Resource, error) {
	hit, err := s.explain.ResolveResource(ctx, text)
	if err != nil {
		return "", nil, err
	}
	id := hit.ResourceID
	if id == "" {
		ref, err := explain.RefOf(hit)
		if err != nil {
			return "", nil, err
		}
		link, err := s.store.Links.Of(ctx, ref)
		if store.NotFound(err) {
			return "", nil, problem.New(problem.BadInput, "%q has nothing in the cloud.", text)
		}
		if err != nil {
			return "", nil, err
		}
		id = link.ResourceID
	}
	found, resource, err := s.store.Resources.OfKind(ctx, id)
	if store.NotFound(err) || err == nil && resource == nil {
		return "", nil, problem.New(problem.BadInput, "%q is not in the cloud.", text)
	}
	if err == nil && found != kind {
		err = problem.New(problem.BadInput, "%q is a %s in the cloud, and wanted is a %s.", text, found, kind)
	}
	return id, resource, err
}

// SetClaims says what an assertion says of somebody; nil goes back to what the cloud asks for.
func (s *SignIn) SetClaims(ctx context.Context, by, domain string, claims *core.Claims) (wire.Federation, error) {
	if _, err := s.known(ctx, domain); err != nil {
		return wire.Federation{}, err
	}
	if claims != nil {
		if claims.Claims == nil {
			claims.Claims = []core.Claim{}
		}
		if _, err := core.Compile(*claims); err != nil {
			return wire.Federation{}, err
		}
	}
	if err := s.edit(ctx, by, domain, act.SetClaims, func(one *store.Federation) error {
		one.Claims = claims
		return nil
	}); err != nil {
		return wire.Federation{}, err
	}
	return s.Of(ctx, domain)
}

// TryClaims tells what an assertion would have to say of somebody.
func (s *SignIn) TryClaims(ctx context.Context, domain string, in wire.TryClaims) (wire.TriedClaims, error) {
	one, err := s.known(ctx, domain)
	if err != nil {
		return wire.TriedClaims{}, err
	}
	side, _ := s.side(ctx, domain)
	claims := one.ClaimsFor(side.Cloud)
	if in.Claims != nil {
		claims = *in.Claims
	}
	id, resource, err := s.resource(ctx, in.Person, entry.User)
	if err != nil {
		return wire.TriedClaims{}, err
	}
	tried := wire.TriedClaims{Person: named(id, resource)}
	maker, err := core.Compile(claims)
	if err != nil {
		return tried, err
	}
	if tried.Said, err = maker.Of(resource); err != nil {
		var known *problem.Error
		if !errors.As(err, &known) {
			return tried, err
		}
		return tried, problem.New(problem.BadInput, "%s: %s", tried.Person.Name, known.Detail)
	}
	tried.Fields = core.Fit(tried.Said, side.Cloud, domain, resource)
	return tried, nil
}

func testView(test store.SignInTest, basis string) wire.SignInTest {
	view := wire.SignInTest{ID: test.ID, Person: wire.NamedResource{ID: test.Person, Name: test.Name, Login: test.Login}, By: test.By, Began: test.Began, Expires: test.Expires,
		Answered: test.Answered, CloudAccepted: test.CloudAccepted, CloudReason: test.CloudReason, Counts: test.Basis == basis, Fields: list(test.Fields)}
	switch {
	case test.Answered == nil && test.Expires != nil && time.Now().After(*test.Expires):
		view.State = "ended"
	case test.Answered == nil:
		view.State, view.URL = "waiting", test.URL
	case test.Accepted:
		view.State = "accepted"
	default:
		view.State = "refused"
	}
	return view
}
