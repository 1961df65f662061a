package worldtest

import (
	"bytes"
	"io"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"
)

// Between lets something happen in the cloud after a run has decided what to
// write and before the first write arrives, as another administrator's work does.
type Between struct {
	Mu  sync.Mutex
	Act func()
	// answers takes a request in the cloud's place; true says that it has.
	answers func(http.ResponseWriter, *http.Request) bool
}

func (b *Between) start(t *testing.T, address string) string {
	target, err := url.Parse(address)
	require.NoError(t, err)
	onward := httputil.NewSingleHostReverseProxy(&url.URL{Scheme: target.Scheme, Host: target.Host})
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method != http.MethodGet {
			b.Mu.Lock()
			if b.Act != nil {
				b.Act()
				b.Act = nil
			}
			b.Mu.Unlock()
		}
		b.Mu.Lock()
		answers := b.answers
		b.Mu.Unlock()
		if answers == nil || !answers(w, r) {
			onward.ServeHTTP(w, r)
		}
	}))
	t.Cleanup(server.Close)
	return server.URL + target.Path
}

func (b *Between) Happens(act func()) {
	b.Mu.Lock()
	defer b.Mu.Unlock()
	b.Act = act
}

func (b *Between) Takes(answers func(http.ResponseWriter, *http.Request) bool) {
	b.Mu.Lock()
	defer b.Mu.Unlock()
	b.answers = answers
}

// BodyOf reads the body of a request, which can be read again.
func BodyOf(r *http.Request) string {
	text, _ := io.ReadAll(r.Body)
	r.Body = io.NopCloser(bytes.NewReader(text))
	return string(text)
}
