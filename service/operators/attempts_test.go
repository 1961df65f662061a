package operators

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestGuessingIsSlowedDownAndNobodyElseIs(t *testing.T) {
	t.Parallel()
	var a attempts
	now := time.Now()
	assert.Zero(t, a.wait("ingrid", "192.0.2.1", now))
	a.succeeded("ingrid", "192.0.2.1", now)

	// One address guesses: it waits longer each time.
	waited := time.Duration(0)
	for range 12 {
		if wait := a.wait("ingrid", "192.0.2.66", now); wait > 0 {
			assert.GreaterOrEqual(t, wait, min(waited, longestWait))
			waited, now = wait, now.Add(wait)
			continue
		}
		a.failed("ingrid", "192.0.2.66", now)
	}
	assert.Greater(t, waited, 2*time.Second)

	// Many addresses guess one name: the name's budget is used up.
	refused := 0
	for i := range 100 {
		address := fmt.Sprintf("198.51.100.%d", i)
		if a.wait("ingrid", address, now) > 0 {
			refused++
		} else {
			a.failed("ingrid", address, now)
		}
	}
	assert.GreaterOrEqual(t, refused, 80)
	assert.Zero(t, a.wait("ingrid", "192.0.2.1", now), "she signs in where she has before")
	assert.Zero(t, a.wait("otto", "203.0.113.5", now), "and so does everybody else")

	// One address tries many names.
	refused = 0
	for i := range 100 {
		if a.wait(fmt.Sprint("name", i), "203.0.113.9", now) > 0 {
			refused++
		}
	}
	assert.GreaterOrEqual(t, refused, 60)

	// Names that were never there do not fill the memory.
	for i := range 3 * mostRemembered {
		now = now.Add(10 * time.Millisecond)
		a.wait(fmt.Sprint("n", i), fmt.Sprint("address", i), now)
	}
	assert.Less(t, len(a.names)+len(a.addresses)+len(a.pairs), 2*mostRemembered)
}
