// Package rest waits.
package rest

import (
	"context"
	"time"
)

// For waits as long as it is told, or until ctx ends, whose error it returns then.
// No time at all is no waiting.
func For(ctx context.Context, d time.Duration) error {
	if d <= 0 {
		return nil
	}
	timer := time.NewTimer(d)
	defer timer.Stop()
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-timer.C:
		return nil
	}
}
