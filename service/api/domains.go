package api

import (
	"context"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"kambrel.example/kambrel/core/signin"
	"kambrel.example/kambrel/protocol/wire"
)

// DomainPath names a login domain.
type DomainPath struct {
	Domain string `path:"domain" maxLength:"253"`
}

func (p DomainPath) name() string { return strings.ToLower(strings.TrimSpace(p.Domain)) }

// domainRoutes are those of login domains, and of how their people sign in.
func (s *Server) domainRoutes() {
	huma.Register(s.api, operation("GET", "/domains", "list-domains", "Login domains: verified or not, who uses them, how they sign in, who waits", wire.Viewer), func(ctx context.Context, _ *struct{}) (*body[wire.LoginDomains], error) {
		return answer(s.service.Setup.Domains(ctx))
	})
	huma.Register(s.api, operation("GET", "/domains/{domain}/sign-in", "get-sign-in", "How the people of a domain sign in, and what that hangs on", wire.Viewer), func(ctx context.Context, in *DomainPath) (*body[wire.Federation], error) {
		return answer(s.service.SignIn.Of(ctx, in.name()))
	})
	huma.Register(s.api, large(operation("POST", "/domains/{domain}/provider/try", "try-identity-provider", "Look at an identity provider's metadata; nothing is kept", wire.Administrator)), func(ctx context.Context, in *struct {
		DomainPath
		Body wire.ProviderMetadata
	}) (*body[wire.IdentityProvider], error) {
		return answer(s.service.SignIn.TryProvider(ctx, in.name(), in.Body))
	})
	huma.Register(s.api, large(operation("PUT", "/domains/{domain}/provider", "set-identity-provider", "Believe an identity provider's metadata; nobody's sign-in changes by it", wire.Administrator)), func(ctx context.Context, in *struct {
		DomainPath
		Body wire.ProviderMetadata
	}) (*body[wire.Federation], error) {
		return answer(s.service.SignIn.SetProvider(ctx, who(ctx).Name, in.name(), in.Body))
	})
	huma.Register(s.api, operation("POST", "/domains/{domain}/provider/refresh", "refresh-identity-provider", "Fetch an identity provider's metadata anew", wire.OperatorRole), func(ctx context.Context, in *DomainPath) (*body[wire.Federation], error) {
		return answer(s.service.SignIn.RefreshProvider(ctx, in.name()))
	})
	huma.Register(s.api, operation("DELETE", "/domains/{domain}/provider", "remove-identity-provider", "Forget an identity provider where nobody signs in", wire.Administrator), func(ctx context.Context, in *DomainPath) (*body[wire.Federation], error) {
		return answer(s.service.SignIn.RemoveProvider(ctx, who(ctx).Name, in.name()))
	})
	huma.Register(s.api, operation("PUT", "/domains/{domain}/provider/own", "set-own-identity-provider", "Have Kambrel itself be the identity provider; nobody's sign-in changes by it", wire.Administrator), func(ctx context.Context, in *DomainPath) (*body[wire.Federation], error) {
		return answer(s.service.SignIn.SetOwn(ctx, who(ctx).Name, in.name()))
	})
	huma.Register(s.api, operation("GET", "/domains/{domain}/desktops", "get-desktops", "What desktops and browsers need so that people of a domain sign in", wire.Viewer), func(ctx context.Context, in *DomainPath) (*body[wire.Desktops], error) {
		return answer(s.service.SignIn.Desktops(ctx, in.name()))
	})
	huma.Register(s.api, operation("POST", "/own-provider/keys", "renew-own-identity-provider", "Make the next key of Kambrel's own identity provider; it is used once the cloud has its certificate", wire.Administrator), func(ctx context.Context, _ *struct{}) (*struct{}, error) {
		return nil, orNil(s.service.SignIn.RenewOwn(ctx, who(ctx).Name))
	})
	huma.Register(s.api, operation("PUT", "/domains/{domain}/claims", "set-claims", "Say what an assertion says of people", wire.Administrator), func(ctx context.Context, in *struct {
		DomainPath
		Body signin.Claims
	}) (*body[wire.Federation], error) {
		return answer(s.service.SignIn.SetClaims(ctx, who(ctx).Name, in.name(), &in.Body))
	})
	huma.Register(s.api, operation("DELETE", "/domains/{domain}/claims", "reset-claims", "Go back to the claims that follow from the cloud's metadata", wire.Administrator), func(ctx context.Context, in *DomainPath) (*body[wire.Federation], error) {
		return answer(s.service.SignIn.SetClaims(ctx, who(ctx).Name, in.name(), nil))
	})
	huma.Register(s.api, operation("POST", "/domains/{domain}/claims/try", "try-claims", "Tell what an assertion would have to say of somebody", wire.Viewer), func(ctx context.Context, in *struct {
		DomainPath
		Body wire.TryClaims
	}) (*body[wire.TriedClaims], error) {
		return answer(s.service.SignIn.TryClaims(ctx, in.name(), in.Body))
	})
	huma.Register(s.api, large(operation("POST", "/domains/{domain}/tests", "test-sign-in", "Try the sign-in of one person, or look at a response that a browser has sent", wire.Administrator)), func(ctx context.Context, in *struct {
		DomainPath
		Body wire.NewSignInTest
	}) (*body[wire.SignInTest], error) {
		return answer(s.service.SignIn.Test(ctx, who(ctx).Name, in.name(), in.Body))
	})
	huma.Register(s.api, operation("GET", "/domains/{domain}/tests/{id}", "get-sign-in-test", "How a test of a sign-in stands", wire.Viewer), func(ctx context.Context, in *struct {
		DomainPath
		ID int64 `path:"id" minimum:"1"`
	}) (*body[wire.SignInTest], error) {
		return answer(s.service.SignIn.TestOf(ctx, in.name(), in.ID))
	})
	huma.Register(s.api, operation("POST", "/domains/{domain}/sign-in/preview", "preview-sign-in", "What switching how people sign in would do", wire.Viewer), func(ctx context.Context, in *struct {
		DomainPath
		Body wire.SwitchSignIn
	}) (*body[wire.SwitchPreview], error) {
		return answer(s.service.SignIn.Preview(ctx, in.name(), in.Body))
	})
	huma.Register(s.api, operation("PUT", "/domains/{domain}/sign-in", "switch-sign-in", "Switch how people of a domain sign in", wire.Administrator), func(ctx context.Context, in *struct {
		DomainPath
		Body wire.SwitchSignIn
	}) (*body[wire.Federation], error) {
		return answer(s.service.SignIn.Switch(ctx, who(ctx).Name, in.name(), in.Body))
	})
}
