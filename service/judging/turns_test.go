package judging_test

import (
	"context"
	"errors"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/decide"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/service/judging"
)

// desk notes who claims, in the order in which they do.
type desk struct {
	decide.Facts
	mu      sync.Mutex // guards claimed
	claimed []string
}

func (d *desk) Claim(_ context.Context, _ []entry.Ref, claims []decide.Claim) (map[string]decide.Claimant, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.claimed = append(d.claimed, claims[0].Key)
	return nil, nil
}

func take(t *testing.T, turns *judging.Turns) judging.Turn {
	t.Helper()
	turn, err := turns.Next(func() error { return nil })
	require.NoError(t, err)
	return turn
}

func TestBatchesClaimInTheOrderInWhichTheyWereRead(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		var turns judging.Turns
		d := &desk{}
		first, second, third := take(t, &turns), take(t, &turns), take(t, &turns)
		var group sync.WaitGroup
		for name, turn := range map[string]*judging.Turn{"third": &third, "second": &second, "first": &first} {
			group.Go(func() {
				time.Sleep(map[string]time.Duration{"first": 3 * time.Second, "second": time.Second}[name]) // the later, the faster
				_, err := judging.InTurn(d, turn).Claim(t.Context(), nil, []decide.Claim{{Key: name}})
				assert.NoError(t, err)
				turn.End()
			})
		}
		group.Wait()
		assert.Equal(t, []string{"first", "second", "third"}, d.claimed)
	})
}

// TestABatchThatNeverEndsHoldsNobodyUpForEver is one that waits in the database for
// what a later batch holds.
func TestABatchThatNeverEndsHoldsNobodyUpForEver(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		var turns judging.Turns
		_, second, third := take(t, &turns), take(t, &turns), take(t, &turns)
		began := time.Now()
		_, err := judging.InTurn(&desk{}, &second).Claim(t.Context(), nil, []decide.Claim{{}})
		require.NoError(t, err)
		assert.GreaterOrEqual(t, time.Since(began), 10*time.Second)

		ended, stop := context.WithCancel(t.Context())
		stop()
		_, err = judging.InTurn(&desk{}, &third).Claim(ended, nil, []decide.Claim{{}})
		assert.ErrorIs(t, err, context.Canceled)
	})
}

func TestABatchThatCannotBeReadTakesNoTurn(t *testing.T) {
	t.Parallel()
	var turns judging.Turns
	failure := errors.New("away")
	none, err := turns.Next(func() error { return failure })
	require.ErrorIs(t, err, failure)
	none.End()
	next := take(t, &turns)
	_, err = judging.InTurn(&desk{}, &next).Claim(t.Context(), nil, []decide.Claim{{}})
	assert.NoError(t, err)
}
