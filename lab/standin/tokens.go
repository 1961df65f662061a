package standin

import (
	"crypto/subtle"
	"fmt"
	"os"
	"strings"
	"sync"
	"time"
)

// tokens are the bearer tokens that are let in.
type tokens struct {
	fixed, file string

	mu      sync.Mutex
	read    []string
	changed time.Time
}

// all returns the tokens, read anew when the file has changed.
func (t *tokens) all() ([]string, error) {
	if t.file == "" {
		if t.fixed == "" {
			return nil, nil
		}
		return []string{t.fixed}, nil
	}
	info, err := os.Stat(t.file)
	if err != nil {
		return nil, fmt.Errorf("read the tokens: %w", err)
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	if !info.ModTime().Equal(t.changed) {
		text, err := os.ReadFile(t.file)
		if err != nil {
			return nil, fmt.Errorf("read the tokens: %w", err)
		}
		t.read, t.changed = strings.Fields(string(text)), info.ModTime()
	}
	return t.read, nil
}

func (t *tokens) allow(token string) bool {
	all, err := t.all()
	if err != nil {
		return false
	}
	for _, known := range all {
		if subtle.ConstantTimeCompare([]byte(token), []byte(known)) == 1 {
			return true
		}
	}
	return false
}
