package secret_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"log/slog"
	"strings"
	"testing"

	"github.com/goccy/go-yaml"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/secret"
)

func ExampleText() {
	connection := struct {
		BindDN   string
		Password secret.Text
	}{"svc", "Otter-Bay-55"}
	fmt.Printf("%v\n", connection)
	fmt.Println(connection.Password.Reveal())
	// Output:
	// {svc (secret)}
	// Otter-Bay-55
}

func TestASecretShowsItselfNowhere(t *testing.T) {
	t.Parallel()
	const text = "Otter-Bay-55"
	type holder struct {
		Password secret.Text `json:"password" yaml:"password"`
	}
	held := holder{text}
	asJSON, err := json.Marshal(held)
	require.NoError(t, err)
	var logged bytes.Buffer
	for _, handler := range []slog.Handler{slog.NewTextHandler(&logged, nil), slog.NewJSONHandler(&logged, nil)} {
		slog.New(handler).Info("connect", "password", held.Password, "connection", held)
	}
	require.Equal(t, 4, strings.Count(logged.String(), "(secret)"), logged.String())
	shown := []string{string(asJSON), logged.String(), fmt.Errorf("bind with %v: %w", held, assert.AnError).Error()}
	for _, verb := range []string{"%v", "%+v", "%#v", "%s", "%q", "%x"} {
		shown = append(shown, fmt.Sprintf(verb, held), fmt.Sprintf(verb, held.Password))
	}
	for _, one := range shown {
		assert.NotContains(t, one, "Otter")
		assert.NotContains(t, one, fmt.Sprintf("%x", text))
	}
	assert.Empty(t, fmt.Sprint(holder{}.Password.String()), "that there is none can be seen")

	// The file that keeps it has it, and it is read from there.
	file, err := yaml.Marshal(held)
	require.NoError(t, err)
	assert.Equal(t, "password: "+text, strings.TrimSpace(string(file)))
	var again holder
	require.NoError(t, yaml.Unmarshal(file, &again))
	assert.Equal(t, text, again.Password.Reveal())
}
