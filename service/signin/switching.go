package signin

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"kambrel.example/kambrel/core/act"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/problem"
	core "kambrel.example/kambrel/core/signin"
	"kambrel.example/kambrel/protocol/federation"
	"kambrel.example/kambrel/protocol/orders"
	"kambrel.example/kambrel/protocol/saml"
	"kambrel.example/kambrel/protocol/wire"
	"kambrel.example/kambrel/service/store"
)

// testedWithin is how old a test may be that everybody's sign-in hangs on.
const testedWithin = 7 * 24 * time.Hour

// mostEmergency is how many accounts are named that could sign in all the same.
const mostEmergency = 5

// emergency are active accounts with an administrative role that sign in with a password, also
// where a domain is switched.
func (s *SignIn) emergency(ctx context.Context, switched string) ([]wire.NamedResource, error) {
	all, err := s.store.Federations.List(ctx)
	if err != nil {
		return nil, err
	}
	away := []string{}
	if switched != "" {
		away = append(away, switched)
	}
	for _, one := range all {
		if one.SignOn == federation.ByProvider {
			away = append(away, one.Domain)
		}
	}
	ids, err := s.store.Resources.Emergency(ctx, away, mostEmergency)
	if err != nil {
		return nil, err
	}
	return s.named(ctx, ids)
}

// checks are what a switch hangs on.
func (s *SignIn) checks(ctx context.Context, one store.Federation, claims core.Claims, to federation.SignOn) ([]core.Check, error) {
	if to == federation.ByPassword {
		return []core.Check{}, nil
	}
	var out []core.Check
	add := func(name string, outcome core.Outcome, advice, detail string, facts ...any) {
		out = append(out, core.Check{Name: name, Outcome: outcome, Detail: fmt.Sprintf(detail, facts...), Advice: advice})
	}
	if one.Provider == "" {
		add("provider", core.Bad, "Give its metadata.", "there is none yet")
		return out, nil
	}
	provider, err := saml.Provider(one.Provider)
	if err != nil {
		return nil, err
	}
	if bad, found := core.FirstBad(core.CheckProvider(provider, core.Trust{Fingerprint: one.Fingerprint, Unsigned: one.Unsigned}, core.Cloud{}, time.Now())); found {
		add("provider", core.Bad, bad.Advice, "%s: %s", bad.Name, bad.Detail)
	} else if ends := endsSoon(one.Provider); ends != "" {
		add("provider", core.Warn, "Ask when it is renewed: nobody signs in once it has ended.", "%s", ends)
	} else {
		add("provider", core.Good, "", "%s", provider.EntityID)
	}
	if err := s.checkTests(ctx, one, basisOf(provider, claims), add); err != nil {
		return nil, err
	}
	if to == federation.BySome {
		return out, nil
	}
	return out, s.checkWayBack(ctx, one, add)
}

type adder func(name string, outcome core.Outcome, advice, detail string, facts ...any)

func (s *SignIn) checkTests(ctx context.Context, one store.Federation, basis string, add adder) error {
	tests, err := s.store.Federations.Tests(ctx, one.Domain)
	if err != nil {
		return err
	}
	i := slices.IndexFunc(tests, func(t store.SignInTest) bool { return t.Accepted && t.Basis == basis })
	advice := "Try the sign-in of one person: 'kambrel domain test " + one.Domain + " --person LOGIN'."
	switch {
	case i < 0 && slices.ContainsFunc(tests, func(t store.SignInTest) bool { return t.Accepted }):
		add("test", core.Bad, advice, "the provider or the claims have changed since the last test that was accepted")
	case i < 0:
		add("test", core.Bad, advice, "no test of a sign-in was accepted yet")
	case time.Since(*tests[i].Answered) > testedWithin:
		add("test", core.Bad, advice, "the last test that was accepted is of %s", tests[i].Answered.UTC().Format("2006-01-02"))
	default:
		add("test", core.Good, "", "of %s, accepted at %s", tests[i].Login, tests[i].Answered.UTC().Format("2006-01-02 15:04 MST"))
	}
	return nil
}

