package agent

import (
	"bufio"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/go-ldap/ldap/v3"
	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/password"
	"kambrel.example/kambrel/core/secret"
	"kambrel.example/kambrel/lab/servers"
	"kambrel.example/kambrel/lab/servers/serverstest"
	"kambrel.example/kambrel/protocol/events"
	"kambrel.example/kambrel/protocol/orders"
)

// A hostile service: it hands an agent of a real directory whatever it likes.
type hostile struct {
	t        *testing.T
	server   *servers.LDAPServer
	file     string
	url      string
	cloud    jose.JSONWebKey
	give     chan orders.Order
	answers  chan orders.PasswordDone
	refuses  bool // to let an order begin
	anna, bo string
}

const (
	hostileBase = "dc=brisling,dc=example"
	annaFirst   = "Otter-Bay-55"
)

func newHostile(t *testing.T) *hostile {
	h := &hostile{t: t, give: make(chan orders.Order), answers: make(chan orders.PasswordDone, 1), file: filepath.Join(t.TempDir(), "agent.yaml")}
	ldif := filepath.Join(t.TempDir(), "base.ldif")
	text := "dn: " + hostileBase + "\nobjectClass: organization\nobjectClass: dcObject\no: Brisling\ndc: brisling\n\n" + servers.ReaderLDIF(hostileBase)
	for _, name := range []string{"Anna", "Bo"} {
		text += "dn: cn=" + name + "," + hostileBase + "\nobjectClass: inetOrgPerson\nsn: " + name + "\nuserPassword: " + annaFirst + "\n\n"
	}
	require.NoError(t, os.WriteFile(ldif, []byte(text), 0o600))
	var err error
	h.server, err = serverstest.New(t).StartOpenLDAP(t.Context(), "openldap", servers.OpenLDAPOptions{BaseDN: hostileBase, LDIF: ldif,
		Access: `access to attrs=userPassword by dn.exact="uid=svc-kambrel,ou=Service Accounts,dc=brisling,dc=example" write by anonymous auth`})
	require.NoError(t, err)
	h.anna, h.bo = h.id("Anna"), h.id("Bo")
	h.cloud = h.key()

	mux := http.NewServeMux()
	mux.HandleFunc("PUT /api/v1/agent/hello", func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(204) })
	mux.HandleFunc("GET /api/v1/agent/order", func(w http.ResponseWriter, r *http.Request) {
		select {
		case order := <-h.give:
			_ = json.NewEncoder(w).Encode(order)
		case <-r.Context().Done():
		case <-time.After(100 * time.Millisecond):
			w.WriteHeader(204)
		}
	})
	mux.HandleFunc("POST /api/v1/agent/orders/{id}/begin", func(w http.ResponseWriter, _ *http.Request) {
		if h.refuses {
			w.WriteHeader(409)
			_, _ = w.Write([]byte(`{"type":"urn:kambrel:problem:order-lost","title":"lost","detail":"lost"}`))
			return
		}
		w.WriteHeader(204)
	})
	mux.HandleFunc("POST /api/v1/agent/orders/{id}/answer", func(w http.ResponseWriter, r *http.Request) {
		scanner := bufio.NewScanner(r.Body)
		for scanner.Scan() {
			var line orders.Line
			_ = json.Unmarshal(scanner.Bytes(), &line)
			switch {
			case line.Password != nil:
				h.answers <- *line.Password
			case line.Failed != nil:
				h.answers <- orders.PasswordDone{Reason: password.Reason(line.Failed.Code)}
			}
		}
		w.WriteHeader(204)
	})
	service := httptest.NewServer(mux)
	t.Cleanup(service.Close)
	h.url = service.URL
	private, _, err := newKey()
	require.NoError(t, err)
	public, err := json.Marshal(h.cloud.Public())
	require.NoError(t, err)
	config := Config{Service: h.url, Name: "one", AgentID: uuid.NewString(), Key: private, Cloud: &Cloud{Issuer: "https://cloud.example", Audience: "kambrel", Keys: []string{string(public)}},
		Directories: []Directory{{Name: "brisling", URL: h.server.URL, CA: h.server.CAFile, BindDN: h.server.ReaderDN, Password: secret.Text(h.server.ReaderPassword)}}}
	require.NoError(t, config.Save(h.file))
	return h
}

func (h *hostile) key() jose.JSONWebKey {
	made, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(h.t, err)
	return jose.JSONWebKey{Key: made, Algorithm: "ES256", Use: "sig"}
}

func (h *hostile) admin() *ldap.Conn {
	conn, err := h.server.Dial()
	require.NoError(h.t, err)
	h.t.Cleanup(func() { _ = conn.Close() })
	return conn
}

func (h *hostile) id(name string) string {
	found, err := h.admin().Search(&ldap.SearchRequest{BaseDN: "cn=" + name + "," + hostileBase, Scope: ldap.ScopeBaseObject, Filter: "(objectClass=*)", Attributes: []string{"entryUUID"}})
	require.NoError(h.t, err)
	return found.Entries[0].GetAttributeValue("entryUUID")
}

