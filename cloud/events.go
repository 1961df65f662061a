package cloud

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/go-jose/go-jose/v4"

	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/protocol/events"
	"kambrel.example/kambrel/protocol/scim"
)

// pollTimeout is above how long a cloud holds a poll open.
const pollTimeout = 60 * time.Second

// shortTimeout is for what is answered at once.
const shortTimeout = 5 * time.Second

// wellKnown is where a cloud tells of its events (OpenID Shared Signals Framework 1.0
// section 7.2).
const wellKnown = "/.well-known/ssf-configuration"

// EventStream is a stream of events that was found.
type EventStream struct {
	events.Transmitter
	events.Stream
	client *Client
}

// origin is the scheme and host of an address.
func origin(address string) string {
	parsed, err := url.Parse(address)
	if err != nil {
		return ""
	}
	return strings.ToLower(parsed.Scheme + "://" + parsed.Host)
}

// call makes one request beside SCIM, to the cloud's own host alone, since it carries the
// token.
func (c *Client) call(ctx context.Context, timeout time.Duration, method, address string, body, into any) error {
	at := c.at.Load()
	if at.base == "" {
		return errUnconnected()
	}
	if origin(address) != origin(at.base) {
		return problem.New(problem.CloudRefused, "%s is not on the cloud's host (%s), where alone its token goes", address, origin(at.base))
	}
	ctx, cancel := context.WithTimeout(ctx, timeout)
	defer cancel()
	var text []byte
	if body != nil {
		var err error
		if text, err = json.Marshal(body); err != nil {
			return err
		}
	}
	request, err := http.NewRequestWithContext(ctx, method, address, bytes.NewReader(text))
	if err != nil {
		return err
	}
	token, err := at.token.read()
	if err != nil {
		return err
	}
	request.Header.Set("Authorization", "Bearer "+token.Reveal())
	request.Header.Set("Accept", "application/json")
	if body != nil {
		request.Header.Set("Content-Type", "application/json")
	}
	response, err := c.events.Do(request)
	if err != nil {
		return classify(err)
	}
	defer response.Body.Close()
	if response.StatusCode < 200 || response.StatusCode > 299 {
		return classify(c.refusal(response))
	}
	if into == nil || response.StatusCode == http.StatusNoContent {
		_, err = io.Copy(io.Discard, response.Body)
		return err
	}
	if err := json.NewDecoder(io.LimitReader(response.Body, longestAnswer)).Decode(into); err != nil {
		return problem.Wrap(problem.CloudRefused, err, "%s: the answer cannot be read", address)
	}
	return nil
}

// longestAnswer bounds what is read of an answer about events, in bytes.
const longestAnswer = 16 << 20

// ErrNoEvents says that a cloud tells of no events.
var ErrNoEvents = errors.New("the cloud tells of no events (it has no " + wellKnown + ")")

// FindEvents finds the cloud's stream of events: by its own description at address, or ""
// for where that usually is.
func (c *Client) FindEvents(ctx context.Context, address string) (*EventStream, error) {
	if address == "" {
		address = origin(c.URL()) + wellKnown
	}
	found := &EventStream{client: c}
	if err := c.call(ctx, shortTimeout, http.MethodGet, address, nil, &found.Transmitter); err != nil {
		if absent(err) {
			return nil, ErrNoEvents
		}
		return nil, fmt.Errorf("ask the cloud about its events: %w", err)
	}
	if found.Transmitter.Issuer == "" || found.KeysURI == "" || found.ConfigurationURI == "" {
		return nil, problem.New(problem.CloudRefused, "%s names no issuer, jwks_uri or configuration_endpoint", address)
	}
	err := c.call(ctx, shortTimeout, http.MethodGet, found.ConfigurationURI, nil, &found.Stream)
	if absent(err) { // there is none yet
		wanted := events.Stream{Requested: []string{events.Reset, events.Change, events.Unlock}}
		wanted.Delivery.Method = events.Delivery
		err = c.call(ctx, shortTimeout, http.MethodPost, found.ConfigurationURI, wanted, &found.Stream)
	}
	switch {
	case err != nil:
		return nil, fmt.Errorf("ask for the stream of events: %w", err)
	case found.Delivery.Method != events.Delivery || found.Delivery.EndpointURL == "":
		return nil, problem.New(problem.CloudRefused, "the stream of events is delivered by %q; it must be polled (%s)", found.Delivery.Method, events.Delivery)
	case found.Stream.Issuer != found.Transmitter.Issuer:
		return nil, problem.New(problem.CloudRefused, "the stream is of %q, and the cloud's own description says %q", found.Stream.Issuer, found.Transmitter.Issuer)
	}
	return found, nil
}

