package store

import (
	"context"
	"fmt"
	"time"

	"kambrel.example/kambrel/core/decide"
	"kambrel.example/kambrel/core/entry"
)

// Kept is what runs would have taken away and operators have discarded.
type Kept struct{ *session }

// KeptRow is one thing that is kept of an entry.
type KeptRow struct {
	Directory, EntryID  string
	DN                  string `gorm:"column:dn"`
	Loss, Member, Cause string
	MemberName          string
	RunID               int64
	By, Reason          string
	Made                time.Time
}

// Add keeps what is given of an entry, instead of what a run would do.
func (s Kept) Add(ctx context.Context, ref entry.Ref, run int64, by, reason string, kept []decide.Kept) error {
	for _, k := range kept {
		if _, err := s.exec(ctx, `INSERT INTO kept (directory, entry_id, loss, member, cause, run_id, by, reason) VALUES (?, ?::uuid, ?, ?, ?, ?, ?, ?)
			ON CONFLICT (directory, entry_id, loss, member) DO UPDATE SET cause = excluded.cause, run_id = excluded.run_id, by = excluded.by, reason = excluded.reason, made = now()`,
			ref.Directory, ref.ID.String(), k.Loss, k.Member, k.Cause, run, by, reason); err != nil {
			return fmt.Errorf("keep what %s has: %w", ref, err)
		}
	}
	return nil
}

// Drop ends what is kept, since its cause is gone.
func (s Kept) Drop(ctx context.Context, lapsed map[entry.Ref][]decide.Kept) error {
	for ref, kept := range lapsed {
		for _, k := range kept {
			if _, err := s.exec(ctx, `DELETE FROM kept WHERE directory = ? AND entry_id = ?::uuid AND loss = ? AND member = ? AND cause = ?`, ref.Directory, ref.ID.String(), k.Loss, k.Member, k.Cause); err != nil {
				return err
			}
		}
	}
	return nil
}

// End ends all that is kept of an entry, and tells what that was; the next run decides
// about it again.
func (s Kept) End(ctx context.Context, ref entry.Ref) ([]KeptRow, error) {
	var rows []KeptRow
	if err := s.raw(ctx, `DELETE FROM kept WHERE directory = ? AND entry_id = ?::uuid RETURNING *`, ref.Directory, ref.ID.String()).Scan(&rows).Error; err != nil || len(rows) == 0 {
		return nil, err
	}
	if err := s.all().Dirty.Set(ctx, []entry.Ref{ref}, DirtyNext, false); err != nil {
		return nil, err
	}
	return rows, s.all().References.Mark(ctx, []entry.Ref{ref})
}

// List lists what is kept, the newest first.
func (s Kept) List(ctx context.Context, offset, limit int) ([]KeptRow, int, error) {
	var total int
	if err := s.raw(ctx, `SELECT count(*) FROM kept`).Scan(&total).Error; err != nil {
		return nil, 0, err
	}
	var rows []KeptRow
	err := s.raw(ctx, `SELECT k.*, coalesce(e.dn, '') AS dn, coalesce(r.name, k.member) AS member_name FROM kept k LEFT JOIN entries e ON e.directory = k.directory AND e.id = k.entry_id
		LEFT JOIN resources r ON r.id = k.member AND k.member <> '' ORDER BY k.made DESC, k.directory, k.entry_id, k.loss, k.member OFFSET ? LIMIT ?`, offset, limit).Scan(&rows).Error
	return rows, total, err
}

// Mark notes of links that the removal of their resources was discarded.
func (s Kept) Mark(ctx context.Context, refs []entry.Ref) error {
	if len(refs) == 0 {
		return nil
	}
	directories, ids := refArrays(refs)
	_, err := s.exec(ctx, `UPDATE links l SET kept = true FROM unnest(?::text[], ?::text[]::uuid[]) AS t(d, i) WHERE l.directory = d AND l.entry_id = i`, directories, ids)
	return err
}

// OfTies tells what is kept of the members and references of entries; of members,
// those that are back in the group, or that the cloud no longer has in it, are dropped.
func (s Kept) OfTies(ctx context.Context, refs []entry.Ref) (map[entry.Ref][]decide.Kept, error) {
	var any bool
	if err := s.raw(ctx, `SELECT EXISTS (SELECT FROM kept)`).Scan(&any).Error; err != nil || !any {
		return nil, err
	}
	directories, ids := refArrays(refs)
	if _, err := s.exec(ctx, `DELETE FROM kept k USING unnest(?::text[], ?::text[]::uuid[]) AS t(d, i) WHERE k.directory = d AND k.entry_id = i AND k.loss LIKE 'members %' AND (
			EXISTS (SELECT FROM ties l JOIN memberships m ON m.directory = l.directory AND m.member_id = l.entry_id WHERE l.resource_id = k.member AND l.left_at IS NULL AND m.directory = k.directory AND m.group_id = k.entry_id)
			OR NOT EXISTS (SELECT FROM links g JOIN resource_members rm ON rm.group_id = g.resource_id WHERE g.directory = k.directory AND g.entry_id = k.entry_id AND rm.member_id = k.member))`, directories, ids); err != nil {
		return nil, fmt.Errorf("look what is kept of members: %w", err)
	}
	var rows []KeptRow
	if err := s.raw(ctx, `SELECT k.* FROM unnest(?::text[], ?::text[]::uuid[]) AS t(d, i) JOIN kept k ON k.directory = d AND k.entry_id = i`, directories, ids).Scan(&rows).Error; err != nil {
		return nil, err
	}
	kept := map[entry.Ref][]decide.Kept{}
	for _, row := range rows {
		ref, err := refOf(row.Directory, row.EntryID)
		if err != nil {
			return nil, err
		}
		if k := (decide.Kept{Loss: row.Loss, Member: row.Member, Cause: row.Cause, By: row.By, Reason: row.Reason, Made: row.Made}); k.Tied() {
			kept[ref] = append(kept[ref], k)
		}
	}
	return kept, nil
}

// Resources tells of which resources the removal was discarded.
func (s Kept) Resources(ctx context.Context, ids []string) (map[string]bool, error) {
	kept := map[string]bool{}
	if len(ids) == 0 {
		return kept, nil
	}
	var found struct{ IDs textArray }
	err := s.raw(ctx, `SELECT coalesce(array_agg(resource_id), '{}') AS ids FROM links WHERE kept AND resource_id = ANY(?::text[])`, textArray(ids)).Scan(&found).Error
	for _, id := range found.IDs {
		kept[id] = true
	}
	return kept, err
}
