package agents_test

import (
	"crypto/ed25519"
	"crypto/rand"
	"encoding/json"
	"testing"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"
	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/about"
	"kambrel.example/kambrel/core/act"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/protocol/wire"
	"kambrel.example/kambrel/service/agents"
	"kambrel.example/kambrel/service/orders/orderstest"
	"kambrel.example/kambrel/service/store"
)

const service = "https://kambrel.example"

// bench is the desk of agents on a database of its own.
type bench struct {
	*agents.Agents
	store *store.Store
	t     *testing.T
}

func newBench(t *testing.T) *bench {
	t.Helper()
	s := orderstest.Store(t)
	return &bench{Agents: agents.New(s), store: s, t: t}
}

// host is an agent's host: it has the key, and knows who it is.
type host struct {
	*bench
	id  string
	key ed25519.PrivateKey
}

// enrolled takes a new agent the whole way from the code to its identity.
func (b *bench) enrolled(name string, directories ...string) *host {
	b.t.Helper()
	code, err := b.IssueCode(b.t.Context(), "ingrid", service, "", directories)
	require.NoError(b.t, err)
	public, private, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(b.t, err)
	answer, err := b.Enrol(b.t.Context(), wire.EnrolRequest{Code: code.Code, Name: name, Host: "host-1", PublicKey: jwk(b.t, public)})
	require.NoError(b.t, err)
	return &host{b, answer.AgentID, private}
}

func jwk(t *testing.T, key any) string {
	t.Helper()
	text, err := json.Marshal(jose.JSONWebKey{Key: key, Algorithm: string(jose.EdDSA), Use: "sig"})
	require.NoError(t, err)
	return string(text)
}

// signed is what an agent claims of a request, and can be changed before it is signed.
type signed struct {
	jwt.Claims
	Method string `json:"htm"`
	Path   string `json:"htp"`
}

// sign signs a request as the agent does; change spoils it.
func (h *host) sign(key ed25519.PrivateKey, change func(*signed)) string {
	h.t.Helper()
	signer, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.EdDSA, Key: key}, nil)
	require.NoError(h.t, err)
	now := time.Now()
	claims := signed{jwt.Claims{
		Subject: h.id, Audience: jwt.Audience{"kambrel"}, ID: uuid.NewString(),
		IssuedAt: jwt.NewNumericDate(now), Expiry: jwt.NewNumericDate(now.Add(30 * time.Second)),
	}, "GET", "/api/v1/agent/order"}
	if change != nil {
		change(&claims)
	}
	text, err := jwt.Signed(signer).Claims(claims).Serialize()
	require.NoError(h.t, err)
	return text
}

func (h *host) identify(signature string) (store.Agent, error) {
	return h.Identify(h.t.Context(), signature, "GET", "/api/v1/agent/order")
}

func TestASignatureIsForOneRequestOfOneAgentOnce(t *testing.T) {
	t.Parallel()
	h := newBench(t).enrolled("halvard-1", "halvard")
	_, stranger, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	shift := func(issued, expires time.Duration) func(*signed) {
		return func(c *signed) {
			c.IssuedAt, c.Expiry = jwt.NewNumericDate(time.Now().Add(issued)), jwt.NewNumericDate(time.Now().Add(expires))
		}
	}
	for name, c := range map[string]struct {
		key    ed25519.PrivateKey
		change func(*signed)
		want   string // a part of the refusal, "" where it is taken
	}{
		"as it should be":            {h.key, nil, ""},
		"clocks half a minute apart": {h.key, shift(20*time.Second, 50*time.Second), ""},
		"another key":                {stranger, nil, "it is wrong"},
		"another method":             {h.key, func(c *signed) { c.Method = "POST" }, "another request"},
		"another path":               {h.key, func(c *signed) { c.Path += "?lane=quick" }, "another request"},
		"another audience":           {h.key, func(c *signed) { c.Audience = jwt.Audience{"cloud"} }, "compare the clocks"},
		"over":                       {h.key, shift(-10*time.Minute, -9*time.Minute), "compare the clocks"},
		"of the future":              {h.key, shift(10*time.Minute, 11*time.Minute), "compare the clocks"},
		"valid for an hour":          {h.key, shift(0, time.Hour), "for too long"},
		"valid for ever":             {h.key, func(c *signed) { c.Expiry = nil }, "for too long"},
		"never issued":               {h.key, func(c *signed) { c.IssuedAt = nil }, "for too long"},
		"without an id":              {h.key, func(c *signed) { c.ID = "" }, "no id of its own"},
		"with an endless id":         {h.key, func(c *signed) { c.ID = string(make([]byte, 65)) }, "no id of its own"},
		"of no agent":                {h.key, func(c *signed) { c.Subject = "halvard-1" }, "names no agent"},
	} {
		t.Run(name, func(t *testing.T) {
			agent, err := h.identify(h.sign(c.key, c.change))
			if c.want == "" {
				require.NoError(t, err)
				assert.Equal(t, h.id, agent.ID)
				return
			}
			assert.Equal(t, problem.SignInRefused, problem.CodeOf(err))
			assert.ErrorContains(t, err, c.want)
			assert.Empty(t, agent.ID)
		})
	}
	for name, text := range map[string]string{"none": "", "no JWT": "hello", "unsigned": "eyJhbGciOiJub25lIn0.e30."} {
		_, err := h.identify(text)
		assert.Equal(t, problem.SignInRefused, problem.CodeOf(err), name)
	}
	twice := h.sign(h.key, nil)
	_, err = h.identify(twice)
	require.NoError(t, err)
	_, err = h.identify(twice)
	assert.ErrorContains(t, err, "used before")
	_, err = h.identify(h.sign(h.key, func(c *signed) { c.Subject = uuid.NewString() }))
	assert.Equal(t, problem.AgentRetired, problem.CodeOf(err), "one that nobody knows is told so, and ends")
}

