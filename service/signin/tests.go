package signin

import (
	"context"
	"log/slog"
	"strings"
	"time"

	"kambrel.example/kambrel/core/act"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/logkey"
	"kambrel.example/kambrel/core/problem"
	core "kambrel.example/kambrel/core/signin"
	"kambrel.example/kambrel/protocol/federation"
	"kambrel.example/kambrel/protocol/saml"
	"kambrel.example/kambrel/protocol/wire"
	"kambrel.example/kambrel/service/store"
)

// Test tries the sign-in of one person before anybody depends on it: the cloud sends a browser to
// the provider and makes no session of what comes back; or a response that a browser has sent is
// looked at.
func (s *SignIn) Test(ctx context.Context, by, domain string, in wire.NewSignInTest) (wire.SignInTest, error) {
	one, err := s.known(ctx, domain)
	if err != nil {
		return wire.SignInTest{}, err
	}
	if one.Provider == "" {
		return wire.SignInTest{}, problem.New(problem.BadInput, "there is no identity provider for %s yet: 'kambrel domain provider set %s --metadata FILE' first.", domain, domain)
	}
	id, resource, err := s.resource(ctx, in.Person, entry.User)
	if err != nil {
		return wire.SignInTest{}, err
	}
	who := named(id, resource)
	if i := strings.LastIndexByte(who.Login, '@'); i < 0 || !strings.EqualFold(who.Login[i+1:], domain) {
		return wire.SignInTest{}, problem.New(problem.BadInput, "%s has the login %s, which is not of %s.", who.Name, who.Login, domain)
	}
	side, err := s.side(ctx, domain)
	if err != nil {
		return wire.SignInTest{}, err
	}
	claims := one.ClaimsFor(side.Cloud)
	provider, err := saml.Provider(one.Provider)
	if err != nil {
		return wire.SignInTest{}, err
	}
	test := store.SignInTest{Domain: domain, Person: id, Name: who.Name, Login: who.Login, By: by, Basis: basisOf(provider, claims)}
	if in.Response != "" {
		if err := s.store.Federations.AddTest(ctx, &test); err != nil {
			return wire.SignInTest{}, err
		}
		test, err = s.judge(ctx, test, in.Response, "", time.Now(), nil, "")
		return testView(test, test.Basis), err
	}
	if !side.offered {
		return wire.SignInTest{}, problem.New(problem.BadInput, "the cloud tries no sign-ins: give the provider the cloud's metadata, sign in with a browser, and give the response that it has sent ('kambrel domain test %s --person %s --response FILE').", domain, who.Login)
	}
	begun, err := s.cloud.BeginSignInTest(ctx, federation.Test{Domain: domain, Person: id, Metadata: one.Provider})
	if err != nil {
		return wire.SignInTest{}, err
	}
	test.CloudID, test.URL, test.Expires = begun.ID, begun.URL, &begun.Expires
	if err := s.store.Tx(ctx, func(tx *store.Store) error {
		if err := tx.Federations.AddTest(ctx, &test); err != nil {
			return err
		}
		return tx.Acts.Record(ctx, act.Act{Kind: act.TestSignIn, By: by, About: aboutDomain(domain), After: map[string]string{"person": who.Login}})
	}); err != nil {
		return wire.SignInTest{}, err
	}
	return testView(test, test.Basis), nil
}

// TestOf tells how a test stands, and asks the cloud where it goes on.
func (s *SignIn) TestOf(ctx context.Context, domain string, id int64) (wire.SignInTest, error) {
	test, err := s.store.Federations.Test(ctx, id)
	if store.NotFound(err) || err == nil && test.Domain != domain {
		return wire.SignInTest{}, problem.New(problem.NotFound, "there is no test %d of %s.", id, domain)
	}
	if err != nil {
		return wire.SignInTest{}, err
	}
	if test.Answered == nil && test.CloudID != "" {
		if test, err = s.lookAt(ctx, test); err != nil {
			return wire.SignInTest{}, err
		}
	}
	one, err := s.store.Federations.Of(ctx, domain)
	if err != nil {
		return wire.SignInTest{}, err
	}
	basis := ""
	if provider, err := saml.Provider(one.Provider); err == nil {
		side, _ := s.side(ctx, domain)
		claims := one.ClaimsFor(side.Cloud)
		basis = basisOf(provider, claims)
	}
	return testView(test, basis), nil
}

