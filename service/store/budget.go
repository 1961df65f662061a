package store

import (
	"context"
	"fmt"
	"time"

	"kambrel.example/kambrel/core/budget"
)

// Budget is how many requests the cloud takes, which all services on a database share.
type Budget struct{ *session }

type budgetRow struct {
	PerMinute     float64
	Learned       time.Time
	WindowSeconds float64
	Words         int
	Remaining     float64
	At            time.Time
}

// Now returns what is known.
func (s Budget) Now(ctx context.Context) (budget.Budget, error) {
	return s.read(ctx, "")
}

func (s Budget) read(ctx context.Context, lock string) (budget.Budget, error) {
	var row budgetRow
	err := s.raw(ctx, `SELECT per_minute, learned, window_seconds, words, remaining, at FROM cloud_budget `+lock).Scan(&row).Error
	b := budget.Budget{PerMinute: row.PerMinute, Learned: row.Learned, Window: time.Duration(row.WindowSeconds * float64(time.Second)), Words: row.Words, Left: row.Remaining, At: row.At}
	if row.At.Unix() == 0 {
		b.At = time.Time{}
	}
	return b, err
}

// Change changes it; nobody else does meanwhile.
func (s Budget) Change(ctx context.Context, change func(budget.Budget) budget.Budget) error {
	err := s.Tx(ctx, func(tx *Store) error {
		before, err := tx.Budget.read(ctx, "FOR UPDATE")
		if err != nil {
			return err
		}
		b := change(before)
		if b == before {
			return nil
		}
		_, err = tx.exec(ctx, `UPDATE cloud_budget SET per_minute = ?, learned = ?, window_seconds = ?, words = ?, remaining = ?, at = ?`, b.PerMinute, b.Learned, b.Window.Seconds(), b.Words, b.Left, b.At)
		return err
	})
	if err != nil {
		return fmt.Errorf("share the requests that the cloud takes: %w", err)
	}
	return nil
}
