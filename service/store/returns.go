package store

import (
	"context"
	"fmt"

	"kambrel.example/kambrel/core/decide"
	"kambrel.example/kambrel/core/entry"
)

// Formers finds for entries those of their directory, kind and name that were
// deleted.
func (s *Store) Formers(ctx context.Context, refs []entry.Ref) (map[entry.Ref][]decide.Former, error) {
	return s.namesakes(ctx, refs, `f.gone IS NOT NULL`)
}

// Heirs finds for entries that were deleted those of their directory, kind and
// name that are there and have no link.
func (s *Store) Heirs(ctx context.Context, refs []entry.Ref) (map[entry.Ref][]decide.Former, error) {
	return s.namesakes(ctx, refs, `f.gone IS NULL AND l.link_key IS NULL`)
}

// namesakes is only worth a look where somebody was deleted, which the index of
// those tells at once.
func (s *Store) namesakes(ctx context.Context, refs []entry.Ref, where string) (map[entry.Ref][]decide.Former, error) {
	if len(refs) == 0 {
		return nil, nil
	}
	var any bool
	if err := s.raw(ctx, `SELECT EXISTS (SELECT FROM entries WHERE gone IS NOT NULL)`).Scan(&any).Error; err != nil || !any {
		return nil, err
	}
	directories, ids := refArrays(refs)
	var rows []struct {
		EntryRow
		OfID    string
		LinkKey string
	}
	err := s.raw(ctx, `SELECT e.id AS of_id, f.directory, f.id, f.kind, f.dn, f.attributes, f.gone, coalesce(l.link_key, '') AS link_key
		FROM unnest(?::text[], ?::text[]::uuid[]) AS t(d, i) JOIN entries e ON e.directory = d AND e.id = i
		JOIN entries f ON f.directory = e.directory AND lower(f.name) = lower(e.name) AND f.kind = e.kind AND f.kind <> 'container' AND f.id <> e.id
		LEFT JOIN links l ON l.directory = f.directory AND l.entry_id = f.id WHERE `+where, directories, ids).Scan(&rows).Error
	if err != nil {
		return nil, fmt.Errorf("look who was deleted and made again: %w", err)
	}
	out := map[entry.Ref][]decide.Former{}
	for _, row := range rows {
		ref, err := refOf(row.Directory, row.OfID)
		if err != nil {
			return nil, err
		}
		former := decide.Former{LinkKey: row.LinkKey}
		if former.Entry, err = row.entry(); err != nil {
			return nil, err
		}
		out[ref] = append(out[ref], former)
	}
	return out, nil
}

// HandOver leads the links of entries that were deleted to those that they are
// now, with their link keys.
func (s *Store) HandOver(ctx context.Context, from, to []entry.Ref) error {
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
	return nil
}
