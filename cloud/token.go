package cloud

import (
	"os"
	"strings"
	"sync"
	"time"

	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/secret"
)

// Token is the bearer token for the cloud. It is never printed.
type Token interface {
	read() (secret.Text, error)
}

// FixedToken is a token that does not change.
type FixedToken secret.Text

func (t FixedToken) read() (secret.Text, error) {
	if t == "" {
		return "", problem.New(problem.BadInput, "the cloud's token is empty")
	}
	return secret.Text(t), nil
}

// String hides the token.
func (t FixedToken) String() string { return secret.Text(t).String() }

// TokenFile reads the token from a file, and again when the file has changed: a
// token is replaced by writing the file, while runs go on.
func TokenFile(name string) Token { return &tokenFile{name: name} }

type tokenFile struct {
	name string

	mu      sync.Mutex // guards token and changed
	token   secret.Text
	changed time.Time
}

func (t *tokenFile) read() (secret.Text, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	info, err := os.Stat(t.name)
	if err != nil {
		if t.token != "" {
			return t.token, nil // between the old file and the new one
		}
		return "", problem.Wrap(problem.BadInput, err, "read the token for the cloud")
	}
	if t.token != "" && info.ModTime().Equal(t.changed) {
		return t.token, nil
	}
	text, err := os.ReadFile(t.name)
	if err != nil {
		return "", problem.Wrap(problem.BadInput, err, "read the token for the cloud")
	}
	// Of several lines the first is used: the others may be for the time of
	// the change.
	lines := strings.Fields(string(text))
	if len(lines) == 0 {
		if t.token != "" {
			return t.token, nil
		}
		return "", problem.New(problem.BadInput, "the token file %s is empty", t.name)
	}
	t.token, t.changed = secret.Text(lines[0]), info.ModTime()
	return t.token, nil
}
