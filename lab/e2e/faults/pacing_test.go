package faults_test

import (
	"fmt"
	"net/http"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/protocol/wire"
)

// TestRequestsAreKeptToWhatTheCloudTakes has a cloud that takes twenty requests a second:
// its word is learned from, so that a second run of as much meets hardly any refusal, and
// all services share what operators have set.
func TestRequestsAreKeptToWhatTheCloudTakes(t *testing.T) {
	t.Parallel()
	const crew, perSecond = 150, 20
	between := &worldtest.Between{}
	w := worldtest.NewWith(t, worldtest.LDIFPeople(crew), worldtest.Options{Raced: true, Between: between, Cloud: []string{"--without", "bulk"}})
	var mu sync.Mutex
	var second time.Time
	inside, refused := 0, 0
	between.Takes(func(answer http.ResponseWriter, _ *http.Request) bool {
		mu.Lock()
		defer mu.Unlock()
		if now := time.Now(); now.Sub(second) >= time.Second {
			second, inside = now, 0
		}
		if inside++; inside <= perSecond {
			return false
		}
		refused++
		answer.Header().Set("Retry-After", "1")
		answer.WriteHeader(http.StatusTooManyRequests)
		return true
	})
	refusedIn := func(run func() wire.Run) int {
		t.Helper()
		mu.Lock()
		before := refused
		mu.Unlock()
		require.Equal(t, progress.InStep, run().State)
		mu.Lock()
		defer mu.Unlock()
		return refused - before
	}
	d := worldtest.Document()
	w.Activate(d)
	first := refusedIn(func() wire.Run { return w.Run(wire.NewRun{}) })
	assert.Positive(t, first)
	health, err := w.Client.Health(t.Context())
	require.NoError(t, err)
	assert.InDelta(t, 60*perSecond, health.Cloud.RequestsPerMinute, 40*perSecond, "what it takes is known about")
	w.Says([]string{"health"}, " requests a minute")
	retitle := func(title string) {
		for n := range crew {
			w.Set(worldtest.Crew(n), "title", title)
		}
	}
	retitle("Mate")
	again := refusedIn(func() wire.Run { return w.InStep(crew) })
	assert.Less(t, again, max(first/2, 3), "refused %d times before, and %d times now", first, again)

	// What operators have set is kept to, and told beforehand.
	d.Cloud.RequestsPerMinute = 300
	w.Activate(d)
	retitle("Cook")
	out, _, _ := w.Kambrel("rehearse")
	assert.Contains(t, out, fmt.Sprintf("needs  about %d requests: less than a minute at 300 requests a minute", crew), out)
	began := time.Now()
	w.InStep(crew)
	assert.Greater(t, time.Since(began), 15*time.Second, "150 requests, of which 50 may go at once")
	w.Says([]string{"health"}, "takes 300 requests a minute")
}
