package store

import (
	"context"
	"encoding/json"
	"fmt"

	"kambrel.example/kambrel/core/decide"
	"kambrel.example/kambrel/core/entry"
)

// Choose keeps what an operator has decided, and lets the next plan look at it.
func (s *Store) Choose(ctx context.Context, ref entry.Ref, c decide.Chosen) error {
	_, err := s.exec(ctx, `INSERT INTO decisions (directory, entry_id, action, resource_id, by) VALUES (?, ?, ?, ?, ?)
		ON CONFLICT (directory, entry_id) DO UPDATE SET action = excluded.action, resource_id = excluded.resource_id, by = excluded.by, made = now()`,
		ref.Directory, ref.ID.String(), string(c.Choice), c.ResourceID, c.By)
	if err != nil {
		return fmt.Errorf("keep what was decided about %s/%s: %w", ref.Directory, ref.ID, err)
	}
	return s.SetDirty(ctx, []entry.Ref{ref}, DirtyNow, false)
}

// Chosen returns what was decided about entries, with who has the resource now.
func (s *Store) Chosen(ctx context.Context, refs []entry.Ref) (map[entry.Ref]decide.Chosen, error) {
	out := map[entry.Ref]decide.Chosen{}
	if len(refs) == 0 {
		return out, nil
	}
	directories, ids := refArrays(refs)
	var rows []struct {
		Directory, EntryID, Action, ResourceID, By string
		Attributes                                 []byte
		OwnerDirectory, OwnerID, Owner             string
	}
	err := s.raw(ctx, `SELECT c.directory, c.entry_id, c.action, c.resource_id, c.by, r.attributes,
			coalesce(l.directory, '') AS owner_directory, coalesce(l.entry_id::text, '') AS owner_id, coalesce(e.dn, l.entry_id::text, '') AS owner
		FROM unnest(?::text[], ?::text[]::uuid[]) AS t(d, i) JOIN decisions c ON c.directory = d AND c.entry_id = i
		LEFT JOIN resources r ON r.id = c.resource_id AND c.resource_id <> '' LEFT JOIN links l ON l.resource_id = c.resource_id AND c.resource_id <> ''
		LEFT JOIN entries e ON e.directory = l.directory AND e.id = l.entry_id`, directories, ids).Scan(&rows).Error
	if err != nil {
		return nil, err
	}
	for _, row := range rows {
		chosen := decide.Chosen{Choice: decide.Choice(row.Action), ResourceID: row.ResourceID, By: row.By, Owner: row.Owner}
		ref, err := refOf(row.Directory, row.EntryID)
		if err != nil {
			return nil, err
		}
		if row.OwnerID != "" {
			if chosen.OwnerRef, err = refOf(row.OwnerDirectory, row.OwnerID); err != nil {
				return nil, err
			}
		}
		if row.Attributes != nil {
			if err := json.Unmarshal(row.Attributes, &chosen.Resource); err != nil {
				return nil, err
			}
		}
		out[ref] = chosen
	}
	return out, nil
}

// DropChosen forgets decisions that became links.
func (s *Store) DropChosen(ctx context.Context, links []NewLink) error {
	refs := make([]entry.Ref, len(links))
	for i, link := range links {
		refs[i] = link.Ref
	}
	return s.deleteByEntry(ctx, "decisions", refs)
}
