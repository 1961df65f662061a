// Package signin is how the people of each login domain sign in to the cloud: what an operator has
// said of it, what the identity provider and the cloud say of themselves, tests, and the switch
// from one to the other with the way back. What is said is kept first and then brought to the
// cloud, as often as it takes, by one of the services on a database.
package signin

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"log/slog"
	"net/http"
	"slices"
	"sync"
	"time"

	"kambrel.example/kambrel/cloud"
	"kambrel.example/kambrel/core/about"
	"kambrel.example/kambrel/core/act"
	"kambrel.example/kambrel/core/logkey"
	"kambrel.example/kambrel/core/problem"
	core "kambrel.example/kambrel/core/signin"
	"kambrel.example/kambrel/protocol/federation"
	"kambrel.example/kambrel/protocol/saml"
	"kambrel.example/kambrel/protocol/wire"
	"kambrel.example/kambrel/service/events"
	"kambrel.example/kambrel/service/explain"
	"kambrel.example/kambrel/service/provider"
	"kambrel.example/kambrel/service/setup"
	"kambrel.example/kambrel/service/store"
)

const (
	// every is how often the cloud is asked whether it has what was said.
	every = 20 * time.Second
	// testsEvery is how often it is asked what came of a test that goes on.
	testsEvery = 2 * time.Second
	// fetchEvery is how often metadata is fetched anew.
	fetchEvery = 6 * time.Hour
	// again is how soon what failed is tried once more.
	again = 5 * time.Second
	// asksWithin is how long it is waited for the cloud where somebody waits.
	asksWithin = 5 * time.Second
	// toldAfter is how long the cloud may fail to take what was said before that is told.
	toldAfter = 15 * time.Second
	// itself is who has done what no person did.
	itself = "the service"
)

// SignIn looks after how people sign in. Its methods may be called from many goroutines.
type SignIn struct {
	store   *store.Store
	cloud   *cloud.Client
	hub     *events.Hub
	explain *explain.Explain
	http    *http.Client
	own     *provider.Provider

	group sync.WaitGroup
	stop  context.CancelFunc
}

// New makes one; Start sets it going.
func New(s *store.Store, c *cloud.Client, hub *events.Hub, x *explain.Explain, own *provider.Provider) *SignIn {
	// What is fetched is believed for where it comes from as well, so nothing leads elsewhere.
	stay := func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }
	return &SignIn{store: s, cloud: c, hub: hub, explain: x, own: own, http: &http.Client{Timeout: fetchWithin, CheckRedirect: stay}}
}

// Start brings to the cloud what is said, until Stop.
func (s *SignIn) Start(ctx context.Context) {
	ctx, s.stop = context.WithCancel(context.WithoutCancel(ctx))
	s.group.Go(func() { s.follow(ctx) })
}

// Stop ends it.
func (s *SignIn) Stop() {
	if s.stop != nil {
		s.stop()
		s.group.Wait()
	}
}

// follow looks at how things stand, from time to time and when something was said.
func (s *SignIn) follow(ctx context.Context) {
	told, ended := s.hub.Subscribe()
	defer ended()
	said := "" // the same failure is told once
	for ctx.Err() == nil {
		next := every
		_, err := s.store.Own(ctx, store.SigningIn, 1, func(ctx context.Context) error {
			var err error
			next, err = s.look(ctx)
			return err
		})
		switch {
		case err == nil:
			said = ""
		case ctx.Err() == nil && store.Away(err) == nil && err.Error() != said:
			said = err.Error()
			slog.Error("look at how people sign in to the cloud", logkey.Error, err)
		}
		await(ctx, told, next)
	}
}

// await waits for a word of how people sign in, or as long as most.
func await(ctx context.Context, told <-chan store.Event, most time.Duration) {
	due := time.After(most)
	for {
		select {
		case <-ctx.Done():
			return
		case <-due:
			return
		case event := <-told:
			if event.Kind == store.EventFederation || event.Kind == store.EventCloud || event.Kind == "" {
				return
			}
		}
	}
}