// Keys reads the keys by which events are signed (RFC 7517).
func (s *EventStream) Keys(ctx context.Context) (jose.JSONWebKeySet, error) {
	var keys jose.JSONWebKeySet
	if err := s.client.call(ctx, shortTimeout, http.MethodGet, s.KeysURI, nil, &keys); err != nil {
		return keys, fmt.Errorf("read the keys by which events are signed: %w", err)
	}
	return keys, nil
}

// Poll waits for tokens (RFC 8936 section 2.4).
func (s *EventStream) Poll(ctx context.Context) (events.Polled, error) {
	var polled events.Polled
	err := s.client.call(ctx, pollTimeout, http.MethodPost, s.Delivery.EndpointURL, events.Poll{}, &polled)
	return polled, err
}

// Answer tells what became of a token while a poll is open (RFC 8936 section 2.4, a poll
// that asks for no events): failed is nil for one that was done.
func (s *EventStream) Answer(ctx context.Context, id string, failed *events.SetFailed) error {
	none := 0
	poll := events.Poll{MaxEvents: &none, ReturnImmediately: true}
	if failed == nil {
		poll.Ack = []string{id}
	} else {
		poll.SetErrs = map[string]events.SetFailed{id: *failed}
	}
	return s.client.call(ctx, shortTimeout, http.MethodPost, s.Delivery.EndpointURL, poll, nil)
}

// Verify asks for a token that tries the stream.
func (s *EventStream) Verify(ctx context.Context, state string) error {
	if s.VerificationURI == "" {
		return problem.New(problem.CloudRefused, "the cloud offers no verification_endpoint to try the stream by")
	}
	return s.client.call(ctx, shortTimeout, http.MethodPost, s.VerificationURI, events.Verify{StreamID: s.ID, State: state}, nil)
}

// KeySet is the keys for which the cloud seals passwords of a directory.
type KeySet struct {
	ID        string   `json:"id,omitempty"`
	Schemas   []string `json:"schemas"`
	Directory string   `json:"directory"`
	Keys      []Stated `json:"keys"`
	// Accepted are the ids of those keys for which the cloud seals, where it tells: of an
	// agent that nobody at the cloud has let in, it does not.
	Accepted []string `json:"accepted,omitempty"`
}

// Stated is what an agent says of its key.
type Stated struct {
	Statement string `json:"value"`
	Agent     string `json:"display"`
}

const keySets = "/KeySets"

// KeySets reads those that the cloud has.
func (c *Client) KeySets(ctx context.Context) ([]KeySet, error) {
	var list struct{ Resources []KeySet }
	if _, err := c.once(ctx, request{method: http.MethodGet, path: keySets}, &list); err != nil {
		return nil, fmt.Errorf("read for whom the cloud seals passwords: %w", classify(err))
	}
	return list.Resources, nil
}

// PutKeySet makes a key set, or replaces it where it has an id.
func (c *Client) PutKeySet(ctx context.Context, set KeySet) error {
	set.Schemas, set.Accepted = []string{events.KeySetURN}, nil
	body, err := json.Marshal(set)
	if err != nil {
		return err
	}
	r := request{method: http.MethodPost, path: keySets, body: body, minimal: true}
	if set.ID != "" {
		r.method, r.path = http.MethodPut, keySets+"/"+url.PathEscape(set.ID)
	}
	if _, err := c.once(ctx, r, nil); err != nil {
		return fmt.Errorf("tell the cloud the keys of %s: %w", set.Directory, classify(err))
	}
	return nil
}

// DropKeySet takes a key set away, so that nothing more is sealed for it.
func (c *Client) DropKeySet(ctx context.Context, id string) error {
	_, err := c.once(ctx, request{method: http.MethodDelete, path: keySets + "/" + url.PathEscape(id)}, nil)
	if absent(err) {
		return nil
	}
	return classify(err)
}

// SetDigest writes the sealed digest of somebody's password, or takes it away where sealed is
// nil. The cloud shows it to nobody.
func (c *Client) SetDigest(ctx context.Context, resource string, sealed json.RawMessage) error {
	operation := scim.PatchOperation{Op: "remove", Path: events.DigestURN + ":sealed"}
	if sealed != nil {
		text, err := json.Marshal(string(sealed))
		if err != nil {
			return err
		}
		operation.Op, operation.Value = "replace", text
	}
	body, err := json.Marshal(scim.PatchRequest{Schemas: []string{scim.PatchOpURN}, Operations: []scim.PatchOperation{operation}})
	if err != nil {
		return err
	}
	_, err = c.once(ctx, request{method: http.MethodPatch, path: "/Users/" + url.PathEscape(resource), body: body, minimal: true}, nil)
	if sealed == nil && absent(err) {
		return nil // whoever is gone has no digest
	}
	return classify(err)
}
