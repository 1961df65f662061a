package store

import (
	"context"
	"encoding/json"
	"fmt"

	"kambrel.example/kambrel/core/change"
)

// Form is a value of a resource that the cloud writes its own way.
type Form struct {
	ResourceID, Target string
	change.Form
}

// NoteForms keeps how the cloud writes values, so that they are not sent again.
func (s Resources) NoteForms(ctx context.Context, forms []Form) error {
	byResource := map[string]change.Forms{}
	for _, f := range forms {
		if byResource[f.ResourceID] == nil {
			byResource[f.ResourceID] = change.Forms{}
		}
		byResource[f.ResourceID][f.Target] = f.Form
	}
	var ids, texts textArray
	for id, of := range byResource {
		text, err := json.Marshal(of)
		if err != nil {
			return err
		}
		ids, texts = append(ids, id), append(texts, string(text))
	}
	if len(ids) == 0 {
		return nil
	}
	if _, err := s.exec(ctx, `UPDATE resources SET forms = coalesce(forms, '{}') || f::jsonb FROM unnest(?::text[], ?::text[]) AS t(i, f) WHERE id = i`, ids, texts); err != nil {
		return fmt.Errorf("note how the cloud writes values: %w", err)
	}
	return nil
}

// FormCount is how many resources have a value at a target that the cloud writes its own
// way, with one of them.
type FormCount struct {
	Kind, Target, Sent, Kept string
	Count                    int
}

// Forms counts them, the most frequent first.
func (s Resources) Forms(ctx context.Context) ([]FormCount, error) {
	forms := []FormCount{}
	return forms, s.raw(ctx, `SELECT r.kind, f.key AS target, count(*) AS count, coalesce(min(f.value->>'sent'), '') AS sent, coalesce((array_agg(f.value->>'kept' ORDER BY f.value->>'sent'))[1], '') AS kept
		FROM resources r, jsonb_each(r.forms) f WHERE r.forms IS NOT NULL GROUP BY 1, 2 ORDER BY 3 DESC, 1 DESC, 2`).Scan(&forms).Error
}

// ForgetForms lets the next run send the values of a target again, "" for all, and tells
// how many that are.
func (s Resources) ForgetForms(ctx context.Context, target string) (int, error) {
	n, err := s.exec(ctx, `WITH gone AS (
			UPDATE resources SET forms = CASE WHEN @target = '' THEN NULL ELSE nullif(forms - @target, '{}') END
			WHERE forms IS NOT NULL AND (@target = '' OR jsonb_exists(forms, @target)) RETURNING id
		) INSERT INTO dirty (directory, entry_id) SELECT l.directory, l.entry_id FROM links l JOIN gone ON gone.id = l.resource_id
		ON CONFLICT (directory, entry_id) DO UPDATE SET state = 0`, map[string]any{"target": target})
	if err != nil {
		err = fmt.Errorf("forget how the cloud writes values: %w", err)
	}
	return int(n), err
}
