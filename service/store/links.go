package store

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"time"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/progress"
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
	Due        *time.Time // when the resource is deleted, as the guard has let it
	Kind       string
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
			ON CONFLICT (directory, entry_id) DO UPDATE SET resource_id = excluded.resource_id, link_key = excluded.link_key, left_at = NULL, due = NULL
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

// Leaving is an entry that has left, and when its resource is deleted; nil when it stays.
type Leaving struct {
	Ref entry.Ref
	Due *time.Time
}

// SetLeft notes that the leaver policy was carried out for entries.
func (s Links) SetLeft(ctx context.Context, leaving []Leaving) error {
	var directories, ids, dues textArray
	for _, l := range leaving {
		directories, ids, dues = append(directories, l.Ref.Directory), append(ids, l.Ref.ID.String()), append(dues, instant(l.Due))
	}
	if len(leaving) == 0 {
		return nil
	}
	// Of what has left before, only the date may be another.
	if _, err := s.exec(ctx, `UPDATE links l SET due = nullif(u, '')::timestamptz FROM unnest(?::text[], ?::text[]::uuid[], ?::text[]) AS t(d, i, u)
		WHERE l.directory = d AND l.entry_id = i AND l.due IS DISTINCT FROM nullif(u, '')::timestamptz`, directories, ids, dues); err != nil {
		return err
	}
	return s.setLeft(ctx, directories, ids, true)
}

// SetBack notes that entries are back that had left.
func (s Links) SetBack(ctx context.Context, refs []entry.Ref) error {
	if len(refs) == 0 {
		return nil
	}
	directories, ids := refArrays(refs)
	return s.setLeft(ctx, directories, ids, false)
}

func (s Links) setLeft(ctx context.Context, directories, ids textArray, left bool) error {
	_, err := s.exec(ctx, `WITH moved AS (
			UPDATE links l SET left_at = CASE WHEN ? THEN coalesce(l.left_at, now()) END, due = CASE WHEN ? THEN l.due END, held = false
			FROM unnest(?::text[], ?::text[]::uuid[]) AS t(d, i) WHERE l.directory = d AND l.entry_id = i AND (l.left_at IS NOT NULL) <> ? RETURNING l.directory, l.entry_id
		)`+markMoved(len(ids)), left, left, directories, ids, left)
	return err
}

// Stay takes back that the resource of an entry that has left is deleted.
func (s Links) Stay(ctx context.Context, ref entry.Ref) error {
	_, err := s.exec(ctx, `UPDATE links SET due = NULL WHERE directory = ? AND entry_id = ?::uuid AND due IS NOT NULL`, ref.Directory, ref.ID.String())
	return err
}

// Swap exchanges the resources of two entries that have one each. Each resource keeps its
// link key, and that it was suspended.
func (s Links) Swap(ctx context.Context, one, other entry.Ref) error {
	links := make([]Link, 2)
	for i, ref := range []entry.Ref{one, other} {
		var err error
		if links[i], err = s.Of(ctx, ref); err != nil {
			return fmt.Errorf("find the link of %s: %w", ref, err)
		}
	}
	if err := s.Drop(ctx, []entry.Ref{one, other}); err != nil {
		return err
	}
	for i, ref := range []entry.Ref{other, one} {
		l := links[i]
		if _, err := s.exec(ctx, `WITH moved AS (
				INSERT INTO links (link_key, resource_id, directory, entry_id, how, kind, run_id, left_at, due) VALUES (?, ?, ?, ?::uuid, 'swap', ?, ?, ?, ?) RETURNING directory, entry_id
			)`+markReferring, l.LinkKey, l.ResourceID, ref.Directory, ref.ID.String(), l.Kind, l.RunID, l.LeftAt, l.Due); err != nil {
			return fmt.Errorf("link %s with the resource %s: %w", ref, l.ResourceID, err)
		}
	}
	return nil
}

// Leaver is somebody whose resource is deleted when the grace time is over.
type Leaver struct {
	Kind, Directory, EntryID, ResourceID, Name string
	DN                                         string `gorm:"column:dn"`
	LeftAt, On                                 time.Time
	Gone                                       bool // from the directory
}

// Leavers lists whose resources are deleted by grace times, the first ones first, and
// tells how many there are.
func (s Links) Leavers(ctx context.Context, grace []Grace, offset, limit int) ([]Leaver, int, error) {
	kinds, seconds := graceArrays(grace)
	var rows []struct {
		Leaver
		Total int
	}
	err := s.raw(ctx, `SELECT l.kind, l.directory, l.entry_id, l.resource_id, e.dn, coalesce(nullif(r.name, ''), e.name) AS name, e.gone IS NOT NULL AS gone, l.left_at, `+goesOn+` AS on, count(*) OVER () AS total
		FROM links l JOIN unnest(?::text[], ?::text[]::float8[]) AS g(k, secs) ON l.kind = k JOIN entries e ON e.directory = l.directory AND e.id = l.entry_id LEFT JOIN resources r ON r.id = l.resource_id
		WHERE l.left_at IS NOT NULL AND l.due IS NOT NULL ORDER BY 9, lower(e.dn), l.entry_id OFFSET ? LIMIT ?`, kinds, seconds, offset, limit).Scan(&rows).Error
	out, total := make([]Leaver, len(rows)), 0
	for i, row := range rows {
		out[i], total = row.Leaver, row.Total
	}
	return out, total, err
}

// Going counts whose resources are deleted by grace times, and from when on.
func (s Links) Going(ctx context.Context, grace []Grace) ([]progress.Going, error) {
	kinds, seconds := graceArrays(grace)
	going := []progress.Going{}
	err := s.raw(ctx, `SELECT l.kind, count(*) AS count, min(`+goesOn+`) AS on FROM links l JOIN unnest(?::text[], ?::text[]::float8[]) AS g(k, secs) ON l.kind = k
		WHERE l.left_at IS NOT NULL AND l.due IS NOT NULL GROUP BY 1 ORDER BY 1 DESC`, kinds, seconds).Scan(&going).Error
	for i := range going {
		going[i] = going[i].Say()
	}
	return going, err
}

// goesOn is when the resource of a link l is deleted by a grace time g.
const goesOn = `l.left_at + make_interval(secs => g.secs)`

func graceArrays(grace []Grace) (kinds, seconds textArray) {
	for _, g := range grace {
		kinds, seconds = append(kinds, string(g.Kind)), append(seconds, strconv.FormatFloat(g.Seconds, 'f', -1, 64))
	}
	return kinds, seconds
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

// Some are a few of the links, picked at random.
func (s Links) Some(ctx context.Context, n int) ([]Link, error) {
	var links []Link
	return links, s.raw(ctx, `SELECT * FROM links ORDER BY random() LIMIT ?`, n).Scan(&links).Error
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
