package health

import (
	"context"
	"time"

	"kambrel.example/kambrel/protocol/wire"
)

// Trend tells how things went on each of the last days, today among them.
func (e *Health) Trend(ctx context.Context, days int) ([]wire.TrendDay, error) {
	today := time.Now().UTC().Truncate(24 * time.Hour)
	first := today.AddDate(0, 0, 1-days)
	trend := make([]wire.TrendDay, days)
	ends := make([]time.Time, days)
	for i := range trend {
		trend[i].Day, ends[i] = first.AddDate(0, 0, i).Format(time.DateOnly), first.AddDate(0, 0, i+1)
	}
	at := func(day time.Time) *wire.TrendDay {
		if i := int(day.Sub(first) / (24 * time.Hour)); i >= 0 && i < days {
			return &trend[i]
		}
		return &wire.TrendDay{}
	}
	runs, err := e.store.Runs.Days(ctx, first)
	if err != nil {
		return nil, err
	}
	for _, r := range runs {
		d := at(r.Day)
		d.Runs, d.Failed, d.Created, d.Adopted, d.Updated, d.Restored, d.Removed, d.Held, d.Longest = r.Runs, r.Failed, r.Created, r.Adopted, r.Updated, r.Restored, r.Removed, r.Held, r.Longest
	}
	problems, err := e.store.Problems.Days(ctx, first)
	if err != nil {
		return nil, err
	}
	for _, p := range problems {
		d := at(p.Day)
		d.Opened, d.Closed = d.Opened+p.Opened, d.Closed+p.Closed
	}
	open, err := e.store.Problems.OpenOn(ctx, ends)
	for i := range open {
		trend[i].Open = open[i]
	}
	return trend, err
}
