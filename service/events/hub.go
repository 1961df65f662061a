// Package events hands what changes to whoever listens in this process. PostgreSQL
// brings it to every service on the database (LISTEN/NOTIFY); a Hub is what it
// arrives at.
package events

import (
	"sync"

	"kambrel.example/kambrel/service/store"
)

// Hub hands events to whoever listens, without ever waiting for one.
type Hub struct {
	mu        sync.Mutex
	listeners map[chan store.Event]struct{}
}

// Subscribe returns a channel of events, until stop is called. An event may be left
// out for a slow receiver, but never the last one.
func (h *Hub) Subscribe() (<-chan store.Event, func()) {
	c := make(chan store.Event, 16)
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.listeners == nil {
		h.listeners = map[chan store.Event]struct{}{}
	}
	h.listeners[c] = struct{}{}
	return c, func() {
		h.mu.Lock()
		defer h.mu.Unlock()
		delete(h.listeners, c)
	}
}

// Broadcast hands an event to everybody.
func (h *Hub) Broadcast(event store.Event) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for c := range h.listeners {
		select {
		case c <- event:
		default:
			// Full: the oldest goes, so that the last one always arrives.
			select {
			case <-c:
			default:
			}
			select {
			case c <- event:
			default:
			}
		}
	}
}
