package store

import (
	"context"
	"fmt"
	"slices"

	"kambrel.example/kambrel/core/entry"
)

// Container is one container of the source mirror with how many entries of each
// kind lie directly in it.
type Container struct {
	DN, Path                string
	Users, Groups, Contacts int
}

// Containers lists the containers of a directory that hold something, and all
// of its organizational units, parents first.
func (s Entries) Containers(ctx context.Context, directory string) ([]Container, error) {
	var containers []Container
	err := s.raw(ctx, `
		WITH held AS (
			SELECT parent, sum(n) FILTER (WHERE kind = 'user') AS users, sum(n) FILTER (WHERE kind = 'group') AS groups, sum(n) FILTER (WHERE kind = 'contact') AS contacts
			FROM container_counts WHERE directory = ? GROUP BY 1
		)
		SELECT e.dn, e.path, coalesce(h.users, 0) AS users, coalesce(h.groups, 0) AS groups, coalesce(h.contacts, 0) AS contacts
		FROM entries e LEFT JOIN held h ON h.parent = e.path WHERE e.directory = ? AND e.kind = 'container' AND e.gone IS NULL ORDER BY e.path`,
		directory, directory).Scan(&containers).Error
	return containers, err
}

// NamedContainer is a container with its directory.
type NamedContainer struct{ Directory, Name, DN string }

// Containers finds containers that hold something by a part of their own names, in lower
// case, or by their whole distinguished names; those nearest to the root first.
func (s Search) Containers(ctx context.Context, text string, limit int) ([]NamedContainer, error) {
	var found []NamedContainer
	// In the C collation "0" follows "/", so this range is what lies below.
	err := s.raw(ctx, `SELECT e.directory, e.dn FROM entries e WHERE e.kind = 'container' AND e.gone IS NULL
			AND (strpos(lower(substr(split_part(e.dn, ',', 1), strpos(e.dn, '=') + 1)), @text) > 0 OR lower(e.dn) = @text)
			AND EXISTS (SELECT FROM entries h WHERE h.directory = e.directory AND h.path > e.path || '/' AND h.path < e.path || '0' AND h.kind <> 'container' AND h.gone IS NULL)
		ORDER BY length(e.path), e.path LIMIT @limit`, map[string]any{"text": text, "limit": limit}).Scan(&found).Error
	for i := range found {
		if dn, err := entry.ParseDN(found[i].DN); err == nil {
			found[i].Name = dn.Name()
		}
	}
	return found, err
}

// Vanished tells what became of a name that the mirror no longer has: where the
// container of that name is now, or that it was deleted. Both are empty when it
// was never there.
func (s Entries) Vanished(ctx context.Context, directory, path string) (now string, deleted bool, err error) {
	var row struct {
		DN   string
		Gone bool
	}
	err = s.raw(ctx, `SELECT dn, gone IS NOT NULL AS gone FROM entries WHERE directory = ? AND (path = ? OR id IN (SELECT id FROM former_names WHERE directory = ? AND path = ?))
		ORDER BY gone NULLS FIRST LIMIT 1`, directory, path, directory, path).Scan(&row).Error
	if row.Gone {
		return "", true, err
	}
	return row.DN, false, err
}

// CountKinds counts the entries of directories by kind.
func (s Entries) CountKinds(ctx context.Context, directories []string) (map[entry.Kind]int, error) {
	var rows []struct {
		Kind string
		N    int
	}
	if err := s.raw(ctx, `SELECT kind, sum(n) AS n FROM container_counts WHERE directory = ANY(?::text[]) GROUP BY kind`, textArray(directories)).Scan(&rows).Error; err != nil {
		return nil, fmt.Errorf("count entries by kind: %w", err)
	}
	counts := map[entry.Kind]int{}
	for _, row := range rows {
		counts[entry.Kind(row.Kind)] = row.N
	}
	return counts, nil
}

// Each streams entries of the mirror that are not gone, in batches; kinds
// and directories choose, and none means all.
func (s Entries) Each(ctx context.Context, directories []string, kinds []entry.Kind, batch int, each func([]*entry.Entry) error) error {
	names := make(textArray, len(kinds))
	for i, kind := range kinds {
		names[i] = string(kind)
	}
	after := entry.Ref{}
	for {
		entries, err := s.some(ctx, `FROM entries WHERE (directory, id) > (?, ?) AND directory = ANY(?::text[]) AND kind = ANY(?::text[]) AND gone IS NULL
			ORDER BY directory, id LIMIT ?`, after.Directory, after.ID.String(), textArray(directories), names, batch)
		if err != nil || len(entries) == 0 {
			return err
		}
		last := entries[len(entries)-1]
		after = entry.Ref{Directory: last.Directory, ID: last.ID}
		if err := each(entries); err != nil {
			return err
		}
	}
}

// Some is Each of a share of one kind, from 0 to 1, taken by chance: blocks of the table, so that
// it does not take longer where there are more.
func (s Entries) Some(ctx context.Context, directories []string, kind entry.Kind, share float64, batch int, each func([]*entry.Entry) error) error {
	entries, err := s.some(ctx, `FROM entries TABLESAMPLE SYSTEM (?) WHERE directory = ANY(?::text[]) AND kind = ? AND gone IS NULL`,
		100*share, textArray(directories), string(kind))
	if err != nil {
		return fmt.Errorf("look at some entries: %w", err)
	}
	for part := range slices.Chunk(entries, batch) {
		if err := each(part); err != nil {
			return err
		}
	}
	return nil
}

func (s Entries) some(ctx context.Context, from string, args ...any) ([]*entry.Entry, error) {
	var rows []EntryRow
	if err := s.raw(ctx, `SELECT directory, id, kind, dn, attributes, gone `+from, args...).Scan(&rows).Error; err != nil {
		return nil, err
	}
	entries := make([]*entry.Entry, len(rows))
	for i, row := range rows {
		e, err := row.entry()
		if err != nil {
			return nil, err
		}
		entries[i] = &e
	}
	return entries, s.all().CloudGroups.Fill(ctx, entries)
}
