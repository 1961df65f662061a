package agent

import (
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/go-jose/go-jose/v4"

	"kambrel.example/kambrel/core/fingerprint"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/protocol/events"
)

// eventLeeway is how far the clocks of cloud and agent may differ.
const eventLeeway = 30 * time.Second

// Trust makes the pins for a cloud's key set (RFC 7517), and their thumbprints to compare.
func Trust(issuer, audience string, keySet []byte) (Cloud, []string, error) {
	var set jose.JSONWebKeySet
	if err := json.Unmarshal(keySet, &set); err != nil {
		return Cloud{}, nil, problem.New(problem.BadInput, "that is no JWK set (RFC 7517)")
	}
	c := Cloud{Issuer: issuer, Audience: audience}
	var prints []string
	for _, key := range set.Keys {
		if !key.Valid() || !key.IsPublic() {
			continue
		}
		if key.Use == "enc" {
			text, err := json.Marshal(key)
			if err != nil {
				return c, nil, err
			}
			c.SealKey = string(text)
			continue
		}
		print, err := fingerprint.OfKey(key)
		if err != nil {
			return c, nil, err
		}
		text, err := json.Marshal(key)
		if err != nil {
			return c, nil, err
		}
		c.Keys, prints = append(c.Keys, string(text)), append(prints, print)
	}
	if len(prints) == 0 {
		return c, nil, problem.New(problem.BadInput, "the JWK set holds no public key for signatures")
	}
	return c, prints, nil
}

// read checks that a token is of this cloud, for us and not too old. The error says what
// is wrong; late tells that only the time is.
func (c *Cloud) read(text string, now time.Time) (token events.Token, ask events.Ask, late bool, err error) {
	if c == nil {
		return token, ask, false, errors.New("the agent's configuration trusts no cloud: run 'kambrel agent trust' on its host")
	}
	signed, err := events.Signed(text)
	if err != nil {
		return token, ask, false, err
	}
	var payload []byte
	for _, pinned := range c.Keys {
		var key jose.JSONWebKey
		if json.Unmarshal([]byte(pinned), &key) != nil {
			continue
		}
		if payload, err = signed.Verify(key); err == nil {
			break
		}
	}
	if payload == nil {
		return token, ask, false, errors.New("the event is signed by none of the keys in the agent's configuration")
	}
	if json.Unmarshal(payload, &token) != nil {
		return token, ask, false, errors.New("the event cannot be read")
	}
	switch {
	case token.Issuer != c.Issuer:
		return token, ask, false, fmt.Errorf("the event is of %q, and the agent trusts %q", token.Issuer, c.Issuer)
	case c.Audience != "" && !slices.Contains(token.Audience, c.Audience):
		return token, ask, false, fmt.Errorf("the event is for %q", token.Audience)
	case token.ID == "" || len(token.ID) > 200:
		return token, ask, false, errors.New("the event has no id")
	}
	if ask, err = token.Asked(); err != nil {
		return token, ask, false, err
	}
	issued, expires := time.Unix(token.IssuedAt, 0), time.Unix(ask.Expires, 0)
	switch {
	case issued.After(now.Add(eventLeeway)):
		return token, ask, true, fmt.Errorf("the event was made %s from now: compare the clocks of the cloud and this agent", issued.Sub(now).Round(time.Second))
	case now.After(expires):
		return token, ask, true, fmt.Errorf("the event expired %s ago (if that is always so, compare the clocks of the cloud and this agent)", now.Sub(expires).Round(time.Second))
	}
	return token, ask, false, nil
}