// checkWayBack looks at what would be left where the provider does not answer, and at whom it
// could not name.
func (s *SignIn) checkWayBack(ctx context.Context, one store.Federation, add adder) error {
	accounts, err := s.emergency(ctx, one.Domain)
	if err != nil {
		return err
	}
	if len(accounts) == 0 {
		add("emergency account", core.Bad, "Make an account in the cloud with an administrative role and a login in a domain that stays with passwords, and let the next run see it.", "every active account with an administrative role would sign in at the provider: nobody could get in where it does not answer")
	} else {
		var logins []string
		for _, a := range accounts {
			logins = append(logins, a.Login)
		}
		add("emergency account", core.Good, "", "%s", strings.Join(logins, ", "))
	}
	of, err := s.countsOf(ctx, one.Domain)
	if err != nil {
		return err
	}
	if without := of.Linked - of.Digests; without > 0 {
		add("way back", core.Warn, "Switch on the feature password-digests of their directory, so that they can sign in with its password at once if you go back.", "%d of %d linked people have no digest: after going back they sign in with the password of the cloud's own that they had before, if any", without, of.Linked)
	} else {
		add("way back", core.Good, "", "each of %d linked people has a digest of the directory's password, and they are kept going", of.Linked)
	}
	if loose := of.People - of.Linked; loose > 0 {
		add("nameless", core.Warn, "Link them or give them a login in another domain first; they are under Objects, in the cloud alone.", "%d people of the domain come from no directory, so the provider could not name them: they would not get in", loose)
	}
	return nil
}

func (s *SignIn) countsOf(ctx context.Context, domain string) (store.LoginDomain, error) {
	counts, _, _, err := s.store.Resources.LoginDomains(ctx)
	for _, c := range counts {
		if strings.EqualFold(c.Name, domain) {
			return c, err
		}
	}
	return store.LoginDomain{Name: domain}, err
}

// Preview tells what a switch would do.
func (s *SignIn) Preview(ctx context.Context, domain string, in wire.SwitchSignIn) (wire.SwitchPreview, error) {
	_, _, preview, err := s.prepare(ctx, domain, in)
	return preview, err
}

func (s *SignIn) prepare(ctx context.Context, domain string, in wire.SwitchSignIn) (people, groups []string, preview wire.SwitchPreview, err error) {
	one, err := s.known(ctx, domain)
	if err != nil {
		return nil, nil, preview, err
	}
	preview = wire.SwitchPreview{Domain: domain, SignOn: in.SignOn, Text: []string{}, People: []wire.NamedResource{}, Groups: []wire.NamedResource{}}
	to := federation.SignOn(in.SignOn)
	if to == federation.BySome && len(in.People)+len(in.Groups) == 0 {
		return nil, nil, preview, problem.New(problem.BadInput, "say who is to sign in at the provider: people, groups, or everybody.")
	}
	if to != federation.BySome && len(in.People)+len(in.Groups) > 0 {
		return nil, nil, preview, problem.New(problem.BadInput, "people and groups are named where some are to sign in at the provider.")
	}
	for _, kind := range []struct {
		kind  entry.Kind
		texts []string
		ids   *[]string
		named *[]wire.NamedResource
	}{{entry.User, in.People, &people, &preview.People}, {entry.Group, in.Groups, &groups, &preview.Groups}} {
		for _, text := range kind.texts {
			id, resource, err := s.resource(ctx, text, kind.kind)
			if err != nil {
				return nil, nil, preview, err
			}
			who := named(id, resource)
			if kind.kind == entry.User && !strings.HasSuffix(strings.ToLower(who.Login), "@"+domain) {
				return nil, nil, preview, problem.New(problem.BadInput, "%s has the login %s, which is not of %s.", who.Name, who.Login, domain)
			}
			*kind.ids, *kind.named = append(*kind.ids, id), append(*kind.named, who)
		}
	}
	side, away := s.side(ctx, domain)
	if away == nil {
		s.lookAtOpen(ctx, domain)
	}
	claims := one.ClaimsFor(side.Cloud)
	checks, err := s.checks(ctx, one, claims, to)
	if err != nil {
		return nil, nil, preview, err
	}
	switch {
	case away != nil && to == federation.ByPassword:
		checks = append(checks, core.Check{Name: "cloud", Outcome: core.Warn, Detail: away.Error(), Advice: "It is told as soon as it answers."})
	case away != nil:
		checks = append(checks, core.Check{Name: "cloud", Outcome: core.Bad, Detail: away.Error(), Advice: "Wait until the cloud answers."})
	case !side.offered && to != federation.ByPassword:
		checks = append(checks, core.Check{Name: "cloud", Outcome: core.Bad, Detail: "it lets nobody set how people sign in by its interface", Advice: "Set it in the cloud's own console, with the provider's metadata."})
	}
	of, err := s.countsOf(ctx, domain)
	if err != nil {
		return nil, nil, preview, err
	}
	preview.Text = sentences(one, to, of, preview)
	_, bad := core.FirstBad(checks)
	preview.Checks, preview.Allowed = verdicts(checks), !bad
	return people, groups, preview, nil
}

