package store

import (
	"context"
	"fmt"
	"time"
)

// Sending is a chunk of changes that is on its way to the cloud.
type Sending struct {
	ID   int64
	Sent time.Time
}

// BeginSending is MarkSent in one row for all of them: rows of changes are wide, and each
// is written once more when it is answered.
func (s Changes) BeginSending(ctx context.Context, run int64, changes []Change) (Sending, error) {
	var sending Sending
	err := s.raw(ctx, `INSERT INTO sendings (run_id, changes) VALUES (?, ?::text[]::bigint[]) RETURNING id, sent`, run, changeIDs(changes)).Scan(&sending).Error
	return sending, err
}

// EndSending ends a sending whose outcomes are saved. What has none stays sent.
func (s Changes) EndSending(ctx context.Context, sending Sending, all bool) error {
	if all {
		_, err := s.exec(ctx, `DELETE FROM sendings WHERE id = ?`, sending.ID)
		return err
	}
	return s.settleSendings(ctx, `id = ?`, sending.ID)
}

// settleSendings marks what was on its way and was not answered as sent.
func (s Changes) settleSendings(ctx context.Context, where string, arg any) error {
	_, err := s.exec(ctx, `WITH ended AS (DELETE FROM sendings WHERE `+where+` RETURNING changes, sent)
		UPDATE changes c SET state = 'sent', sent = e.sent, attempts = c.attempts + 1 FROM ended e, unnest(e.changes) i WHERE c.id = i AND c.state = 'planned'`, arg)
	if err != nil {
		err = fmt.Errorf("mark what was on its way: %w", err)
	}
	return err
}
