// Package pacing keeps the requests of all services on a database to what the cloud
// takes, as core/budget works it out. While no limit is known it costs nothing.
package pacing

import (
	"context"
	"log/slog"
	"sync"
	"time"

	"kambrel.example/kambrel/cloud"
	"kambrel.example/kambrel/core/budget"
	"kambrel.example/kambrel/core/logkey"
	"kambrel.example/kambrel/core/rest"
	"kambrel.example/kambrel/service/store"
)

const (
	// lookEvery is how often it is asked whether there is a limit by now.
	lookEvery = 5 * time.Second
	// ahead is for how long requests are taken at a time.
	ahead = 500 * time.Millisecond
	// longestWait is after how long it is asked again: somebody may have lifted the limit.
	longestWait = 2 * time.Second
)

// Pacing is one service's share. Its methods may be called from many goroutines.
type Pacing struct {
	store *store.Store

	mu     sync.Mutex
	taken  map[bool]int // requests that may be sent, by whether they are much
	rate   float64      // a minute, 0 for no limit
	looked time.Time
	sent   counter
}

var _ cloud.Pace = (*Pacing)(nil)

// New returns one that has sent nothing yet.
func New(s *store.Store) *Pacing { return &Pacing{store: s, taken: map[bool]int{}} }

// Wait returns when a request may be sent.
func (p *Pacing) Wait(ctx context.Context) error {
	much := cloud.IsMuch(ctx)
	for {
		if p.may(much, time.Now()) {
			return nil
		}
		wait, err := p.take(ctx, much)
		if err != nil {
			// Who cannot reach the database will not keep what the cloud answers either,
			// and hears of it there.
			slog.Warn("requests to the cloud go unpaced", logkey.Error, err)
			return ctx.Err()
		}
		if err := rest.For(ctx, min(wait, longestWait)); err != nil {
			return err
		}
	}
}

// may counts a request that may be sent at once.
func (p *Pacing) may(much bool, now time.Time) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	switch {
	case p.taken[much] > 0:
		p.taken[much]--
	case p.rate > 0 || now.Sub(p.looked) > lookEvery:
		return false
	}
	p.sent.add(now)
	return true
}

// take takes requests from what all services share; where there are none it says how
// long to wait.
func (p *Pacing) take(ctx context.Context, much bool) (wait time.Duration, err error) {
	fixed, err := p.fixed(ctx)
	if err != nil {
		return 0, err
	}
	now, rate, granted := time.Now(), 0.0, 0
	if err := p.store.Budget.Change(ctx, func(b budget.Budget) budget.Budget {
		if rate = b.Rate(now, fixed); rate > 0 {
			b, granted, wait = b.Take(now, fixed, max(1, int(rate*ahead.Minutes())), much)
		}
		return b
	}); err != nil {
		return 0, err
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.rate, p.looked = rate, now
	p.taken[much] += granted
	return wait, nil
}

func (p *Pacing) fixed(ctx context.Context) (int, error) {
	active, _, err := p.store.Settings.Active(ctx)
	return active.Document.Cloud.RequestsPerMinute, err
}

// TooMuch learns from the cloud's word.
func (p *Pacing) TooMuch(ctx context.Context, pause time.Duration) {
	now, rate := time.Now(), 0.0
	fixed, err := p.fixed(ctx)
	if err == nil {
		err = p.store.Budget.Change(ctx, func(b budget.Budget) budget.Budget {
			b = b.TooMuch(now, fixed, func(within time.Duration) int {
				p.mu.Lock()
				defer p.mu.Unlock()
				return p.sent.within(now, within)
			}, pause)
			rate = b.Rate(now, fixed)
			return b
		})
	}
	if err != nil {
		slog.Warn("learn how many requests the cloud takes", logkey.Error, err)
		return
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if int(rate) != int(p.rate) {
		slog.Info("the cloud takes no more requests", logkey.PerMinute, int(rate))
	}
	p.looked, p.rate = time.Time{}, rate // it is looked at once how much may be sent
	clear(p.taken)
}

// PerMinute is how many requests the cloud takes, 0 where no limit is known.
func (p *Pacing) PerMinute(ctx context.Context) (float64, error) {
	fixed, err := p.fixed(ctx)
	if err != nil {
		return 0, err
	}
	b, err := p.store.Budget.Now(ctx)
	return b.Rate(time.Now(), fixed), err
}

// counter counts by tenths of a second what was sent in the last minute.
type counter struct {
	counts [600]int
	last   int64 // tenth
}

const tenth = 100 * time.Millisecond

func (c *counter) forward(now time.Time) int64 {
	at := now.UnixMilli() / tenth.Milliseconds()
	size := int64(len(c.counts))
	for t := max(c.last+1, at-size+1); t <= at; t++ {
		c.counts[t%size] = 0
	}
	c.last = max(c.last, at)
	return at
}

func (c *counter) add(now time.Time) { c.counts[c.forward(now)%int64(len(c.counts))]++ }

// within counts what was sent in a time before, a minute at most.
func (c *counter) within(now time.Time, d time.Duration) int {
	at, n := c.forward(now), 0
	for t := range min(int64(d/tenth), int64(len(c.counts))) {
		n += c.counts[(at-t)%int64(len(c.counts))]
	}
	return n
}
