package store

import (
	"context"
	"fmt"

	"kambrel.example/kambrel/core/decide"
	"kambrel.example/kambrel/core/entry"
)

// Choices are what operators decided about entries, until it has become a link.
type Choices struct{ *session }

// Keep keeps what an operator has decided, and lets the next plan look at it.
func (s Choices) Keep(ctx context.Context, ref entry.Ref, c decide.Chosen) error {
	_, err := s.exec(ctx, `INSERT INTO decisions (directory, entry_id, action, resource_id, by) VALUES (?, ?, ?, ?, ?)
		ON CONFLICT (directory, entry_id) DO UPDATE SET action = excluded.action, resource_id = excluded.resource_id, by = excluded.by, made = now()`,
		ref.Directory, ref.ID.String(), string(c.Choice), c.ResourceID, c.By)
	if err != nil {
		return fmt.Errorf("keep what was decided about %s/%s: %w", ref.Directory, ref.ID, err)
	}
	return s.all().Dirty.Set(ctx, []entry.Ref{ref}, DirtyNow, false)
}

// Drop forgets decisions that became links.
func (s Choices) Drop(ctx context.Context, links []NewLink) error {
	refs := make([]entry.Ref, len(links))
	for i, link := range links {
		refs[i] = link.Ref
	}
	return s.deleteByEntry(ctx, "decisions", refs)
}