func TestACodeEnrolsOneAgentForWhatItWasIssuedFor(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	ctx := t.Context()
	_, err := b.IssueCode(ctx, "ingrid", service, "", []string{"Halvard Ferries"})
	assert.Equal(t, problem.BadInput, problem.CodeOf(err))
	code, err := b.IssueCode(ctx, "ingrid", service, "", []string{"halvard", "brisling"})
	require.NoError(t, err)
	assert.Equal(t, "kambrel agent enrol --service "+service+" --code "+code.Code, code.Command)

	public, private, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	request := wire.EnrolRequest{Code: code.Code, Name: "halvard-1", Host: "host-1"}
	for name, key := range map[string]string{"no key": "", "no JWK": "ssh-ed25519 AAAA", "the private half": jwk(t, private), "another kind": `{"kty":"oct","k":"AAAA","alg":"HS256"}`} {
		request.PublicKey = key
		_, err := b.Enrol(ctx, request)
		assert.Equal(t, problem.BadInput, problem.CodeOf(err), name)
	}
	request.PublicKey = jwk(t, public)
	first, err := b.Enrol(ctx, request)
	require.NoError(t, err, "what was refused has not used the code up")
	_, err = b.Enrol(ctx, request)
	assert.Equal(t, problem.EnrolmentCodeRefused, problem.CodeOf(err))
	assert.ErrorContains(t, err, "used already")
	request.Code = "guess"
	_, err = b.Enrol(ctx, request)
	assert.ErrorContains(t, err, "never issued")

	// A name that is taken costs no code either.
	next, err := b.IssueCode(ctx, "ingrid", service, "", []string{"halvard"})
	require.NoError(t, err)
	request.Code = next.Code
	_, err = b.Enrol(ctx, request)
	assert.ErrorContains(t, err, "called halvard-1 already")
	request.Name = "halvard-2"
	_, err = b.Enrol(ctx, request)
	require.NoError(t, err)
	list, err := b.List(ctx)
	require.NoError(t, err)
	require.Len(t, list, 2)
	assert.Equal(t, first.AgentID, list[0].ID)
	assert.Equal(t, []string{"halvard", "brisling"}, list[0].Granted)
	assert.Empty(t, list[0].Directories, "it serves nothing before it says hello")
	assert.Equal(t, "never-seen", list[0].State)
	acts, _, err := b.store.Acts.List(ctx, store.ActQuery{Limit: 10})
	require.NoError(t, err)
	require.Len(t, acts, 4)
	for _, a := range acts {
		assert.NotContains(t, a.Subject+string(a.Before)+string(a.After)+a.Note, code.Code, "a code is told once, and never kept")
	}
}

func TestAnAgentThatIsRetiredIsNobodyAnyMore(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	ctx := t.Context()
	h := b.enrolled("halvard-1", "halvard")
	_, err := h.identify(h.sign(h.key, nil))
	require.NoError(t, err)
	require.NoError(t, b.Retire(ctx, "ingrid", h.id))
	_, err = h.identify(h.sign(h.key, nil))
	assert.Equal(t, problem.AgentRetired, problem.CodeOf(err))
	assert.Equal(t, problem.NotFound, problem.CodeOf(b.Retire(ctx, "ingrid", h.id)))
	_, err = b.Grant(ctx, "ingrid", h.id, []string{"halvard"})
	assert.Equal(t, problem.NotFound, problem.CodeOf(err))

	// Everything that was done is noted, the newest first, and what was refused is not.
	acts, total, err := b.store.Acts.List(ctx, store.ActQuery{Type: about.Agent, Limit: 10})
	require.NoError(t, err)
	require.Equal(t, 3, total)
	kinds := []act.Kind{acts[0].Kind, acts[1].Kind, acts[2].Kind}
	assert.Equal(t, []act.Kind{act.Retire, act.Enrol, act.IssueCode}, kinds)
	assert.JSONEq(t, `{"name": "halvard-1", "directories": ["halvard"]}`, string(acts[0].Before))
	assert.Equal(t, "agent halvard-1", acts[1].By)
}