// look brings every domain up to date, and tells when to look again.
func (s *SignIn) look(ctx context.Context) (time.Duration, error) {
	next := every
	sooner := func(d time.Duration) { next = min(next, d) }
	all, err := s.store.Federations.List(ctx)
	if err != nil || len(all) == 0 {
		return next, err
	}
	// Of another cloud nothing is known, and nobody's sign-in is switched there.
	if err := setup.SameCloud(ctx, s.store, s.cloud); err != nil {
		return again, err
	}
	for _, one := range all {
		if one.ProviderURL != "" && (one.Fetched == nil || time.Since(*one.Fetched) > fetchEvery) {
			if err := s.refresh(ctx, one.Domain); err != nil {
				return again, err
			}
			if one, err = s.store.Federations.Of(ctx, one.Domain); err != nil {
				return again, err
			}
		}
		if err := s.bring(ctx, one); err != nil {
			return again, err
		}
		if now, err := s.store.Federations.Of(ctx, one.Domain); err != nil || now.Sent < now.Version {
			sooner(again)
		}
	}
	if err := s.turnOwn(ctx); err != nil {
		return again, err
	}
	if s.lookAtOpen(ctx, "") {
		sooner(testsEvery)
	}
	return next, nil
}

// bring has the cloud do what was said of a domain, or notes that it does something else.
func (s *SignIn) bring(ctx context.Context, one store.Federation) error {
	// The way back must not wait behind questions to a cloud that answers late.
	asking, cancel := context.WithTimeout(ctx, asksWithin)
	defer cancel()
	have, offered, err := s.cloud.Federation(asking, one.Domain)
	if asking.Err() != nil && ctx.Err() == nil {
		err = fmt.Errorf("the cloud does not answer as it should within %s", asksWithin)
	}
	before := one
	if offered && err == nil {
		one.Cloud = have.Metadata
	}
	switch {
	case err != nil:
		failing(&one, err.Error())
	case !offered && one.SignOn != federation.ByPassword:
		failing(&one, "the cloud lets nobody set how people sign in by its interface any more")
	case !offered:
		one.Sent, one.Failure, one.Failing = one.Version, "", nil
	case one.Sent == one.Version:
		one.Failure, one.Failing, one.Drift = "", nil, differs(one, have)
	case !one.Switched && switchedThere(one, have) != "":
		// Somebody may have gone back there in need: new metadata does not undo that.
		one.Failure, one.Failing, one.Drift = "", nil, switchedThere(one, have)
	default:
		if err := s.cloud.SetFederation(ctx, one.Domain, wanted(one)); err != nil {
			failing(&one, err.Error())
			break
		}
		now := time.Now()
		one.Sent, one.SentAt, one.Failure, one.Failing, one.Drift = one.Version, &now, "", nil, ""
	}
	if ctx.Err() != nil || one.Sent == before.Sent && one.Failure == before.Failure && one.Drift == before.Drift && one.Cloud == before.Cloud {
		return ctx.Err()
	}
	return s.store.Federations.NoteSent(ctx, one)
}

func failing(one *store.Federation, why string) {
	if one.Failing == nil {
		now := time.Now()
		one.Failing = &now
	}
	one.Failure = why
}

// wanted is what the cloud is to have.
func wanted(one store.Federation) federation.Domain {
	d := federation.Domain{SignOn: one.SignOn, Provider: one.Provider}
	if one.SignOn == federation.BySome {
		d.People, d.Groups = one.People, one.Groups
	}
	return d
}

// differs says what the cloud has otherwise.
func differs(one store.Federation, have federation.Domain) string {
	if there := switchedThere(one, have); there != "" {
		return there
	}
	// Which provider is not used is of no matter.
	if have.SignOn != federation.ByPassword && have.Provider != one.Provider {
		return "the cloud has other metadata of the identity provider"
	}
	return ""
}

// switchedThere says who signs in otherwise in the cloud.
func switchedThere(one store.Federation, have federation.Domain) string {
	want := wanted(one)
	sorted := func(list []string) []string { return slices.Sorted(slices.Values(list)) }
	switch {
	case have.SignOn != want.SignOn:
		return "the cloud has people sign in " + words[have.SignOn] + ", and what was said is " + words[want.SignOn]
	case have.SignOn == federation.BySome && (!slices.Equal(sorted(have.People), sorted(want.People)) || !slices.Equal(sorted(have.Groups), sorted(want.Groups))):
		return "in the cloud others sign in at the identity provider than was said"
	}
	return ""
}

// words are the ways as people say them.
var words = map[federation.SignOn]string{
	federation.ByPassword: "with a password", federation.BySome: "some at the identity provider", federation.ByProvider: "at the identity provider",
}

