package events

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"kambrel.example/kambrel/service/store"
)

func TestTheHubNeverWaitsAndKeepsTheLastEvent(t *testing.T) {
	t.Parallel()
	var h Hub
	slow, stop := h.Subscribe()
	for i := range 100 {
		h.Broadcast(store.Event{Kind: "run", ID: int64(i)})
	}
	var last store.Event
	for len(slow) > 0 {
		last = <-slow
	}
	assert.Equal(t, int64(99), last.ID)
	stop()
	h.Broadcast(store.Event{Kind: "run"})
	assert.Empty(t, slow)
}
