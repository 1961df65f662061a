package client

import (
	"context"
	"net/http"
	"net/url"

	"kambrel.example/kambrel/core/signin"
	"kambrel.example/kambrel/protocol/wire"
)

func domainPath(domain string) string { return "/domains/" + url.PathEscape(domain) }

// Domains lists the login domains.
func (c *Client) Domains(ctx context.Context) (out wire.LoginDomains, err error) {
	return out, c.do(ctx, http.MethodGet, "/domains", nil, nil, &out)
}

// Federation tells how the people of a domain sign in.
func (c *Client) Federation(ctx context.Context, domain string) (out wire.Federation, err error) {
	return out, c.do(ctx, http.MethodGet, domainPath(domain)+"/sign-in", nil, nil, &out)
}

// TryProvider looks at an identity provider's metadata.
func (c *Client) TryProvider(ctx context.Context, domain string, in wire.ProviderMetadata) (out wire.IdentityProvider, err error) {
	return out, c.do(ctx, http.MethodPost, domainPath(domain)+"/provider/try", nil, in, &out)
}

// SetProvider believes an identity provider's metadata.
func (c *Client) SetProvider(ctx context.Context, domain string, in wire.ProviderMetadata) (out wire.Federation, err error) {
	return out, c.do(ctx, http.MethodPut, domainPath(domain)+"/provider", nil, in, &out)
}

// SetOwnProvider has Kambrel itself be the identity provider.
func (c *Client) SetOwnProvider(ctx context.Context, domain string) (out wire.Federation, err error) {
	return out, c.do(ctx, http.MethodPut, domainPath(domain)+"/provider/own", nil, nil, &out)
}

// Desktops tells what desktops and browsers need so that people of a domain sign in.
func (c *Client) Desktops(ctx context.Context, domain string) (out wire.Desktops, err error) {
	return out, c.do(ctx, http.MethodGet, domainPath(domain)+"/desktops", nil, nil, &out)
}

// RenewOwnProvider makes the next key of Kambrel's own identity provider.
func (c *Client) RenewOwnProvider(ctx context.Context) error {
	return c.do(ctx, http.MethodPost, "/own-provider/keys", nil, nil, nil)
}

// RefreshProvider fetches an identity provider's metadata anew.
func (c *Client) RefreshProvider(ctx context.Context, domain string) (out wire.Federation, err error) {
	return out, c.do(ctx, http.MethodPost, domainPath(domain)+"/provider/refresh", nil, nil, &out)
}

// RemoveProvider forgets the identity provider of a domain.
func (c *Client) RemoveProvider(ctx context.Context, domain string) (out wire.Federation, err error) {
	return out, c.do(ctx, http.MethodDelete, domainPath(domain)+"/provider", nil, nil, &out)
}

// SetClaims says what assertions say of people; nil goes back to what the cloud asks for.
func (c *Client) SetClaims(ctx context.Context, domain string, claims *signin.Claims) (out wire.Federation, err error) {
	if claims == nil {
		return out, c.do(ctx, http.MethodDelete, domainPath(domain)+"/claims", nil, nil, &out)
	}
	return out, c.do(ctx, http.MethodPut, domainPath(domain)+"/claims", nil, claims, &out)
}

// TryClaims tells what an assertion would say of somebody.
func (c *Client) TryClaims(ctx context.Context, domain string, in wire.TryClaims) (out wire.TriedClaims, err error) {
	return out, c.do(ctx, http.MethodPost, domainPath(domain)+"/claims/try", nil, in, &out)
}

// TestSignIn tries the sign-in of one person.
func (c *Client) TestSignIn(ctx context.Context, domain string, in wire.NewSignInTest) (out wire.SignInTest, err error) {
	return out, c.do(ctx, http.MethodPost, domainPath(domain)+"/tests", nil, in, &out)
}

// SignInTest tells how a test of a sign-in stands.
func (c *Client) SignInTest(ctx context.Context, domain string, id int64) (out wire.SignInTest, err error) {
	return out, c.do(ctx, http.MethodGet, domainPath(domain)+"/tests/"+number(id), nil, nil, &out)
}

// PreviewSignIn tells what switching how people sign in would do.
func (c *Client) PreviewSignIn(ctx context.Context, domain string, in wire.SwitchSignIn) (out wire.SwitchPreview, err error) {
	return out, c.do(ctx, http.MethodPost, domainPath(domain)+"/sign-in/preview", nil, in, &out)
}

// SwitchSignIn switches how people of a domain sign in.
func (c *Client) SwitchSignIn(ctx context.Context, domain string, in wire.SwitchSignIn) (out wire.Federation, err error) {
	return out, c.do(ctx, http.MethodPut, domainPath(domain)+"/sign-in", nil, in, &out)
}
