package signin

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"

	"kambrel.example/kambrel/core/act"
	"kambrel.example/kambrel/core/address"
	"kambrel.example/kambrel/core/problem"
	core "kambrel.example/kambrel/core/signin"
	"kambrel.example/kambrel/protocol/federation"
	"kambrel.example/kambrel/protocol/orders"
	"kambrel.example/kambrel/protocol/saml"
	"kambrel.example/kambrel/protocol/wire"
	"kambrel.example/kambrel/service/store"
)

// fetchWithin is how long metadata may take to come.
const fetchWithin = 20 * time.Second

// fetch fetches metadata.
func (s *SignIn) fetch(ctx context.Context, from string) (string, error) {
	u, err := url.Parse(from)
	if err != nil || u.Host == "" || u.Scheme != "https" && !(u.Scheme == "http" && address.Loopback(u.Hostname())) {
		return "", fmt.Errorf("%q: write https://host/path", from)
	}
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, from, nil)
	if err != nil {
		return "", err
	}
	request.Header.Set("Accept", "application/samlmetadata+xml, application/xml")
	response, err := s.http.Do(request)
	if err != nil {
		return "", fmt.Errorf("fetch the metadata: %w", err)
	}
	defer response.Body.Close()
	if response.StatusCode != http.StatusOK {
		return "", fmt.Errorf("fetch the metadata from %s: it answers %s", from, response.Status)
	}
	text, err := io.ReadAll(io.LimitReader(response.Body, saml.MostOctets+1))
	if err == nil && len(text) > saml.MostOctets {
		err = fmt.Errorf("it is longer than %d octets", saml.MostOctets)
	}
	if err != nil {
		return "", fmt.Errorf("fetch the metadata from %s: %w", from, err)
	}
	return string(text), nil
}

// TryProvider tells what metadata says and whether it would be believed; nothing is kept.
func (s *SignIn) TryProvider(ctx context.Context, domain string, in wire.ProviderMetadata) (wire.IdentityProvider, error) {
	view, _, err := s.try(ctx, domain, in)
	return view, err
}

func (s *SignIn) try(ctx context.Context, domain string, in wire.ProviderMetadata) (wire.IdentityProvider, string, error) {
	one, err := s.known(ctx, domain)
	if err != nil {
		return wire.IdentityProvider{}, "", err
	}
	text := in.Metadata
	switch {
	case (text == "") == (in.URL == ""):
		return wire.IdentityProvider{}, "", problem.New(problem.BadInput, "give the metadata, or the URL where it is.")
	case text == "":
		if text, err = s.fetch(ctx, in.URL); err != nil {
			return wire.IdentityProvider{}, "", problem.New(problem.BadInput, "%s.", err)
		}
	}
	provider, err := saml.Provider(text)
	if err != nil {
		return wire.IdentityProvider{}, "", problem.New(problem.BadInput, "%s.", err)
	}
	trust := core.Trust{Fingerprint: fingerprint(in.Fingerprint), Unsigned: in.Unsigned}
	if one.SignOn != federation.ByPassword && one.Provider != "" {
		// Whoever is signed in there must not be handed to another.
		if before, err := saml.Provider(one.Provider); err == nil {
			trust.EntityID = before.EntityID
		}
	}
	side, _ := s.side(ctx, domain) // as far as it can be asked now
	view := providerView(provider, trust, side.Cloud)
	view.URL, view.Fingerprint, view.Unsigned = in.URL, trust.Fingerprint, in.Unsigned
	return view, text, nil
}

// fingerprint is one in the form that it has here: people copy it with colons and in capitals.
func fingerprint(text string) string {
	return strings.ToLower(strings.NewReplacer(":", "", " ", "", "sha256", "", "SHA256", "").Replace(text))
}

// known is what is kept of a domain that the cloud lists.
func (s *SignIn) known(ctx context.Context, domain string) (store.Federation, error) {
	one, err := s.store.Federations.Of(ctx, domain)
	if err != nil || one.Version > 0 {
		return one, err
	}
	catalogue, err := s.cloud.Catalogue(ctx)
	if err != nil {
		return one, err
	}
	for _, listed := range catalogue.Listed {
		if listed.Name == domain {
			return one, nil
		}
	}
	return one, problem.New(problem.NotFound, "the cloud lists no login domain %q: 'kambrel domain list' names those that there are.", domain)
}

// verdicts are checks as they are shown everywhere.
func verdicts(checks []core.Check) []orders.Verdict {
	out := make([]orders.Verdict, len(checks))
	for i, c := range checks {
		out[i] = orders.Verdict{Step: c.Name, Outcome: string(c.Outcome), Detail: c.Detail, Advice: c.Advice}
	}
	return out
}

func providerView(p core.Provider, trust core.Trust, cloud core.Cloud) wire.IdentityProvider {
	view := wire.IdentityProvider{EntityID: p.EntityID, SignedBy: p.SignedBy, Compare: p.SignedBy, Certificates: []wire.ProviderCertificate{}, Verdicts: verdicts(core.CheckProvider(p, trust, cloud, time.Now()))}
	for _, e := range p.SignOn {
		if e.Binding == core.Redirect {
			view.SignOn = e.Location
		}
	}
	for _, c := range p.Signing {
		view.Certificates = append(view.Certificates, wire.ProviderCertificate{Fingerprint: c.Fingerprint, Subject: c.Subject, From: c.From, Until: c.Until})
		if view.Compare == "" {
			view.Compare = c.Fingerprint
		}
	}
	return view
}

