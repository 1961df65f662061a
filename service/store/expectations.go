package store

import (
	"context"
	"fmt"
	"time"
)

// Expectations keeps how what the active settings expect stood when it was looked at last.
type Expectations struct{ *session }

// Held is that state: by which revision, after which run, how many did not hold, and the first
// of them in words.
type Held struct {
	Revision int
	RunID    int64
	Failing  int
	Told     string
	Looked   time.Time
}

// Last returns it; of revision 0 where nobody has looked yet.
func (s Expectations) Last(ctx context.Context) (Held, error) {
	var held Held
	err := s.raw(ctx, `SELECT revision, run_id, failing, told, looked FROM expectations_held`).Scan(&held).Error
	return held, err
}

// Keep notes it.
func (s Expectations) Keep(ctx context.Context, h Held) error {
	if _, err := s.exec(ctx, `UPDATE expectations_held SET revision = ?, run_id = ?, failing = ?, told = ?, looked = ?`, h.Revision, h.RunID, h.Failing, h.Told, h.Looked); err != nil {
		return fmt.Errorf("keep how expectations stand: %w", err)
	}
	return nil
}
