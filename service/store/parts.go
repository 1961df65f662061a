package store

import (
	"context"
	"errors"
	"fmt"
)

// fewSearched is up to how many rows of a mirror are read through for a part of a name; of
// more there is an index of parts.
const fewSearched = 5000

// partIndexes find parts of names: three letters and more of what is searched. It is no
// migration that makes them: rows are put into a full index several times slower than an
// index is made of full tables, and of the rows of a first run all are new.
var partIndexes = map[string]string{"entries_parts": "entries", "resources_parts": "resources"}

// IndexParts makes the indexes by which parts of names are found, where a mirror has grown
// so large that they are worth it. Nobody waits for it: it is searched as before meanwhile.
func (s Search) IndexParts(ctx context.Context) error {
	var missing []string
	for name, table := range partIndexes {
		var make bool
		err := s.raw(ctx, `SELECT c.reltuples >= ? AND NOT EXISTS (SELECT FROM pg_class p JOIN pg_index i ON i.indexrelid = p.oid WHERE p.relname = ? AND i.indisvalid) FROM pg_class c WHERE c.oid = ?::regclass`,
			fewSearched, name, table).Scan(&make).Error
		if err != nil {
			return fmt.Errorf("look whether %s is indexed by parts of names: %w", table, err)
		}
		if make {
			missing = append(missing, name)
		}
	}
	if len(missing) == 0 {
		return nil
	}
	_, err := s.Own(ctx, Indexing, 0, func(ctx context.Context) error {
		if _, err := s.exec(ctx, `CREATE EXTENSION IF NOT EXISTS pg_trgm`); err != nil {
			return fmt.Errorf("load PostgreSQL's extension pg_trgm: %w", err)
		}
		var failures []error
		for _, name := range missing {
			// One that was interrupted is there, and of no use.
			for _, statement := range []string{`DROP INDEX CONCURRENTLY IF EXISTS ` + name, `CREATE INDEX CONCURRENTLY ` + name + ` ON ` + partIndexes[name] + ` USING gin (search gin_trgm_ops)`} {
				if _, err := s.exec(ctx, statement); err != nil {
					failures = append(failures, fmt.Errorf("index the parts of names of %s: %w", partIndexes[name], err))
					break
				}
			}
		}
		return errors.Join(failures...)
	})
	return err
}
