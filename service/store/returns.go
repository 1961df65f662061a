package store

import (
	"context"
	"fmt"

	"kambrel.example/kambrel/core/entry"
)

// HandOver leads the links of entries that were deleted to those that they are
// now, with their link keys.
func (s Links) HandOver(ctx context.Context, from, to []entry.Ref) error {
	if len(from) == 0 {
		return nil
	}
	fromDirectories, fromIDs := refArrays(from)
	directories, ids := refArrays(to)
	_, err := s.exec(ctx, `
		WITH moved AS (
			UPDATE links l SET directory = td, entry_id = ti, held = false FROM unnest(?::text[], ?::text[]::uuid[], ?::text[], ?::text[]::uuid[]) AS t(fd, fi, td, ti)
			WHERE l.directory = fd AND l.entry_id = fi AND NOT EXISTS (SELECT FROM links o WHERE o.directory = td AND o.entry_id = ti) RETURNING l.directory, l.entry_id
		)`+markReferring, fromDirectories, fromIDs, directories, ids)
	if err != nil {
		return fmt.Errorf("hand links over: %w", err)
	}
	// What was put back of somebody stays with whom the resource stays.
	if _, err := s.exec(ctx, `UPDATE pins p SET directory = td, entry_id = ti FROM unnest(?::text[], ?::text[]::uuid[], ?::text[], ?::text[]::uuid[]) AS t(fd, fi, td, ti)
		WHERE p.directory = fd AND p.entry_id = fi AND NOT EXISTS (SELECT FROM pins o WHERE o.directory = td AND o.entry_id = ti)`, fromDirectories, fromIDs, directories, ids); err != nil {
		return fmt.Errorf("hand over what was put back: %w", err)
	}
	return nil
}
