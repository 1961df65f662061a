package runs

import (
	"context"
	"fmt"
	"time"

	"kambrel.example/kambrel/core/budget"
	"kambrel.example/kambrel/core/plan"
	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/service/store"
)

// muchPlanned is how many changes are much, so that what is urgent goes before them.
const muchPlanned = 500

// lookups is how many requests look for a resource before it is made whose kind has no
// value that the cloud gives once only.
const lookups = 2

// needs tells what the run that was rehearsed would send, and how long that would take: by
// what the cloud takes, or by what the last run of many took.
func (x *execution) needs(ctx context.Context) error {
	planned, err := x.store.Changes.ToSend(ctx, x.run.ID)
	if err != nil {
		return err
	}
	can, err := x.cloud.Discover(ctx)
	if err != nil {
		return err
	}
	requests, changes := 0, 0
	for _, p := range planned {
		together := 1
		if can.BulkOperations > 0 {
			together = min(can.BulkOperations, chunkOf(p.Rank))
		}
		requests += (p.Count + together - 1) / together
		if p.Operation == string(plan.Create) && p.Rank == store.RankReferences-1 {
			requests += lookups * p.Count
		}
		changes += p.Count
	}
	if changes == 0 {
		return nil
	}
	perMinute, err := x.pacing.PerMinute(ctx)
	if err != nil {
		return err
	}
	needs := &progress.Needs{Requests: requests, PerMinute: int(perMinute)}
	took, of, run, err := x.store.Runs.Speed(ctx, muchPlanned)
	if err != nil {
		return err
	}
	bySpeed := time.Duration(0)
	if of > 0 {
		bySpeed = time.Duration(float64(took) * float64(changes) / float64(of))
	}
	switch byBudget := budget.Takes(requests, perMinute); {
	case byBudget > 0 && byBudget >= bySpeed:
		needs.Seconds = int(byBudget.Seconds())
		needs.Text = fmt.Sprintf("about %d requests: %s at %d requests a minute", requests, budget.About(byBudget), int(perMinute))
	case bySpeed > 0:
		needs.Seconds = int(bySpeed.Seconds())
		needs.Text = fmt.Sprintf("about %d requests: %s, as fast as run %d", requests, budget.About(bySpeed), run)
	default:
		needs.Text = fmt.Sprintf("about %d requests", requests)
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	x.run.Counts.Needs = needs
	return nil
}

// chunkOf is how many changes of a rank are sent at a time.
func chunkOf(rank int) int {
	if rank == store.RankReferences-1 {
		return groupChunk
	}
	return writeChunk
}
