package store

import (
	"context"
	"encoding/json"

	"kambrel.example/kambrel/core/entry"
)

// What operators can decide about an entry that has no link.
const (
	ChosenLink   = "link"   // to the resource, whatever the match rules say
	ChosenCreate = "create" // although somebody looks like the same person
	ChosenHold   = "hold"   // no resource until something else is decided
)

// Chosen is what an operator has decided about an entry; the zero value says
// nothing.
type Chosen struct {
	Action     string
	ResourceID string
	By         string
	// Resource is that of the mirror, nil when the cloud no longer has it.
	Resource entry.Resource `gorm:"-"`
}

// Choose keeps what an operator has decided, and lets the next plan look at it.
func (s *Store) Choose(ctx context.Context, ref Ref, c Chosen) error {
	_, err := s.exec(ctx, `INSERT INTO decisions (directory, entry_id, action, resource_id, by) VALUES (?, ?, ?, ?, ?)
		ON CONFLICT (directory, entry_id) DO UPDATE SET action = excluded.action, resource_id = excluded.resource_id, by = excluded.by, made = now()`,
		ref.Directory, ref.ID.String(), c.Action, c.ResourceID, c.By)
	if err != nil {
		return err
	}
	return s.SetDirty(ctx, []Ref{ref}, DirtyNow, false)
}

// ChosenFor returns what was decided about entries.
func (s *Store) ChosenFor(ctx context.Context, refs []Ref) (map[Ref]Chosen, error) {
	out := map[Ref]Chosen{}
	if len(refs) == 0 {
		return out, nil
	}
	directories, ids := refArrays(refs)
	var rows []struct {
		Chosen
		Directory, EntryID string
		Attributes         []byte
	}
	err := s.raw(ctx, `SELECT c.*, r.attributes FROM unnest(?::text[], ?::text[]::uuid[]) AS t(d, i) JOIN decisions c ON c.directory = d AND c.entry_id = i
		LEFT JOIN resources r ON r.id = c.resource_id`, directories, ids).Scan(&rows).Error
	if err != nil {
		return nil, err
	}
	for _, row := range rows {
		id, err := entry.NewID(row.EntryID)
		if err != nil {
			return nil, err
		}
		if row.Attributes != nil {
			if err := json.Unmarshal(row.Attributes, &row.Resource); err != nil {
				return nil, err
			}
		}
		out[Ref{row.Directory, id}] = row.Chosen
	}
	return out, nil
}

// DropChosen forgets decisions that became links.
func (s *Store) DropChosen(ctx context.Context, links []NewLink) error {
	refs := make([]Ref, len(links))
	for i, link := range links {
		refs[i] = link.Ref
	}
	return s.deleteByEntry(ctx, "decisions", refs)
}
