package pacing

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestWhatWasSentLatelyIsCounted(t *testing.T) {
	t.Parallel()
	noon := time.Date(2026, 3, 2, 12, 0, 0, 0, time.UTC)
	var c counter
	for i := range 30 {
		c.add(noon.Add(time.Duration(i) * 50 * time.Millisecond))
	}
	last := noon.Add(29 * 50 * time.Millisecond)
	assert.Equal(t, 20, c.within(last, time.Second))
	assert.Equal(t, 30, c.within(last, time.Minute))
	assert.Equal(t, 30, c.within(last, time.Hour))
	assert.Equal(t, 0, c.within(last.Add(2*time.Second), time.Second))
	assert.Equal(t, 30, c.within(last.Add(58*time.Second), time.Minute))
	c.add(last.Add(10 * time.Minute))
	assert.Equal(t, 1, c.within(last.Add(10*time.Minute), time.Minute), "what is long ago was forgotten")
}
