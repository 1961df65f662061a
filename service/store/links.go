package store

import (
	"context"
	"slices"
	"time"

	"kambrel.example/kambrel/core/change"
	"kambrel.example/kambrel/core/entry"
)

// Links are the lasting ties between entries and resources.
type Links struct{ *session }

// Link is the lasting tie between an entry and a resource.
type Link struct {
	ID         int64
	LinkKey    string
	ResourceID string
	Directory  string
	EntryID    string
	How        string
	RunID      int64
	Since      time.Time
	LeftAt     *time.Time
	Kind       string
	// Owner decides about the pair: the directory of what is synced up.
	Owner change.Side
}

// NewLink ties an entry to a resource.
type NewLink struct {
	Ref        entry.Ref
	Kind       entry.Kind
	LinkKey    string
	ResourceID string
	How        string
}

// Save makes links, or leads existing ones to their new resource.
func (s Links) Save(ctx context.Context, run int64, links []NewLink) error {
	if len(links) == 0 {
		return nil
	}
	var keys, resources, directories, ids, hows, kinds textArray
	for _, l := range links {
		keys, resources, hows = append(keys, l.LinkKey), append(resources, l.ResourceID), append(hows, l.How)
		kinds = append(kinds, string(l.Kind))
		directories, ids = append(directories, l.Ref.Directory), append(ids, l.Ref.ID.String())
	}
	_, err := s.exec(ctx, `
		WITH moved AS (
			INSERT INTO links (link_key, resource_id, directory, entry_id, how, kind, run_id)
			SELECT k, r, d, i, h, c, ? FROM unnest(?::text[], ?::text[], ?::text[], ?::text[]::uuid[], ?::text[], ?::text[]) AS t(k, r, d, i, h, c)
			ON CONFLICT (directory, entry_id) DO UPDATE SET resource_id = excluded.resource_id, link_key = excluded.link_key, left_at = NULL
			RETURNING directory, entry_id
		)`+markMoved(len(links)), run, keys, resources, directories, ids, hows, kinds)
	return err
}

// Drop unties entries.
func (s Links) Drop(ctx context.Context, refs []entry.Ref) error {
	if len(refs) == 0 {
		return nil
	}
	directories, ids := refArrays(refs)
	_, err := s.exec(ctx, `WITH moved AS (
			DELETE FROM links l USING unnest(?::text[], ?::text[]::uuid[]) AS t(d, i) WHERE l.directory = d AND l.entry_id = i RETURNING l.directory, l.entry_id
		)`+markReferring, directories, ids)
	return err
}

// SetLeft notes that the leaver policy was carried out for entries, or that
// they are back.
func (s Links) SetLeft(ctx context.Context, refs []entry.Ref, left bool) error {
	if len(refs) == 0 {
		return nil
	}
	directories, ids := refArrays(refs)
	_, err := s.exec(ctx, `WITH moved AS (
			UPDATE links l SET left_at = CASE WHEN ? THEN coalesce(l.left_at, now()) END, held = false
			FROM unnest(?::text[], ?::text[]::uuid[]) AS t(d, i) WHERE l.directory = d AND l.entry_id = i AND (l.left_at IS NOT NULL) <> ? RETURNING l.directory, l.entry_id
		)`+markMoved(len(refs)), left, directories, ids, left)
	return err
}

// Of returns the link of an entry.
func (s Links) Of(ctx context.Context, ref entry.Ref) (Link, error) {
	var link Link
	return link, s.with(ctx).Where("directory = ? AND entry_id = ?", ref.Directory, ref.ID.String()).Take(&link).Error
}

// EntryOf returns the entry that a resource is linked to.
func (s Links) EntryOf(ctx context.Context, resourceID string) (entry.Ref, error) {
	var link Link
	if err := s.with(ctx).Where("resource_id = ?", resourceID).Take(&link).Error; err != nil {
		return entry.Ref{}, err
	}
	return refOf(link.Directory, link.EntryID)
}

// Count counts the links whose entries have not left.
func (s Links) Count(ctx context.Context) (int, error) {
	var n int
	return n, s.raw(ctx, `SELECT count(*) FROM links WHERE left_at IS NULL`).Scan(&n).Error
}

// CountOf counts the links of one kind whose entries have not left.
func (s Links) CountOf(ctx context.Context, kind entry.Kind) (int, error) {
	var n int
	return n, s.raw(ctx, `SELECT count(*) FROM links WHERE left_at IS NULL AND kind = ?`, string(kind)).Scan(&n).Error
}

// Have tells which of the entries have a link of their own.
func (s Links) Have(ctx context.Context, refs []entry.Ref) (map[entry.Ref]bool, error) {
	out := map[entry.Ref]bool{}
	for part := range slices.Chunk(refs, 5000) {
		directories, ids := refArrays(part)
		var rows []struct{ Directory, EntryID string }
		if err := s.raw(ctx, `SELECT directory, entry_id FROM unnest(?::text[], ?::text[]::uuid[]) AS t(d, i) JOIN links ON directory = d AND entry_id = i`, directories, ids).Scan(&rows).Error; err != nil {
			return nil, err
		}
		for _, row := range rows {
			ref, err := refOf(row.Directory, row.EntryID)
			if err != nil {
				return nil, err
			}
			out[ref] = true
		}
	}
	return out, nil
}

// Unlinked tells which of the entries have no link, nor follow one that has.
func (s Links) Unlinked(ctx context.Context, refs []entry.Ref) (map[entry.Ref]bool, error) {
	directories, ids := refArrays(refs)
	var rows []struct{ Directory, ID string }
	err := s.raw(ctx, `SELECT d AS directory, i AS id FROM unnest(?::text[], ?::text[]::uuid[]) AS t(d, i) WHERE NOT EXISTS (SELECT FROM ties WHERE directory = d AND entry_id = i)`, directories, ids).Scan(&rows).Error
	if err != nil {
		return nil, err
	}
	out := make(map[entry.Ref]bool, len(rows))
	for _, row := range rows {
		ref, err := refOf(row.Directory, row.ID)
		if err != nil {
			return nil, err
		}
		out[ref] = true
	}
	return out, nil
}
