package store

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"

	"kambrel.example/kambrel/core/entry"
)

// WithHidden gives entries that were just read what the mirror has of attributes that
// cannot be seen. A group whose members cannot be seen is left out, and so stays as it
// was.
func (s Entries) WithHidden(ctx context.Context, directory string, hidden []string, entries []*entry.Entry) ([]*entry.Entry, error) {
	ids := make([]entry.ID, len(entries))
	for i, e := range entries {
		ids[i] = e.ID
	}
	var rows []struct {
		ID         string
		Attributes []byte
	}
	if err := s.raw(ctx, `SELECT id::text AS id, attributes FROM entries WHERE directory = ? AND id = ANY((?)::text[]::uuid[])`, directory, idArray(ids)).Scan(&rows).Error; err != nil {
		return nil, fmt.Errorf("look what entries had of %v: %w", hidden, err)
	}
	before := make(map[string]entry.Attributes, len(rows))
	for _, row := range rows {
		var attributes entry.Attributes
		if err := json.Unmarshal(row.Attributes, &attributes); err != nil {
			return nil, fmt.Errorf("entry %s: %w", row.ID, err)
		}
		before[row.ID] = attributes
	}
	kept := entries[:0]
	for _, e := range entries {
		had, known := before[e.ID.String()]
		if known && e.Kind == entry.Group && len(e.Members) == 0 && slices.Contains(hidden, entry.MemberAttribute) {
			continue
		}
		for _, name := range hidden {
			if _, has := e.Attributes[name]; !has && len(had[name]) > 0 {
				e.Attributes[name] = had[name]
			}
		}
		kept = append(kept, e)
	}
	return kept, nil
}

// AcceptAbsence notes that an attribute which could not be seen is gone; the next read
// is of everything, and takes it from whoever had it.
func (s Entries) AcceptAbsence(ctx context.Context, directory, attribute string) error {
	_, err := s.exec(ctx, `UPDATE directory_states SET hidden = array_remove(hidden, ?), expected = array_remove(expected, ?), absent = array_append(absent, ?), cookie = NULL
		WHERE directory = ?`, attribute, attribute, attribute, directory)
	return err
}
