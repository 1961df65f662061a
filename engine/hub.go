package engine

import (
	"sync"

	"kambrel.example/kambrel/wire"
)

// hub hands events to whoever listens, without ever waiting for one.
type hub struct {
	mu        sync.Mutex
	listeners map[chan wire.Event]struct{}
}

func (h *hub) subscribe() (<-chan wire.Event, func()) {
	c := make(chan wire.Event, 16)
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.listeners == nil {
		h.listeners = map[chan wire.Event]struct{}{}
	}
	h.listeners[c] = struct{}{}
	return c, func() {
		h.mu.Lock()
		defer h.mu.Unlock()
		delete(h.listeners, c)
	}
}

func (h *hub) broadcast(event wire.Event) {
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
