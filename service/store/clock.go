package store

import (
	"context"
	"log/slog"
	"time"

	"kambrel.example/kambrel/core/logkey"
)

// The database's clock says when something was done, for all services on it; what a service
// waits for, it measures by its own. Where the two are apart, times are carried over.

const (
	// clockEvery is how often the clocks are compared.
	clockEvery = 30 * time.Second
	// alike is how far apart clocks count as the same: asking takes time, too.
	alike = time.Second
)

// KeepTime compares the database's clock with this host's, until ctx ends.
func (s *session) KeepTime(ctx context.Context) {
	tick := time.NewTicker(clockEvery)
	defer tick.Stop()
	for ctx.Err() == nil {
		if err := s.compareClocks(ctx); err != nil && ctx.Err() == nil { // as while the database is away
			slog.Debug("compare the database's clock with this host's", logkey.Error, err)
		}
		select {
		case <-ctx.Done():
		case <-tick.C:
		}
	}
}

func (s *session) compareClocks(ctx context.Context) error {
	began := time.Now()
	var row struct{ Theirs time.Time }
	if err := s.raw(ctx, `SELECT clock_timestamp() AS theirs`).Scan(&row).Error; err != nil {
		return err
	}
	took := time.Since(began)
	apart := row.Theirs.Sub(began.Add(took / 2))
	if apart.Abs() < alike+took/2 {
		apart = 0
	}
	s.ahead.Store(int64(apart))
	return nil
}

// Ahead is how far the database's clock is ahead of this host's, 0 where they agree.
func (s *session) Ahead() time.Duration { return time.Duration(s.ahead.Load()) }

// Now is the database's time, to compare with times that it has set.
func (s *session) Now() time.Time { return time.Now().Add(s.Ahead()) }

// Since is how long something is ago to which the database has set the time.
func (s *session) Since(t time.Time) time.Duration { return s.Now().Sub(t) }

// here carries times that the database has set over to this host's clock.
func (s *session) here(times ...*time.Time) {
	for _, t := range times {
		if t != nil && !t.IsZero() {
			*t = t.Add(-s.Ahead())
		}
	}
}
