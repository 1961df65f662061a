package passwords_test

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/protocol/events"
	"kambrel.example/kambrel/protocol/wire"
)

// own is the key by which the cloud signs.
func own(t *testing.T, w *worldtest.World) jose.JSONWebKey {
	t.Helper()
	var key jose.JSONWebKey
	text, err := os.ReadFile(filepath.Join(w.Lab.Dir, "cloud", "signing.jwk"))
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(text, &key))
	return key
}

// strange is a key of somebody else.
func strange(t *testing.T) jose.JSONWebKey {
	t.Helper()
	made, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	return jose.JSONWebKey{Key: made, KeyID: "strange", Algorithm: "ES256", Use: "sig"}
}

func sign(t *testing.T, key jose.JSONWebKey, kind string, claims any) string {
	t.Helper()
	s, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.ES256, Key: key}, (&jose.SignerOptions{}).WithType(jose.ContentType(kind)))
	require.NoError(t, err)
	text, err := json.Marshal(claims)
	require.NoError(t, err)
	signed, err := s.Sign(text)
	require.NoError(t, err)
	out, err := signed.CompactSerialize()
	require.NoError(t, err)
	return out
}

// token is an event about somebody.
func token(w *worldtest.World, login, kind string, change func(*events.Request)) events.Token {
	w.T.Helper()
	user := w.User(login + "@brisling.example")
	origin := user[events.OriginURN].(map[string]any)
	ask := events.Request{Directory: fmt.Sprint(origin["directory"]), Entry: fmt.Sprint(origin["entry"]), By: events.ByPerson, Expires: time.Now().Add(8 * time.Second).Unix()}
	if change != nil {
		change(&ask)
	}
	text, err := json.Marshal(ask)
	require.NoError(w.T, err)
	return events.Token{Issuer: w.Cloud.Base, Audience: events.Audience{"urn:kambrel:service"}, ID: uuid.NewString(), IssuedAt: time.Now().Unix(),
		Subject: &events.Subject{Format: events.IssuerAndSubject, Issuer: w.Cloud.Base, Subject: fmt.Sprint(user["id"])}, Events: map[string]json.RawMessage{kind: text}}
}

// slip puts a token into the cloud's stream, and returns what the cloud was told.
func slip(w *worldtest.World, id, token string) string {
	w.T.Helper()
	status, out := worldtest.SCIM(w.T, w.Address(), "POST", w.Cloud.Control+"/tokens", map[string]string{"id": id, "token": token})
	require.Equal(w.T, 200, status, out)
	return strings.TrimSpace(fmt.Sprintf("%s: %s", out["err"], out["description"]))
}

