package agents

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"
	"github.com/google/uuid"

	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/service/store"
)

const (
	// How far the clocks of agent and service may differ.
	clockLeeway = 30 * time.Second
	// longestSignature is how long a signature may be valid.
	longestSignature = time.Minute
)

// claims is what an agent signs for each request: RFC 7519, and method and path so
// that a stolen token opens nothing else.
type claims struct {
	jwt.Claims
	Method string `json:"htm"`
	Path   string `json:"htp"`
}

// Identify finds out which agent signed a request, by the JWT that came with it
// ("" when none did).
func (a *Agents) Identify(ctx context.Context, signature, method, path string) (store.Agent, error) {
	refuse := func(reason string) (store.Agent, error) {
		return store.Agent{}, problem.New(problem.SignInRefused, "the agent's signature: %s.", reason)
	}
	if signature == "" {
		return refuse("there is none")
	}
	token, err := jwt.ParseSigned(signature, []jose.SignatureAlgorithm{jose.EdDSA})
	if err != nil {
		return refuse("it cannot be read")
	}
	var unverified claims
	if err := token.UnsafeClaimsWithoutVerification(&unverified); err != nil {
		return refuse("it cannot be read")
	}
	if _, err := uuid.Parse(unverified.Subject); err != nil {
		return refuse("it names no agent")
	}
	agent, err := a.store.Agents.Get(ctx, unverified.Subject)
	if store.NotFound(err) {
		return store.Agent{}, problem.New(problem.AgentRetired, "")
	}
	if err != nil {
		return store.Agent{}, err
	}
	var key jose.JSONWebKey
	if err := json.Unmarshal([]byte(agent.PublicKey), &key); err != nil {
		return store.Agent{}, fmt.Errorf("public key of agent %s: %w", agent.ID, err)
	}
	var signed claims
	if err := token.Claims(key, &signed); err != nil {
		return refuse("it is wrong")
	}
	switch err := signed.ValidateWithLeeway(jwt.Expected{AnyAudience: jwt.Audience{"kambrel"}, Time: time.Now()}, clockLeeway); {
	case err != nil:
		return refuse(fmt.Sprintf("%v; compare the clocks of agent and service", err))
	case signed.Expiry == nil, signed.IssuedAt == nil, signed.Expiry.Time().Sub(signed.IssuedAt.Time()) > longestSignature:
		return refuse("it is valid for too long")
	case signed.ID == "", len(signed.ID) > 64:
		return refuse("it has no id of its own (jti)")
	case signed.Method != method || signed.Path != path:
		return refuse("it was made for another request")
	}
	fresh, err := a.store.Agents.UseSignature(ctx, agent.ID+"/"+signed.ID, signed.Expiry.Time().Add(2*clockLeeway))
	if err == nil && !fresh {
		return refuse("it was used before")
	}
	return agent, err
}
