package judging

import (
	"context"
	"fmt"
	"sync"
	"time"

	"kambrel.example/kambrel/core/decide"
	"kambrel.example/kambrel/core/entry"
)

// Turns lets batches that are decided about side by side claim unique values one
// after the other, in the order in which they were read. Who of several newcomers
// gets a value follows from the order of their entries then, and not from which
// batch was faster, so that a rehearsal and the run after it come to the same.
type Turns struct {
	mu   sync.Mutex // guards last, and held while a batch is read
	last chan struct{}
}

// Turn is that of one batch; the zero value waits for nobody.
type Turn struct{ before, after chan struct{} }

// Next takes a turn behind those taken before. read reads the batch; batches are
// read one at a time.
func (t *Turns) Next(read func() error) (Turn, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if err := read(); err != nil {
		return Turn{}, err
	}
	turn := Turn{before: t.last, after: make(chan struct{})}
	t.last = turn.after
	return turn, nil
}

// End lets the next batch claim, once what this one has claimed can be seen.
func (t *Turn) End() {
	if t.after != nil {
		close(t.after)
		t.after = nil
	}
}

// longestTurn is how long a batch waits for those before it. One that waits in the
// database for what this batch holds would wait for ever.
const longestTurn = 30 * time.Second

func (t *Turn) wait(ctx context.Context) error {
	if t.before == nil {
		return nil
	}
	timer := time.NewTimer(longestTurn)
	defer timer.Stop()
	select {
	case <-t.before:
	case <-timer.C:
	case <-ctx.Done():
		return fmt.Errorf("wait to claim unique values: %w", ctx.Err())
	}
	return nil
}

// InTurn is facts whose claims are given out when the turn has come.
func InTurn(facts decide.Facts, turn *Turn) decide.Facts { return inTurn{facts, turn} }

type inTurn struct {
	decide.Facts
	turn *Turn
}

func (f inTurn) Claim(ctx context.Context, refs []entry.Ref, claims []decide.Claim) (map[string]decide.Claimant, error) {
	if err := f.turn.wait(ctx); err != nil {
		return nil, err
	}
	return f.Facts.Claim(ctx, refs, claims)
}

// ClaimInTurn is InTurn of facts in a transaction, with which the turn ends as soon as the
// claims are made: the database has who claims the same wait until this transaction ends.
// The batch goes on meanwhile beside the next.
func ClaimInTurn(facts decide.Facts, turn *Turn) decide.Facts {
	return claimInTurn{inTurn{facts, turn}}
}

type claimInTurn struct{ inTurn }

func (f claimInTurn) Claim(ctx context.Context, refs []entry.Ref, claims []decide.Claim) (map[string]decide.Claimant, error) {
	defer f.turn.End()
	return f.inTurn.Claim(ctx, refs, claims)
}
