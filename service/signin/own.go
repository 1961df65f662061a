package signin

import (
	"context"
	"time"

	"kambrel.example/kambrel/core/about"
	"kambrel.example/kambrel/core/act"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/problem"
	core "kambrel.example/kambrel/core/signin"
	"kambrel.example/kambrel/protocol/federation"
	"kambrel.example/kambrel/protocol/saml"
	"kambrel.example/kambrel/protocol/wire"
	"kambrel.example/kambrel/service/provider"
	"kambrel.example/kambrel/service/store"
)

// SetOwn has Kambrel itself be the identity provider of a domain.
func (s *SignIn) SetOwn(ctx context.Context, by, domain string) (wire.Federation, error) {
	one, err := s.known(ctx, domain)
	if err != nil {
		return wire.Federation{}, err
	}
	if one.SignOn != federation.ByPassword && !one.Own {
		return wire.Federation{}, problem.New(problem.BadInput, "people of %s sign in at another provider: 'kambrel domain sign-in %s --by password' first.", domain, domain)
	}
	side, err := s.side(ctx, domain)
	if err != nil {
		return wire.Federation{}, err
	}
	if err := s.store.Tx(ctx, func(tx *store.Store) error { return s.own.Ready(ctx, tx) }); err != nil {
		return wire.Federation{}, err
	}
	metadata, fingerprint, err := s.own.Metadata(ctx)
	if err != nil {
		return wire.Federation{}, err
	}
	now := time.Now()
	if err := s.edit(ctx, by, domain, act.SetProvider, func(one *store.Federation) error {
		one.Provider, one.ProviderURL, one.Fingerprint, one.Unsigned, one.Own, one.Cloud = metadata, "", fingerprint, false, true, side.metadata
		one.Fetched, one.FetchFailure, one.FetchFailing, one.Offer = &now, "", nil, ""
		return nil
	}); err != nil {
		return wire.Federation{}, err
	}
	return s.Of(ctx, domain)
}

// RenewOwn makes the next key of the own provider.
func (s *SignIn) RenewOwn(ctx context.Context, by string) error {
	return s.store.Tx(ctx, func(tx *store.Store) error {
		if err := s.own.Renew(ctx, tx); err != nil {
			return err
		}
		if err := tx.Acts.Record(ctx, act.Act{Kind: act.RenewProvider, By: by, About: about.Thing{Type: about.Service}}); err != nil {
			return err
		}
		return tx.Notify(ctx, store.Event{Kind: store.EventFederation})
	})
}

// turnOwn goes on with the keys of the own provider, and tells each domain of it what it says of
// itself now: a certificate is in the cloud before anything is signed by it.
func (s *SignIn) turnOwn(ctx context.Context) error {
	all, err := s.store.Federations.List(ctx)
	if err != nil {
		return err
	}
	inStep, own := true, 0
	for _, one := range all {
		if one.Own {
			own++
			inStep = inStep && one.Sent == one.Version && one.Drift == "" && one.Failing == nil
		}
	}
	if own == 0 {
		return nil
	}
	metadata, fingerprint, err := s.own.Metadata(ctx)
	if err != nil {
		return err
	}
	told := true
	for _, one := range all {
		if !one.Own || one.Provider == metadata {
			continue
		}
		told = false
		if err := s.store.Tx(ctx, func(tx *store.Store) error {
			kept, err := tx.Federations.ForUpdate(ctx, one.Domain)
			if err != nil || !kept.Own {
				return err
			}
			kept.Provider, kept.Fingerprint = metadata, fingerprint
			return tx.Federations.Save(ctx, kept, "", false)
		}); err != nil {
			return err
		}
	}
	changed, err := s.own.Turn(ctx, told && inStep)
	if err == nil && changed {
		err = s.store.Notify(ctx, store.Event{Kind: store.EventFederation})
	}
	return err
}

// Desktops tells what desktops and browsers need so that people of a domain sign in.
func (s *SignIn) Desktops(ctx context.Context, domain string) (wire.Desktops, error) {
	one, err := s.known(ctx, domain)
	if err != nil {
		return wire.Desktops{}, err
	}
	if one.Provider == "" {
		return wire.Desktops{}, problem.New(problem.BadInput, "there is no identity provider for %s yet, so that desktops need nothing.", domain)
	}
	p, err := saml.Provider(one.Provider)
	if err != nil {
		return wire.Desktops{}, err
	}
	desk := core.Desk{Domain: domain, Own: one.Own, Tickets: one.Own && s.own.TakesTickets()}
	for _, e := range p.SignOn {
		if e.Binding == core.Redirect {
			desk.SignOn = e.Location
		}
	}
	metadata := one.Cloud
	if metadata == "" {
		if side, err := s.side(ctx, domain); err == nil {
			metadata = side.metadata
		}
	}
	if cloud, err := saml.Cloud(metadata); err == nil {
		desk.Cloud = cloud.Consumer
	}
	revision, ok, err := s.store.Settings.Active(ctx)
	if err != nil {
		return wire.Desktops{}, err
	}
	for _, d := range revision.Document.Directories {
		if ok && d.Dialect == entry.AD {
			desk.Realms = append(desk.Realms, provider.RealmOf(d.Base))
		}
	}
	desk.Tickets = desk.Tickets && len(desk.Realms) > 0
	return wire.Desktops{Domain: domain, Sections: core.Desktops(desk)}, nil
}
