package store

import (
	"context"
	"time"
)

// Marks is what people say of a problem that is open.
type Marks struct {
	Assigned string // who looks after it
	Note     string
	Asleep   *time.Time // until when it stands behind the others
	By       string     // who has said so last
	At       *time.Time
}

// Mark is a change of marks; what is nil stays.
type Mark struct {
	Assigned, Note *string
	Asleep         *time.Time // the zero time wakes it
}

// Mark changes what is said of open problems, and tells how they were. Those that are
// closed or not there are left out.
func (s Problems) Mark(ctx context.Context, by string, ids []int64, code string, m Mark) ([]Problem, error) {
	where, args := `WHERE p.closed IS NULL AND p.id = ANY(?::text[]::bigint[]) ORDER BY p.id`, []any{numbers(ids)}
	if code != "" {
		where, args = `WHERE p.closed IS NULL AND p.code = ? ORDER BY p.id`, []any{code}
	}
	before, err := s.list(ctx, where, args...)
	if err != nil || len(before) == 0 {
		return nil, err
	}
	found := make([]int64, len(before))
	for i, p := range before {
		found[i] = p.ID
	}
	_, err = s.exec(ctx, `UPDATE problems SET assigned = coalesce(?, assigned), note = coalesce(?, note),
		asleep = CASE WHEN ? THEN nullif(?, '')::timestamptz ELSE asleep END, marked_by = ?, marked = now() WHERE id = ANY(?::text[]::bigint[]) AND closed IS NULL`,
		m.Assigned, m.Note, m.Asleep != nil, until(m.Asleep), by, numbers(found))
	return before, err
}

func until(t *time.Time) string {
	if t == nil || t.IsZero() {
		return ""
	}
	return instant(t)
}
