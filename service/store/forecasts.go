package store

import (
	"context"
	"strings"
)

// LastForecast returns the newest rehearsal of everybody that has ended well.
func (s Runs) LastForecast(ctx context.Context) (Run, bool, error) {
	return taken(s.with(ctx).Where("purpose IN ('forecast', 'impact') AND ended IS NOT NULL AND state IN ('in-step', 'problems')").Order("id DESC"))
}

// OutcomeCount is how many a rehearsal of everybody decided alike: an operation, what
// is linked or unclaimed, or the code of a problem.
type OutcomeCount struct {
	Kind    string
	Outcome string
	Rule    string // the match rule that adopts
	Count   int
}

// Outcomes counts what a rehearsal of everybody came to: its changes by
// operation and match rule, problems by code, who is linked and in step, and
// what nobody claims.
func (s Changes) Outcomes(ctx context.Context, run int64) ([]OutcomeCount, error) {
	outcomes := []OutcomeCount{}
	err := s.raw(ctx, `
		WITH planned AS (
			SELECT kind, directory, entry_id, CASE WHEN operation = 'none' THEN code ELSE operation END AS outcome,
				rule
			FROM changes WHERE run_id = @run AND rank < 3 AND state NOT IN ('superseded', 'tie')
		)
		SELECT kind, outcome, rule, count(*) AS count FROM planned GROUP BY 1, 2, 3
		UNION ALL
		SELECT a.kind, 'linked', '', a.n - coalesce(b.n, 0) FROM (SELECT kind, count(*) AS n FROM links WHERE left_at IS NULL GROUP BY 1) a
			LEFT JOIN (SELECT l.kind, count(*) AS n FROM (SELECT DISTINCT directory, entry_id FROM changes WHERE run_id = @run AND rank < 3 AND state <> 'tie') c
				JOIN links l ON l.directory = c.directory AND l.entry_id = c.entry_id WHERE l.left_at IS NULL GROUP BY 1) b USING (kind) WHERE a.n > coalesce(b.n, 0)
		UNION ALL
		SELECT kind, 'unclaimed', '', count(*) FROM (`+unclaimed+`) u GROUP BY 1
		ORDER BY 1 DESC, 4 DESC, 2`, map[string]any{"run": run}).Scan(&outcomes).Error
	return outcomes, err
}

// unclaimed are resources that no entry has or would have.
const unclaimed = `SELECT r.* FROM loose_resources o JOIN resources r ON r.id = o.resource_id WHERE NOT EXISTS (SELECT FROM links l WHERE l.resource_id = r.id)
	AND NOT EXISTS (SELECT FROM changes c WHERE c.run_id = @run AND c.operation = 'adopt' AND c.resource_id = r.id)`

// CloudOnly is a resource that no entry claims.
type CloudOnly struct {
	ID     string
	Kind   string
	Name   string
	Login  string
	Active bool
}

// UnclaimedQuery chooses resources that nobody claims after a forecast.
type UnclaimedQuery struct {
	Run           int64
	Kind, Text    string
	Offset, Limit int
}

// Unclaimed lists such resources by name, and tells how many there are.
func (s Resources) Unclaimed(ctx context.Context, q UnclaimedQuery) ([]CloudOnly, int, error) {
	rows := []struct {
		CloudOnly
		Total int
	}{}
	err := s.raw(ctx, `SELECT id, kind, name, login, active, count(*) OVER () AS total
		FROM (`+unclaimed+`) u WHERE @kind IN ('', kind) AND (@text = '' OR search LIKE @pattern) ORDER BY lower(name), id OFFSET @offset LIMIT @limit`,
		map[string]any{"run": q.Run, "kind": q.Kind, "text": q.Text, "pattern": like(strings.ToLower(q.Text)), "offset": q.Offset, "limit": q.Limit}).Scan(&rows).Error
	out, total := make([]CloudOnly, len(rows)), 0
	for i, row := range rows {
		out[i], total = row.CloudOnly, row.Total
	}
	return out, total, err
}
