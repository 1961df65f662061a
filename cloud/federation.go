package cloud

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"

	"kambrel.example/kambrel/protocol/federation"
)

const (
	domainsPath = "/Domains/"
	testsPath   = "/SignInTests"
)

// Federation tells how the people of a domain sign in; false where the cloud does not tell, since
// it lets nobody set it this way.
func (c *Client) Federation(ctx context.Context, domain string) (federation.Domain, bool, error) {
	var found map[string]json.RawMessage
	err := c.get(ctx, domainsPath+url.PathEscape(domain), &found)
	if absent(err) {
		return federation.Domain{}, false, nil
	}
	if err != nil {
		return federation.Domain{}, false, fmt.Errorf("ask the cloud how the people of %s sign in: %w", domain, classify(err))
	}
	text := found[federation.URN]
	if text == nil {
		return federation.Domain{}, false, nil
	}
	var d federation.Domain
	if err := json.Unmarshal(text, &d); err != nil {
		return d, false, fmt.Errorf("ask the cloud how the people of %s sign in: it answers something else than was agreed: %w", domain, err)
	}
	return d, true, nil
}

// SetFederation has the people of a domain sign in so.
func (c *Client) SetFederation(ctx context.Context, domain string, d federation.Domain) error {
	d.Metadata = ""
	body, err := json.Marshal(map[string]any{"schemas": []string{federation.URN}, federation.URN: d})
	if err != nil {
		return err
	}
	if _, err := c.once(ctx, request{method: http.MethodPut, path: domainsPath + url.PathEscape(domain), body: body}, nil); err != nil {
		return fmt.Errorf("tell the cloud how the people of %s sign in: %w", domain, classify(err))
	}
	return nil
}

// BeginSignInTest has the cloud try a sign-in.
func (c *Client) BeginSignInTest(ctx context.Context, test federation.Test) (federation.Test, error) {
	test.Schemas = []string{federation.TestURN}
	body, err := json.Marshal(test)
	if err != nil {
		return test, err
	}
	var begun federation.Test
	if _, err := c.once(ctx, request{method: http.MethodPost, path: testsPath, body: body}, &begun); err != nil {
		return test, fmt.Errorf("have the cloud try a sign-in: %w", classify(err))
	}
	return begun, nil
}

// SignInTest tells what came of one; false where the cloud does not know it any more.
func (c *Client) SignInTest(ctx context.Context, id string) (federation.Test, bool, error) {
	var test federation.Test
	err := c.get(ctx, testsPath+"/"+url.PathEscape(id), &test)
	if absent(err) {
		return test, false, nil
	}
	return test, err == nil, classify(err)
}