// TestEventsThatTheCloudDidNotMeanAreRefused puts forged and crooked events into the stream:
// none is carried out, each is answered, counted and told as a problem.
func TestEventsThatTheCloudDidNotMeanAreRefused(t *testing.T) {
	t.Parallel()
	w := worldtest.WithPasswords(t, worldtest.Options{})
	w.PasswordsOpen("open")
	cloud := own(t, w)
	good := token(w, "anna", events.Unlock, nil)
	require.Equal(t, ":", slip(w, good.ID, sign(t, cloud, events.TokenType, good)))
	assert.Equal(t, ":", slip(w, good.ID, sign(t, cloud, events.TokenType, good)), "one that comes again is answered as before")
	for name, c := range map[string]struct {
		key    jose.JSONWebKey
		kind   string
		change func(*events.Token)
		want   string
	}{
		"another key":        {strange(t), events.TokenType, func(*events.Token) {}, "authentication_failed"},
		"no event":           {cloud, "JWT", func(*events.Token) {}, "invalid_request: the token is of type"},
		"another issuer":     {cloud, events.TokenType, func(t *events.Token) { t.Issuer = "https://other.example" }, "invalid_issuer"},
		"another audience":   {cloud, events.TokenType, func(t *events.Token) { t.Audience = events.Audience{"https://other.example"} }, "invalid_audience"},
		"old":                {cloud, events.TokenType, func(t *events.Token) { t.IssuedAt -= 600 }, "compare the clocks"},
		"of the future":      {cloud, events.TokenType, func(t *events.Token) { t.IssuedAt += 600 }, "compare the clocks"},
		"under another name": {cloud, events.TokenType, func(t *events.Token) { t.ID = uuid.NewString() }, "jti"},
		"unknown":            {cloud, events.TokenType, func(t *events.Token) { t.Events = map[string]json.RawMessage{"urn:other": []byte("{}")} }, "is not known"},
		"about nobody":       {cloud, events.TokenType, func(t *events.Token) { t.Subject = nil }, "names nobody"},
		"no password":        {cloud, events.TokenType, func(t *events.Token) { *t = token(w, "anna", events.Reset, nil) }, "no envelope"},
		"valid for a day": {cloud, events.TokenType, func(t *events.Token) {
			*t = token(w, "anna", events.Unlock, func(r *events.Request) { r.Expires += 86400 })
		}, "valid for more than"},
	} {
		claims := token(w, "anna", events.Unlock, nil)
		id := claims.ID
		c.change(&claims)
		if name != "under another name" {
			id = claims.ID
		}
		assert.Contains(t, slip(w, id, sign(t, c.key, c.kind, claims)), c.want, name)
	}
	assert.Contains(t, slip(w, "nonsense", "nonsense"), "invalid_request")
	state, err := w.Client.PasswordsState(t.Context())
	require.NoError(t, err)
	assert.Equal(t, 12, state.Refused)
	require.Eventually(t, func() bool {
		out, _, _ := w.Kambrel("problems", "list")
		return strings.Contains(out, "An event of the cloud was not taken")
	}, 20*time.Second, 200*time.Millisecond)
	require.Len(t, worldtest.Reads[[]wire.PasswordEvent](w, "passwords", "events"), 1)

	// The whole way is tried without setting anything.
	w.Says([]string{"directory", "probe", "brisling"})
	w.Says([]string{"passwords", "state"}, "Open: Passwords reach brisling at once", "agent brisling-1", "ok  right unlock", "12 events so far")
	w.Says([]string{"passwords", "try", "anna@brisling.example"}, "Nothing was set.", "came back, signed", "neither protected nor disabled", "ok  right reset-passwords")

	// Who may not: each is told why.
	admin := func(ask worldtest.Asked, code string) {
		t.Helper()
		assert.Equal(t, code, w.Ask(ask).Code, "%+v", ask)
	}
	d := worldtest.PasswordDocument()
	d.Passwords.Protected = "(uid=cato)"
	w.Activate(d)
	admin(worldtest.Asked{Login: "cato@brisling.example", New: "Gannet-Rock-66"}, "protected")
	w.Set("cn=Bo,"+worldtest.People, "pwdAccountLockedTime", "000001010000Z")
	admin(worldtest.Asked{Login: "bo@brisling.example", New: "Gannet-Rock-66"}, "disabled")
	other := token(w, "anna", events.Unlock, nil)
	other.Subject.Subject = fmt.Sprint(w.User("bo@brisling.example")["id"])
	assert.Contains(t, slip(w, other.ID, sign(t, cloud, events.TokenType, other)), "not-linked", "the entry is not that of the resource")
	d.Directories[0].Features = []entry.Feature{entry.FeatureUnlock}
	w.Activate(d)
	admin(worldtest.Asked{Login: "anna@brisling.example", New: "Gannet-Rock-66"}, "switched-off")
	d.Directories[0].Features = entry.PasswordFeatures
	d.Users.Filter = "(&(objectClass=inetOrgPerson)(!(uid=anna)))"
	w.Activate(d)
	w.Run(wire.NewRun{})
	admin(worldtest.Asked{Login: "anna@brisling.example", New: "Gannet-Rock-66"}, "out-of-scope")
	assert.True(t, w.Binds("Anna", worldtest.OldPassword))
	assert.True(t, w.Binds("Cato", worldtest.OldPassword))
}

