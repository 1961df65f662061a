package budget

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

var noon = time.Date(2026, 3, 2, 12, 0, 0, 0, time.UTC)

func at(seconds float64) time.Time { return noon.Add(time.Duration(seconds * float64(time.Second))) }

// sends asks for requests one by one for some seconds and counts those that are granted.
func sends(b Budget, from, seconds float64, fixed int, much bool) (Budget, int) {
	granted := 0
	for s := 0.0; s < seconds; s += 0.05 {
		var got int
		b, got, _ = b.Take(at(from+s), fixed, 1, much)
		granted += got
	}
	return b, granted
}

func TestNoLimitIsKept(t *testing.T) {
	t.Parallel()
	b, granted, wait := Budget{}.Take(noon, 0, 500, true)
	assert.Equal(t, []any{Budget{}, 500, time.Duration(0)}, []any{b, granted, wait})
}

func TestALimitIsLearnedAndForgotten(t *testing.T) {
	t.Parallel()
	sent := func(n int) func(time.Duration) int { return func(time.Duration) int { return n } }
	b := Budget{}.TooMuch(noon, 0, sent(1000), 40*time.Second)
	assert.InDelta(t, 900, b.Rate(noon, 0), 0.1)
	again := b.TooMuch(at(2), 0, sent(1), time.Second)
	assert.Equal(t, b.PerMinute, again.PerMinute, "the same word to another worker")
	b = b.TooMuch(at(60), 0, sent(950), 40*time.Second)
	assert.InDelta(t, 855, b.Rate(at(60), 0), 1, "it had grown too far")
	b = b.TooMuch(at(120), 0, sent(30), 0)
	assert.InDelta(t, 470, b.Rate(at(120), 0), 1, "others have sent the rest: at most half of it is lost at once")
	assert.InDelta(t, 470*1.1, b.Rate(at(180), 0), 1, "each minute without a word it grows")
	assert.InDelta(t, 100, b.Rate(at(180), 100), 0, "never beyond what operators have set")
	assert.Zero(t, b.Rate(at(120+3600), 0))
	assert.InDelta(t, 100, b.Rate(at(120+3600), 100), 0)

	b = b.TooMuch(at(130), 0, sent(30), 0)
	b = b.TooMuch(at(138), 0, sent(30), 0)
	assert.Positive(t, b.Rate(at(138), 0))
	b = b.TooMuch(at(146), 0, sent(30), 0)
	assert.Zero(t, b.Rate(at(146), 0), "a cloud that refuses however little it is sent has another cause")
	b = b.TooMuch(at(152), 0, sent(30), 0)
	assert.Zero(t, b.Rate(at(152), 0))
	b = b.TooMuch(at(300), 0, sent(1000), 0)
	assert.InDelta(t, 900, b.Rate(at(300), 0), 1, "until it has been calm for a while")

	// A cloud that counts by seconds asks for a short pause.
	perSecond := Budget{}.TooMuch(noon, 0, func(within time.Duration) int { return map[time.Duration]int{time.Second: 20}[within] }, time.Second)
	assert.InDelta(t, 900, perSecond.Rate(noon, 0), 0.1)
	_, burst, _ := perSecond.Take(at(60), 0, 1000, false)
	assert.Equal(t, leastAtOnce, burst, "nor as much at once as one that counts by minutes")
	assert.InDelta(t, least, Budget{}.TooMuch(noon, 0, sent(0), 0).PerMinute, 0, "never nothing")
}

func TestWhatIsMuchLeavesSomeToWhatIsUrgent(t *testing.T) {
	t.Parallel()
	for _, perMinute := range []int{10, 60, 600} {
		b, first := sends(Budget{}, 0, 60, perMinute, true)
		assert.InDelta(t, perMinute, first, float64(perMinute)/4+leastAtOnce, "%d a minute", perMinute)
		granted, wait := 1, time.Duration(0)
		for granted > 0 {
			b, granted, wait = b.Take(at(60), perMinute, 1, true)
		}
		assert.Positive(t, wait)
		assert.LessOrEqual(t, wait, time.Minute/time.Duration(perMinute)+time.Second)
		_, granted, _ = b.Take(at(60), perMinute, 1, false)
		assert.Equal(t, 1, granted, "an urgent one needs not wait at %d a minute", perMinute)
	}
}

func TestTimesInWords(t *testing.T) {
	t.Parallel()
	assert.Equal(t, "about 40 minutes", About(Takes(40_000, 1000)))
	assert.Equal(t, "about 3 hours", About(Takes(10_000, 60)))
	assert.Equal(t, "less than a minute", About(Takes(10, 60)))
	assert.Equal(t, "about a minute", About(Takes(1000, 1000)))
	assert.Zero(t, Takes(10, 0))
}
