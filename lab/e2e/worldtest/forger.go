package worldtest

import (
	"encoding/json"
	"io"
	"net/http"
	"os"
	"strings"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/go-jose/go-jose/v4/jwt"
	"github.com/google/uuid"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"
)

// Forger speaks in the name of an enrolled agent, with its key.
type Forger struct {
	w      *World
	id     string
	signer jose.Signer
}

func (w *World) Forger() *Forger {
	w.T.Helper()
	text, err := os.ReadFile(w.AgentFile)
	require.NoError(w.T, err)
	var config struct {
		AgentID string `yaml:"agentID"`
		Key     string `yaml:"key"`
	}
	require.NoError(w.T, yaml.Unmarshal(text, &config))
	var key jose.JSONWebKey
	require.NoError(w.T, json.Unmarshal([]byte(config.Key), &key), string(text))
	signer, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.EdDSA, Key: key}, nil)
	require.NoError(w.T, err)
	return &Forger{w, config.AgentID, signer}
}

func (f *Forger) Signature(method, path string, valid time.Duration) string {
	now := time.Now()
	token, err := jwt.Signed(f.signer).Claims(jwt.Claims{
		Subject: f.id, Audience: jwt.Audience{"kambrel"}, IssuedAt: jwt.NewNumericDate(now), Expiry: jwt.NewNumericDate(now.Add(valid)), ID: uuid.NewString(),
	}).Claims(map[string]any{"htm": method, "htp": path}).Serialize()
	require.NoError(f.w.T, err)
	return token
}

func (f *Forger) Send(method, path, token, body string) (int, string) {
	f.w.T.Helper()
	request, err := http.NewRequest(method, f.w.URL+path, strings.NewReader(body))
	require.NoError(f.w.T, err)
	request.Header.Set("Authorization", "Bearer "+token)
	response, err := http.DefaultClient.Do(request)
	require.NoError(f.w.T, err)
	defer response.Body.Close()
	text, err := io.ReadAll(response.Body)
	require.NoError(f.w.T, err)
	return response.StatusCode, string(text)
}

func (f *Forger) Does(method, path, body string) (int, string) {
	f.w.T.Helper()
	return f.Send(method, path, f.Signature(method, path, 30*time.Second), body)
}