// SetProvider believes an identity provider's metadata for a domain. Nobody's sign-in changes by
// it where nobody signs in there yet.
func (s *SignIn) SetProvider(ctx context.Context, by, domain string, in wire.ProviderMetadata) (wire.Federation, error) {
	view, text, err := s.try(ctx, domain, in)
	if bad, found := orders.FirstBad(view.Verdicts); err == nil && found {
		err = problem.New(problem.BadInput, "%s: %s. %s Nothing was changed.", bad.Name(), bad.Detail, bad.Advice)
	}
	var refused *problem.Error
	if errors.As(err, &refused) && refused.Code == problem.BadInput {
		err = errors.Join(err, s.store.Acts.Record(ctx, act.Act{Kind: act.SetProvider, By: by, About: aboutDomain(domain), After: said{Provider: view.EntityID}, Result: act.Refused, Note: refused.Detail}))
	}
	if err != nil {
		return wire.Federation{}, err
	}
	now := time.Now()
	if err := s.edit(ctx, by, domain, act.SetProvider, func(one *store.Federation) error {
		one.Provider, one.ProviderURL, one.Fingerprint, one.Unsigned, one.Own = text, in.URL, view.Fingerprint, in.Unsigned, false
		one.Fetched, one.FetchFailure, one.FetchFailing, one.Offer = &now, "", nil, ""
		return nil
	}); err != nil {
		return wire.Federation{}, err
	}
	return s.Of(ctx, domain)
}

// RemoveProvider forgets the identity provider of a domain whose people do not sign in there.
func (s *SignIn) RemoveProvider(ctx context.Context, by, domain string) (wire.Federation, error) {
	if err := s.edit(ctx, by, domain, act.RemoveProvider, func(one *store.Federation) error {
		switch {
		case one.SignOn != federation.ByPassword:
			return problem.New(problem.BadInput, "people of %s sign in there: 'kambrel domain sign-in %s --by password' first.", domain, domain)
		case one.Provider == "":
			return problem.New(problem.NotFound, "there is no identity provider for %s.", domain)
		}
		one.Provider, one.ProviderURL, one.Fingerprint, one.Unsigned, one.Offer, one.Own = "", "", "", false, "", false
		one.Fetched, one.FetchFailure, one.FetchFailing = nil, "", nil
		return nil
	}); err != nil {
		return wire.Federation{}, err
	}
	return s.Of(ctx, domain)
}

// RefreshProvider fetches a provider's metadata anew.
func (s *SignIn) RefreshProvider(ctx context.Context, domain string) (wire.Federation, error) {
	one, err := s.store.Federations.Of(ctx, domain)
	if err != nil {
		return wire.Federation{}, err
	}
	if one.ProviderURL == "" {
		return wire.Federation{}, problem.New(problem.BadInput, "its metadata was given as a file: give the new one.")
	}
	if err := s.refresh(ctx, domain); err != nil {
		return wire.Federation{}, err
	}
	return s.Of(ctx, domain)
}

// refresh fetches metadata anew. Signed by the key that is trusted it is taken, with whatever
// certificates it has now; otherwise the one of before stays, and what came is shown.
func (s *SignIn) refresh(ctx context.Context, domain string) error {
	one, err := s.store.Federations.Of(ctx, domain)
	if err != nil {
		return err
	}
	now := time.Now()
	one.Fetched = &now
	refused := func(offer, why string) error {
		if one.FetchFailing == nil {
			one.FetchFailing = &now
		}
		one.Offer, one.FetchFailure = offer, why
		return s.store.Federations.NoteFetched(ctx, one)
	}
	text, err := s.fetch(ctx, one.ProviderURL)
	if err != nil {
		return refused(one.Offer, err.Error())
	}
	fresh, err := saml.Provider(text)
	if err != nil {
		return refused("", err.Error())
	}
	before, err := saml.Provider(one.Provider)
	if err != nil {
		return refused("", err.Error())
	}
	if text != one.Provider {
		verdicts := core.CheckProvider(fresh, core.Trust{Fingerprint: one.Fingerprint, Unsigned: one.Unsigned, EntityID: before.EntityID}, core.Cloud{}, now)
		if bad, found := core.FirstBad(verdicts); found {
			return refused(text, bad.Name+": "+bad.Detail)
		}
		// Not signed, the whole of it hangs on the one certificate that was compared.
		if fresh.SignedBy == "" && len(fresh.Signing) > 1 {
			return refused(text, "it is not signed, and it brings another certificate than the one that was compared")
		}
	}
	one.FetchFailure, one.FetchFailing, one.Offer = "", nil, ""
	if err := s.store.Federations.NoteFetched(ctx, one); err != nil || text == one.Provider {
		return err
	}
	take := func(kept *store.Federation) error {
		kept.Provider = text
		return nil
	}
	if basisOf(fresh, core.Claims{}) != basisOf(before, core.Claims{}) {
		return s.edit(ctx, itself, domain, act.SetProvider, take)
	}
	// It is valid for longer, and nothing else: no act, or there would be one at each fetch.
	return s.store.Tx(ctx, func(tx *store.Store) error {
		kept, err := tx.Federations.ForUpdate(ctx, domain)
		if err != nil {
			return err
		}
		kept.Provider = text
		return tx.Federations.Save(ctx, kept, "", false)
	})
}