// lookAtOpen asks the cloud what came of tests that go on, of a domain or, with "", of all; true
// where there were any. What cannot be asked now is asked again.
func (s *SignIn) lookAtOpen(ctx context.Context, domain string) bool {
	open, err := s.store.Federations.Open(ctx)
	any := false
	for _, test := range open {
		if domain != "" && test.Domain != domain {
			continue
		}
		any = true
		if _, err = s.lookAt(ctx, test); err != nil {
			break
		}
	}
	if err != nil && ctx.Err() == nil {
		slog.Warn("ask the cloud what came of a test of a sign-in", logkey.Error, err)
	}
	return any
}

// lookAt asks the cloud what came of a test, and judges it.
func (s *SignIn) lookAt(ctx context.Context, test store.SignInTest) (store.SignInTest, error) {
	now, found, err := s.cloud.SignInTest(ctx, test.CloudID)
	if err != nil || found && now.Answered.IsZero() {
		return test, err
	}
	if !found {
		// The cloud has forgotten it, as where it was started anew.
		ended := time.Now()
		test.Expires = &ended
		return test, s.store.Federations.SaveTest(ctx, test)
	}
	return s.judge(ctx, test, now.Response, now.Request, now.Answered, &now.Accepted, now.Reason)
}

// judge holds what came of a test against what the cloud expects, and keeps that; the response
// itself is kept nowhere, since for some minutes it signs somebody in.
func (s *SignIn) judge(ctx context.Context, test store.SignInTest, response, request string, at time.Time, accepted *bool, reason string) (store.SignInTest, error) {
	one, err := s.store.Federations.Of(ctx, test.Domain)
	if err != nil {
		return test, err
	}
	side, err := s.side(ctx, test.Domain)
	if err != nil {
		return test, err
	}
	fields, assertion, err := s.fields(ctx, test, one, side, response, request, at)
	if err != nil {
		return test, err
	}
	test.Answered, test.Fields, test.Assertion, test.CloudAccepted, test.CloudReason = &at, fields, assertion, accepted, reason
	test.Accepted = core.Accepted(fields) && (accepted == nil || *accepted)
	result, note := act.Done, ""
	if !test.Accepted {
		result, note = act.Refused, why(test)
	}
	return test, s.store.Tx(ctx, func(tx *store.Store) error {
		first, err := tx.Federations.Answer(ctx, test)
		if err != nil || !first {
			return err
		}
		return tx.Acts.Record(ctx, act.Act{Kind: act.TestSignIn, By: test.By, About: aboutDomain(test.Domain), After: map[string]any{"person": test.Login, "accepted": test.Accepted}, Result: result, Note: note})
	})
}

// why says what a test was refused for.
func why(test store.SignInTest) string {
	var texts []string
	for _, f := range test.Fields {
		if f.Outcome == core.Bad {
			texts = append(texts, f.Name+": "+f.Reason)
		}
	}
	if test.CloudReason != "" {
		texts = append(texts, "the cloud: "+test.CloudReason)
	}
	return strings.Join(texts, " ")
}

func (s *SignIn) fields(ctx context.Context, test store.SignInTest, one store.Federation, side side, response, request string, at time.Time) ([]core.AssertionField, string, error) {
	unreadable := func(err error) ([]core.AssertionField, string, error) {
		return []core.AssertionField{{Name: "message", Got: err.Error(), Expected: "a response of SAML 2.0", Outcome: core.Bad, Reason: "Nothing of it was read."}}, "", nil
	}
	provider, err := saml.Provider(one.Provider)
	if err != nil {
		return nil, "", err
	}
	resource, err := s.store.Resources.Get(ctx, test.Person)
	if err != nil && !store.NotFound(err) {
		return nil, "", err
	}
	claims := one.ClaimsFor(side.Cloud)
	maker, err := core.Compile(claims)
	if err != nil {
		return nil, "", err
	}
	expected := core.Expectation{Cloud: side.Cloud, Provider: provider, Request: request, Login: test.Login, Domain: test.Domain, Now: at}
	if expected.Said, err = maker.Of(resource); err != nil {
		return []core.AssertionField{{Name: "subject", Got: "", Expected: "", Outcome: core.Bad, Reason: "The claims give nothing for this person: " + err.Error()}}, "", nil
	}
	a, err := saml.Response(response)
	if err != nil {
		return unreadable(err)
	}
	// Of what came by the cloud, the cloud knows whether it was there before.
	if a.ID != "" && request == "" {
		if expected.Seen, err = s.store.Federations.Seen(ctx, a.ID, test.ID); err != nil {
			return nil, "", err
		}
	}
	fields, err := saml.Judge(response, one.Provider, expected)
	if err != nil {
		return unreadable(err)
	}
	return fields, a.ID, nil
}