// binds tells whether somebody's password is just this one.
func (h *hostile) binds(name, text string) bool {
	return h.admin().Bind("cn="+name+","+hostileBase, text) == nil
}

// start starts the agent, until stop.
func (h *hostile) start() (a *Agent, stop func()) {
	config, err := Load(h.file)
	require.NoError(h.t, err)
	a, err = New(config, h.file, "test")
	require.NoError(h.t, err)
	ctx, cancel := context.WithCancel(h.t.Context())
	ended := make(chan error, 1)
	go func() { ended <- a.Run(ctx) }()
	return a, func() { cancel(); <-ended }
}

// reset is a token of the cloud that sets Anna's password; change spoils it before it is
// signed, and after it is sealed.
func (h *hostile) reset(a *Agent, text string, change func(*events.Token, *events.Request)) string {
	token := events.Token{Issuer: "https://cloud.example", Audience: events.Audience{"kambrel"}, ID: uuid.NewString(), IssuedAt: time.Now().Unix(),
		Subject: &events.Subject{Format: events.IssuerAndSubject, Issuer: "https://cloud.example", Subject: "anna"}}
	ask := events.Ask{Act: password.Reset, Request: events.Request{Directory: "brisling", Entry: h.anna, By: events.ByPerson, Expires: time.Now().Add(20 * time.Second).Unix()}}
	key := a.vault.current().Key
	encrypter, err := jose.NewMultiEncrypter(jose.A256GCM, []jose.Recipient{{Algorithm: jose.ECDH_ES_A256KW, Key: key.Public().Key, KeyID: key.KeyID}}, nil)
	require.NoError(h.t, err)
	bound, err := json.Marshal(events.BindingOf(token, ask))
	require.NoError(h.t, err)
	sealed, err := encrypter.EncryptWithAuthData([]byte(`{"password":"`+text+`"}`), bound)
	require.NoError(h.t, err)
	ask.Envelope = json.RawMessage(sealed.FullSerialize())
	if change != nil {
		change(&token, &ask.Request)
	}
	request, err := json.Marshal(ask.Request)
	require.NoError(h.t, err)
	if token.Events == nil {
		token.Events = map[string]json.RawMessage{events.Reset: request}
	}
	return h.sign(h.cloud, token)
}

func (h *hostile) sign(key jose.JSONWebKey, token events.Token) string {
	signer, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.ES256, Key: key}, (&jose.SignerOptions{}).WithType(events.TokenType))
	require.NoError(h.t, err)
	text, err := json.Marshal(token)
	require.NoError(h.t, err)
	signed, err := signer.Sign(text)
	require.NoError(h.t, err)
	out, err := signed.CompactSerialize()
	require.NoError(h.t, err)
	return out
}

func (h *hostile) order(event string) orders.PasswordDone {
	h.t.Helper()
	for range 5 { // it may have gone to a connection that is closed by now
		h.give <- orders.Order{ID: 1, Directory: "brisling", Dialect: entry.Standard, Base: hostileBase, LeaseSeconds: 2, Password: &orders.Password{Event: event}}
		select {
		case done := <-h.answers:
			return done
		case <-time.After(5 * time.Second):
		}
	}
	h.t.Fatal("the agent did not answer")
	return orders.PasswordDone{}
}

// TestAnEventServesOnce sends an event again and again: to the same agent, to one that was
// started anew, and to one that had died after it had set the password.
func TestAnEventServesOnce(t *testing.T) {
	t.Parallel()
	h := newHostile(t)
	a, stop := h.start()
	h.refuses = true
	event := h.reset(a, "Gannet-Rock-66", nil)
	assert.Equal(t, "order-lost", string(h.order(event).Reason), "what the service has taken back is left")
	assert.True(t, h.binds("Anna", annaFirst))
	h.refuses = false
	assert.Equal(t, orders.PasswordDone{}.Reason, h.order(event).Reason)
	require.True(t, h.binds("Anna", "Gannet-Rock-66"))

	set := func(text string) {
		_, err := h.admin().PasswordModify(ldap.NewPasswordModifyRequest("cn=Anna,"+hostileBase, "", text))
		require.NoError(t, err)
	}
	set("Puffin-Isle-77")
	again := h.order(event)
	assert.True(t, again.Remembered)
	assert.True(t, h.binds("Anna", "Puffin-Isle-77"), "it does not set the old one back")
	stop()
	a, stop = h.start()
	assert.True(t, h.order(event).Remembered, "nor after a new start")
	assert.True(t, h.binds("Anna", "Puffin-Isle-77"))

	// It died after it had begun: whether it was done is seen by the password itself.
	event = h.reset(a, "Razorbill-88", nil)
	require.Equal(t, password.Done, h.order(event).Reason)
	stop()
	journal := filepath.Join(StateFolder(h.file), "events.ndjson")
	text, err := os.ReadFile(journal)
	require.NoError(t, err)
	var kept []string
	for line := range strings.Lines(string(text)) {
		if !strings.Contains(line, `"done"`) {
			kept = append(kept, line)
		}
	}
	require.NoError(t, os.WriteFile(journal, []byte(strings.Join(kept, "")+`{"jti":"torn`), 0o600))
	_, stop = h.start()
	done := h.order(event)
	assert.Equal(t, password.Done, done.Reason)
	assert.Equal(t, "it was set before", done.Detail)
	stop()

	// Keys rotate: the one before still opens what is on its way, the one before that not.
	a, stop = h.start()
	defer stop()
	sealed := h.reset(a, "Curlew-Sand-99", nil)
	require.NoError(t, a.vault.rotate(time.Now()))
	late := h.reset(a, "Curlew-Sand-98", nil)
	assert.Equal(t, password.Done, h.order(sealed).Reason)
	require.NoError(t, a.vault.rotate(time.Now()))
	require.NoError(t, a.vault.rotate(time.Now()))
	assert.Equal(t, password.Unreadable, h.order(late).Reason)
	require.True(t, h.binds("Anna", "Curlew-Sand-99"))
}