// Troubles lists what is wrong with how the people of domains sign in.
func (s *SignIn) Troubles(ctx context.Context) ([]wire.SignOnTrouble, error) {
	out := []wire.SignOnTrouble{}
	all, err := s.store.Federations.List(ctx)
	if err != nil {
		return out, err
	}
	emergency := sync.OnceValues(func() ([]wire.NamedResource, error) { return s.emergency(ctx, "") })
	for _, one := range all {
		add := func(code problem.Code, detail string) {
			out = append(out, wire.SignOnTrouble{Domain: one.Domain, Code: string(code), Detail: detail})
		}
		if one.Failing != nil && time.Since(*one.Failing) > toldAfter {
			add(problem.SignOnNotSent, one.Failure)
		}
		if one.Drift != "" {
			add(problem.SignOnDrifted, one.Drift)
		}
		if one.FetchFailing != nil {
			add(problem.ProviderRefused, one.FetchFailure)
		}
		if one.SignOn == federation.ByPassword || one.Provider == "" {
			continue
		}
		if detail := endsSoon(one.Provider); detail != "" {
			add(problem.ProviderEnds, detail)
		}
		if one.SignOn == federation.ByProvider {
			accounts, err := emergency()
			if err != nil {
				return out, err
			}
			if len(accounts) == 0 {
				add(problem.NoWayBack, "every active account with an administrative role signs in at an identity provider")
			}
		}
	}
	return out, nil
}

// freshFor is how long metadata should be valid still: it is fetched several times a day.
const freshFor = 48 * time.Hour

// soon is how long beforehand it is told that a certificate of a provider ends.
const soon = 42 * 24 * time.Hour

func endsSoon(metadata string) string {
	p, err := saml.Provider(metadata)
	if err != nil {
		return err.Error()
	}
	now := time.Now()
	ends := p.Ends(now)
	switch {
	case ends.IsZero():
		return "no certificate of " + p.EntityID + " is valid any more"
	case ends.Sub(now) < soon:
		return "the last certificate of " + p.EntityID + " ends at " + ends.UTC().Format("2006-01-02 15:04 MST")
	case !p.Until.IsZero() && p.Until.Sub(now) < freshFor:
		return "the metadata of " + p.EntityID + " is valid until " + p.Until.UTC().Format("2006-01-02 15:04 MST")
	}
	return ""
}

// basisOf is of which provider and claims a test is.
func basisOf(p core.Provider, claims core.Claims) string {
	var prints []string
	for _, c := range p.Signing {
		prints = append(prints, c.Fingerprint)
	}
	text, err := json.Marshal([]any{p.EntityID, p.SignOn, prints, claims})
	if err != nil {
		return "" // of our own types: it cannot fail
	}
	sum := sha256.Sum256(text)
	return hex.EncodeToString(sum[:])
}

// said is what an act notes of a domain: never metadata, which is long.
type said struct {
	SignOn   federation.SignOn `json:"signOn,omitempty"`
	People   []string          `json:"people,omitempty"`
	Groups   []string          `json:"groups,omitempty"`
	Provider string            `json:"provider,omitempty"`
	Claims   *core.Claims      `json:"claims,omitempty"`
	Signing  []string          `json:"certificates,omitempty"`
}

func saidOf(one store.Federation) said {
	out := said{SignOn: one.SignOn, People: one.People, Groups: one.Groups, Claims: one.Claims}
	if p, err := saml.Provider(one.Provider); err == nil {
		out.Provider = p.EntityID
		for _, c := range p.Signing {
			out.Signing = append(out.Signing, c.Fingerprint)
		}
	}
	return out
}

// edit changes what is said of a domain, and notes it.
func (s *SignIn) edit(ctx context.Context, by, domain string, kind act.Kind, change func(*store.Federation) error) error {
	return s.store.Tx(ctx, func(tx *store.Store) error {
		one, err := tx.Federations.ForUpdate(ctx, domain)
		if err != nil {
			return err
		}
		before := saidOf(one)
		if err := change(&one); err != nil {
			return err
		}
		if err := tx.Federations.Save(ctx, one, by, kind == act.SwitchSignIn); err != nil {
			return err
		}
		return tx.Acts.Record(ctx, act.Act{Kind: kind, By: by, About: aboutDomain(domain), Before: before, After: saidOf(one)})
	})
}

func aboutDomain(domain string) about.Thing { return about.Thing{Type: about.Domain, Key: domain} }