func sentences(one store.Federation, to federation.SignOn, of store.LoginDomain, p wire.SwitchPreview) []string {
	provider := "the identity provider"
	if read, err := saml.Provider(one.Provider); err == nil {
		provider = read.EntityID
	}
	names := func(list []wire.NamedResource) string {
		var out []string
		for _, one := range list {
			out = append(out, one.Name)
		}
		return strings.Join(out, ", ")
	}
	switch to {
	case federation.ByProvider:
		return []string{
			fmt.Sprintf("All %d active people of %s sign in at %s from then on, and no more with a password that the cloud knows.", of.Active, one.Domain, provider),
			"Who is signed in stays so; digests are kept going, so that the way back is one act.",
		}
	case federation.BySome:
		text := []string{}
		if len(p.People) > 0 {
			text = append(text, fmt.Sprintf("%s: sign in at %s from then on.", names(p.People), provider))
		}
		if len(p.Groups) > 0 {
			text = append(text, fmt.Sprintf("The members of %s who are of %s: sign in at %s from then on.", names(p.Groups), one.Domain, provider))
		}
		return append(text, "Everybody else of the domain signs in with a password.")
	}
	if one.SignOn == federation.ByPassword {
		return []string{"The people of " + one.Domain + " sign in with a password already."}
	}
	return []string{
		fmt.Sprintf("The people of %s sign in with a password from then on: %d with that of their directory, by a digest, and %d with one of the cloud's own.", one.Domain, of.Digests, of.People-of.Digests),
		"The provider's metadata, the claims and the tests are kept.",
	}
}

// Switch has people of a domain sign in another way. Going back to passwords is always possible.
func (s *SignIn) Switch(ctx context.Context, by, domain string, in wire.SwitchSignIn) (wire.Federation, error) {
	people, groups, preview, err := s.prepare(ctx, domain, in)
	if err != nil {
		return wire.Federation{}, err
	}
	if bad, found := orders.FirstBad(preview.Checks); found {
		err := problem.New(problem.BadInput, "%s: %s. %s Nothing was changed.", bad.Name(), bad.Detail, bad.Advice)
		return wire.Federation{}, errors.Join(err, s.store.Acts.Record(ctx, act.Act{Kind: act.SwitchSignIn, By: by, About: aboutDomain(domain), After: said{SignOn: federation.SignOn(in.SignOn)}, Result: act.Refused, Note: bad.Name() + ": " + bad.Detail}))
	}
	if err := s.edit(ctx, by, domain, act.SwitchSignIn, func(one *store.Federation) error {
		one.SignOn, one.People, one.Groups = federation.SignOn(in.SignOn), people, groups
		return nil
	}); err != nil {
		return wire.Federation{}, err
	}
	return s.Of(ctx, domain)
}