// TestAnAgentBelievesTheCloudAlone gives it what the cloud did not say.
func TestAnAgentBelievesTheCloudAlone(t *testing.T) {
	t.Parallel()
	h := newHostile(t)
	a, stop := h.start()
	defer stop()
	for name, c := range map[string]struct {
		change func(*events.Token, *events.Request)
		reason password.Reason
	}{
		"another person":   {func(_ *events.Token, r *events.Request) { r.Entry = h.bo }, password.Unreadable},
		"another resource": {func(t *events.Token, _ *events.Request) { t.Subject.Subject = "bo" }, password.Unreadable},
		"another event":    {func(t *events.Token, _ *events.Request) { t.ID = uuid.NewString() }, password.Unreadable},
		"for longer":       {func(_ *events.Token, r *events.Request) { r.Expires++ }, password.Unreadable},
		"another issuer": {func(t *events.Token, _ *events.Request) {
			t.Issuer, t.Subject.Issuer = "https://x.example", "https://x.example"
		}, password.Untrusted},
		"another audience":    {func(t *events.Token, _ *events.Request) { t.Audience = events.Audience{"somebody"} }, password.Untrusted},
		"another directory":   {func(_ *events.Token, r *events.Request) { r.Directory = "halvard" }, password.Untrusted},
		"no entry":            {func(_ *events.Token, r *events.Request) { r.Entry = "anna" }, password.Untrusted},
		"over":                {func(t *events.Token, r *events.Request) { t.IssuedAt -= 100; r.Expires -= 100 }, password.Expired},
		"of the future":       {func(t *events.Token, r *events.Request) { t.IssuedAt += 300; r.Expires += 300 }, password.Expired},
		"an envelope of none": {func(_ *events.Token, r *events.Request) { r.Envelope = json.RawMessage(`{"ciphertext":"x"}`) }, password.Unreadable},
	} {
		done := h.order(h.reset(a, "Gannet-Rock-66", c.change))
		assert.Equal(t, c.reason, done.Reason, "%s: %+v", name, done)
	}
	other := h.key()
	assert.Equal(t, password.Untrusted, h.order(h.sign(other, events.Token{})).Reason)
	assert.Equal(t, password.Untrusted, h.order("nonsense").Reason)
	for _, name := range []string{"Anna", "Bo"} {
		assert.True(t, h.binds(name, annaFirst))
	}
	config, err := Load(h.file)
	require.NoError(t, err)
	config.Cloud = nil
	require.NoError(t, config.Save(h.file))
	assert.Equal(t, password.Untrusted, h.order(h.reset(a, "Gannet-Rock-66", nil)).Reason, "one that trusts no cloud does nothing")
}

func TestPinsAreMadeOfPublicKeysForSignatures(t *testing.T) {
	t.Parallel()
	for name, text := range map[string]string{"nonsense": "nonsense", "none": `{"keys":[]}`, "for sealing": `{"keys":[{"kty":"EC","use":"enc","crv":"P-256","x":"f83OJ3D2xF1Bg8vub9tLe1gHMzV76e8Tus9uPHvRVEU","y":"x_FEzRu9m36HLN_tue659LNpXW6pCyStikYjKIWI5a0"}]}`} {
		_, _, err := Trust("https://cloud.example", "", []byte(text))
		assert.Error(t, err, name)
	}
	pinned, prints, err := Trust("https://cloud.example", "", []byte(`{"keys":[{"kty":"EC","use":"sig","crv":"P-256","x":"f83OJ3D2xF1Bg8vub9tLe1gHMzV76e8Tus9uPHvRVEU","y":"x_FEzRu9m36HLN_tue659LNpXW6pCyStikYjKIWI5a0"}]}`))
	require.NoError(t, err)
	assert.Len(t, pinned.Keys, 1)
	assert.Len(t, prints, 1)
}
