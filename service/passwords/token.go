package passwords

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"sync"
	"time"

	"github.com/go-jose/go-jose/v4"

	"kambrel.example/kambrel/cloud"
	"kambrel.example/kambrel/protocol/events"
)

const (
	// oldest is how long ago a token may have been issued that is taken.
	oldest = events.LongestLife
	// clockLeeway is how far the cloud's clock may be ahead.
	clockLeeway = 30 * time.Second
	// readAgainAfter is how soon the cloud's keys are read again for a key that is unknown.
	readAgainAfter = 10 * time.Second
)

// keyring is the keys by which the cloud signs, as it tells them itself. That an event is
// carried out hangs on the agent's own pins; here it keeps nonsense away from agents.
type keyring struct {
	mu   sync.Mutex
	set  jose.JSONWebKeySet
	when time.Time
}

func (k *keyring) read(ctx context.Context, stream *cloud.EventStream) error {
	set, err := stream.Keys(ctx)
	if err == nil {
		k.mu.Lock()
		k.set, k.when = set, time.Now()
		k.mu.Unlock()
	}
	return err
}

// verify returns what a token says, signed by one of the keys.
func (k *keyring) verify(signed *jose.JSONWebSignature) ([]byte, bool) {
	k.mu.Lock()
	defer k.mu.Unlock()
	for _, key := range k.set.Keys {
		if payload, err := signed.Verify(key); err == nil && key.IsPublic() {
			return payload, true
		}
	}
	return nil, false
}

func (k *keyring) old() bool {
	k.mu.Lock()
	defer k.mu.Unlock()
	return time.Since(k.when) > readAgainAfter
}

// refuse says why a token is not taken; it is meant for the cloud's makers.
func refuse(code, format string, facts ...any) *events.SetFailed {
	return &events.SetFailed{Code: code, Description: fmt.Sprintf(format, facts...)}
}

// read checks a token: who signed it, for whom, how old, and that it is what the cloud
// says it is.
func (l *listener) read(ctx context.Context, id, text string) (events.Token, *events.SetFailed) {
	var token events.Token
	signed, err := events.Signed(text)
	if err != nil {
		return token, refuse(events.InvalidRequest, "%v", err)
	}
	payload, ok := l.keys.verify(signed)
	if !ok && l.keys.old() {
		if err := l.keys.read(ctx, l.stream); err != nil {
			return token, refuse(events.InvalidKey, "the keys by which events are signed cannot be read")
		}
		payload, ok = l.keys.verify(signed)
	}
	if !ok {
		return token, refuse(events.AuthenticationFailed, "the token is signed by none of the keys at %s", l.stream.KeysURI)
	}
	if json.Unmarshal(payload, &token) != nil {
		return token, refuse(events.InvalidRequest, "the token cannot be read")
	}
	issued := time.Unix(token.IssuedAt, 0)
	switch {
	case token.ID == "" || len(token.ID) > 200 || token.ID != id:
		return token, refuse(events.InvalidRequest, "the token's jti is not the one under which it came")
	case token.Issuer != l.stream.Transmitter.Issuer:
		return token, refuse(events.InvalidIssuer, "the token is of %q", token.Issuer)
	case !slices.ContainsFunc(token.Audience, func(name string) bool { return slices.Contains(l.stream.Audience, name) }):
		return token, refuse(events.InvalidAudience, "the token is for %q", token.Audience)
	case issued.After(time.Now().Add(clockLeeway)):
		return token, refuse(events.InvalidRequest, "the token was made %s from now: compare the clocks of the cloud and Kambrel", time.Until(issued).Round(time.Second))
	case time.Since(issued) > oldest:
		return token, refuse(events.InvalidRequest, "the token was made %s ago, and is taken within %s: if that is always so, compare the clocks of the cloud and Kambrel", time.Since(issued).Round(time.Second), oldest)
	}
	return token, nil
}
