package events

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"kambrel.example/kambrel/protocol/wire"
)

func TestTheHubNeverWaitsAndKeepsTheLastEvent(t *testing.T) {
	t.Parallel()
	var h Hub
	slow, stop := h.Subscribe()
	for i := range 100 {
		h.Broadcast(wire.Event{Kind: "run", ID: int64(i)})
	}
	var last wire.Event
	for len(slow) > 0 {
		last = <-slow
	}
	assert.Equal(t, int64(99), last.ID)
	stop()
	h.Broadcast(wire.Event{Kind: "run"})
	assert.Empty(t, slow)
}