// TestAServiceThatWasTakenOverSetsNoPassword stands between service and cloud with keys of
// its own: what it signs the service believes, and the agent does not.
func TestAServiceThatWasTakenOverSetsNoPassword(t *testing.T) {
	t.Parallel()
	forger := strange(t)
	var sealed atomic.Value // an envelope that the cloud has sealed for Anna
	var between *httptest.Server
	w := worldtest.WithPasswords(t, worldtest.Options{})
	target, err := url.Parse(w.Cloud.Base)
	require.NoError(t, err)
	proxy := httputil.NewSingleHostReverseProxy(target)
	give := make(chan string, 1)
	between = httptest.NewServer(http.HandlerFunc(func(out http.ResponseWriter, r *http.Request) {
		answer := func(value any) { _ = json.NewEncoder(out).Encode(value) }
		switch {
		case r.URL.Path == "/.well-known/ssf-configuration":
			answer(events.Transmitter{Issuer: w.Cloud.Base, KeysURI: between.URL + "/keys", ConfigurationURI: between.URL + "/stream"})
		case r.URL.Path == "/keys":
			cloud := own(t, w)
			answer(jose.JSONWebKeySet{Keys: []jose.JSONWebKey{forger.Public(), cloud.Public()}})
		case r.URL.Path == "/stream":
			one := events.Stream{Issuer: w.Cloud.Base, Audience: events.Audience{"urn:kambrel:service"}}
			one.Delivery.Method, one.Delivery.EndpointURL = events.Delivery, between.URL+"/poll"
			answer(one)
		case r.URL.Path == "/poll":
			var poll events.Poll
			_ = json.NewDecoder(r.Body).Decode(&poll)
			polled := events.Polled{Sets: map[string]string{}}
			if poll.MaxEvents == nil {
				select {
				case text := <-give:
					signed, _ := jose.ParseSignedCompact(text, []jose.SignatureAlgorithm{jose.ES256})
					var said events.Token
					_ = json.Unmarshal(signed.UnsafePayloadWithoutVerification(), &said)
					polled.Sets[said.ID] = text
				case <-r.Context().Done():
				case <-time.After(time.Second):
				}
			}
			answer(polled)
		default:
			proxy.ServeHTTP(out, r)
		}
	}))
	t.Cleanup(between.Close)

	// What the cloud itself once sealed for Anna.
	w.PasswordsOpen("open")
	require.NoError(t, w.Agent.Stop())
	told := make(chan worldtest.Answered, 1)
	go func() { told <- w.Ask(worldtest.Asked{Login: "anna@brisling.example", New: "Gannet-Rock-66"}) }()
	require.Eventually(t, func() bool {
		for _, line := range strings.Split(w.Dump(), "\n") {
			if strings.Contains(line, "INSERT INTO public.orders") && strings.Contains(line, `"event": "`) {
				_, text, _ := strings.Cut(line, `"event": "`)
				text, _, _ = strings.Cut(text, `"`)
				sealed.Store(text)
				return true
			}
		}
		return false
	}, 7*time.Second, 50*time.Millisecond)
	real := sealed.Load().(string)
	var said events.Token
	signed, err := jose.ParseSignedCompact(real, []jose.SignatureAlgorithm{jose.ES256})
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(signed.UnsafePayloadWithoutVerification(), &said))
	var anna events.Request
	require.NoError(t, json.Unmarshal(said.Events[events.Reset], &anna))

	answered := <-told
	assert.Equal(t, "nobody-answers", answered.Code, "%+v", answered)
	require.NoError(t, w.Service.Stop())
	w.SCIMURL = between.URL + target.Path + "/scim/v2"
	w.StartService()
	w.StartAgent()
	ended := func(id string) (found wire.PasswordEvent) {
		t.Helper()
		require.Eventually(t, func() bool {
			for _, e := range worldtest.Reads[[]wire.PasswordEvent](w, "passwords", "events") {
				if e.JTI == id && e.Ended != nil {
					found = e
					return true
				}
			}
			return false
		}, 20*time.Second, 50*time.Millisecond)
		return found
	}
	require.Eventually(t, func() bool { // the agent is heard of
		state, err := w.Client.PasswordsState(t.Context())
		return err == nil && state.Stream.Outcome == "good"
	}, 20*time.Second, 50*time.Millisecond)

	// Signed by somebody else, of whom the service says that it is the cloud.
	forged := token(w, "anna", events.Unlock, nil)
	give <- sign(t, forger, events.TokenType, forged)
	got := ended(forged.ID)
	assert.Equal(t, "not-trusted", string(got.Reason), "%+v", got)
	assert.Contains(t, got.Detail, "none of the keys in the agent's configuration")

	// The envelope of Anna for Bo, signed by the cloud itself.
	stolen := token(w, "bo", events.Reset, func(r *events.Request) { r.Envelope = anna.Envelope })
	give <- sign(t, own(t, w), events.TokenType, stolen)
	got = ended(stolen.ID)
	assert.Equal(t, "cannot-be-opened", string(got.Reason), "%+v", got)
	assert.Contains(t, got.Detail, "sealed for something else")

	// For another act, and again after it was over.
	act := token(w, "anna", events.Change, func(r *events.Request) { r.Envelope = anna.Envelope })
	give <- sign(t, own(t, w), events.TokenType, act)
	assert.Equal(t, "cannot-be-opened", string(ended(act.ID).Reason))
	assert.True(t, w.Binds("Bo", worldtest.OldPassword))
	assert.True(t, w.Binds("Anna", worldtest.OldPassword))
}
