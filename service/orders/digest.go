package orders

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"kambrel.example/kambrel/core/problem"
	protocol "kambrel.example/kambrel/protocol/orders"
	"kambrel.example/kambrel/service/store"
)

// markedAtOnce is how many marks are kept in one go.
const markedAtOnce = 1000

// PassOn brings a digest to the cloud. It is kept nowhere on its way.
type PassOn func(ctx context.Context, directory string, digested protocol.Digested) error

// PassDigestsTo says who brings digests to the cloud; it is said once, before the first
// answer.
func (o *Orders) PassDigestsTo(pass PassOn) { o.passOn = pass }

// digestTaker keeps whose password was set when, and passes digests on as they come.
type digestTaker struct {
	*ingestion
	marked []store.Marked
	last   string // the highest mark
}

func newDigestTaker(i *ingestion) taker { return &digestTaker{ingestion: i} }

func (d *digestTaker) line(line protocol.Line) (belongs, full bool, err error) {
	if line.Digest == nil {
		return false, false, nil
	}
	if len(d.order.Request.Digest.IDs) > 0 {
		// What was not asked for is not passed on.
		if slices.Contains(d.order.Request.Digest.IDs, line.Digest.ID) {
			return true, false, d.orders.passOn(context.Background(), d.order.Directory, *line.Digest)
		}
		return true, false, problem.New(problem.AgentMessageMalformed, "order %d: nobody asked for the digest of %s", d.order.ID, line.Digest.ID)
	}
	if line.Digest.Sealed != nil || len(line.Digest.Mark) > 100 {
		return true, false, problem.New(problem.AgentMessageMalformed, "order %d: the answer holds more than marks", d.order.ID)
	}
	d.marked = append(d.marked, store.Marked{ID: line.Digest.ID, Mark: line.Digest.Mark})
	// Times of one directory are equally long, or grow with their length.
	if at, _, _ := strings.Cut(line.Digest.Mark, " "); len(at) > len(d.last) || len(at) == len(d.last) && at > d.last {
		d.last = at
	}
	return true, len(d.marked) >= markedAtOnce, nil
}

func (d *digestTaker) keep(ctx context.Context, s *store.Store) error {
	marked := d.marked
	d.marked = nil
	return s.Digests.Mark(ctx, d.order.Directory, marked)
}

func (d *digestTaker) done(ctx context.Context, tx *store.Store, _ protocol.Done) error {
	if d.last == "" {
		return nil
	}
	round, err := tx.Digests.Round(ctx, d.order.Directory)
	if err != nil {
		return fmt.Errorf("read how the digests stand: %w", err)
	}
	round.Since = d.last
	return tx.Digests.SaveRound(ctx, round)
}
