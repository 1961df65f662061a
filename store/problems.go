package store

import (
	"context"
	"strings"
	"time"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/wire"
)

// NewProblem is a problem that a run met.
type NewProblem struct {
	Ref    Ref
	Code   string
	Detail string
}

// SaveProblems opens problems, or notes that they were met again.
func (s *Store) SaveProblems(ctx context.Context, run int64, problems []NewProblem) error {
	if len(problems) == 0 {
		return nil
	}
	var directories, ids, codes, details textArray
	seen := map[Ref]bool{}
	for _, p := range problems {
		if seen[p.Ref] {
			continue
		}
		seen[p.Ref] = true
		directories, ids = append(directories, p.Ref.Directory), append(ids, p.Ref.ID.String())
		codes, details = append(codes, p.Code), append(details, p.Detail)
	}
	_, err := s.exec(ctx, `INSERT INTO problems AS p (directory, entry_id, code, detail, last_run) SELECT d, i, c, t, ? FROM unnest(?::text[], ?::uuid[], ?::text[], ?::text[]) AS x(d, i, c, t)
		ON CONFLICT (directory, entry_id) DO UPDATE SET times = CASE WHEN p.code <> excluded.code THEN 1 WHEN p.last_run = excluded.last_run THEN p.times ELSE p.times + 1 END,
			since = CASE WHEN p.code = excluded.code THEN p.since ELSE now() END, code = excluded.code, detail = excluded.detail, last_run = excluded.last_run`,
		run, directories, ids, codes, details)
	return err
}

// CloseProblems closes the problems of entries whose cause is gone.
func (s *Store) CloseProblems(ctx context.Context, refs []Ref) error {
	if len(refs) == 0 {
		return nil
	}
	directories, ids := refArrays(refs)
	_, err := s.exec(ctx, `DELETE FROM problems p USING unnest(?::text[], ?::uuid[]) AS t(d, i) WHERE p.directory = d AND p.entry_id = i`, directories, ids)
	return err
}

type problemRow struct {
	Directory, EntryID, Code, Detail string
	DN                               string `gorm:"column:dn"`
	ResourceID                       string
	Since                            time.Time
	LastRun                          int64
	Times                            int
}

func (r problemRow) open() wire.OpenProblem {
	return wire.OpenProblem{
		ProblemDetail: wire.DetailOf(problem.Code(r.Code), r.Detail), Directory: r.Directory, EntryID: r.EntryID, DN: r.DN, ResourceID: r.ResourceID,
		Since: r.Since, LastRun: r.LastRun, Times: r.Times,
	}
}

const problemSelect = `SELECT p.*, e.dn, coalesce(l.resource_id, '') AS resource_id FROM problems p
	JOIN entries e ON e.directory = p.directory AND e.id = p.entry_id LEFT JOIN links l ON l.directory = p.directory AND l.entry_id = p.entry_id`

// ProblemOf returns the open problem of an entry.
func (s *Store) ProblemOf(ctx context.Context, ref Ref) (wire.OpenProblem, bool, error) {
	var row problemRow
	err := s.with(ctx).Raw(problemSelect+` WHERE p.directory = ? AND p.entry_id = ?`, ref.Directory, ref.ID.String()).Scan(&row).Error
	return row.open(), row.EntryID != "", err
}

// Problems lists open problems, the oldest first, and how many there are.
func (s *Store) Problems(ctx context.Context, code string, offset, limit int) ([]wire.OpenProblem, int, error) {
	var total int
	if err := s.with(ctx).Raw(`SELECT count(*) FROM problems WHERE ? IN ('', code)`, code).Scan(&total).Error; err != nil {
		return nil, 0, err
	}
	var rows []problemRow
	err := s.with(ctx).Raw(problemSelect+` WHERE ? IN ('', p.code) ORDER BY p.since, p.entry_id OFFSET ? LIMIT ?`, code, offset, limit).Scan(&rows).Error
	out := make([]wire.OpenProblem, len(rows))
	for i, row := range rows {
		out[i] = row.open()
	}
	return out, total, err
}

// ProblemCounts counts open problems by code, the most frequent first.
func (s *Store) ProblemCounts(ctx context.Context) ([]wire.CodeCount, error) {
	counts := []wire.CodeCount{}
	if err := s.with(ctx).Raw(`SELECT code, count(*) AS count FROM problems GROUP BY code ORDER BY 2 DESC, 1`).Scan(&counts).Error; err != nil {
		return nil, err
	}
	for i := range counts {
		counts[i].Title = problem.Describe(problem.Code(counts[i].Code)).Title
	}
	return counts, nil
}

// ObjectCounts counts what is where.
func (s *Store) ObjectCounts(ctx context.Context) (wire.ObjectCounts, error) {
	var c wire.ObjectCounts
	err := s.with(ctx).Raw(`SELECT
		(SELECT count(*) FROM entries WHERE kind = 'user' AND gone IS NULL) AS entries,
		(SELECT count(*) FROM links) AS linked,
		(SELECT count(*) FROM links WHERE left_at IS NOT NULL) AS suspended,
		(SELECT count(*) FROM resources r WHERE NOT EXISTS (SELECT FROM links l WHERE l.resource_id = r.id)) AS cloud_only,
		(SELECT count(*) FROM dirty) AS dirty`).Scan(&c).Error
	return c, err
}

// EntryCount counts the people of a directory.
func (s *Store) EntryCount(ctx context.Context, directory string) (int, error) {
	var n int
	return n, s.with(ctx).Raw(`SELECT count(*) FROM entries WHERE directory = ? AND kind = 'user' AND gone IS NULL`, directory).Scan(&n).Error
}

// hitRow is a row of a search.
type hitRow struct {
	Type, Directory, EntryID, ResourceID string
	DN                                   string `gorm:"column:dn"`
	Name, Login, State                   string
	Active                               *bool
	Gone                                 bool
}

// FindQuery searches objects.
type FindQuery struct {
	Text   string
	IDs    []entry.ID // the text read as an id, in every reading
	State  string
	Sort   string // name, -name, login, -login, state, -state
	Offset int
	Limit  int
}

// findFrom joins entries with their resources, and adds resources that no
// entry owns; state is where each object stands.
const findFrom = `FROM (
	SELECT 'entry' AS type, e.directory, e.id::text AS entry_id, coalesce(l.resource_id, '') AS resource_id, e.dn,
		coalesce(nullif(e.attributes->'displayName'->>0, ''), e.attributes->'cn'->>0, e.dn) AS name,
		coalesce(r.attributes->>'userName', e.attributes->'userPrincipalName'->>0, e.attributes->'mail'->>0, '') AS login,
		r.active, e.gone IS NOT NULL AS gone,
		CASE WHEN p.entry_id IS NOT NULL THEN 'problem' WHEN e.gone IS NOT NULL AND l.id IS NULL THEN 'removed' WHEN l.left_at IS NOT NULL THEN 'suspended'
			WHEN d.entry_id IS NOT NULL THEN 'changing' WHEN l.id IS NOT NULL THEN 'in-step' ELSE 'not-synced' END AS state,
		e.search || E'\n' || coalesce(r.search, '') AS search
	FROM entries e LEFT JOIN links l ON l.directory = e.directory AND l.entry_id = e.id LEFT JOIN resources r ON r.id = l.resource_id
		LEFT JOIN problems p ON p.directory = e.directory AND p.entry_id = e.id LEFT JOIN dirty d ON d.directory = e.directory AND d.entry_id = e.id
	WHERE e.kind = 'user'
	UNION ALL
	SELECT 'resource', '', '', r.id, '', coalesce(r.attributes->>'displayName', r.attributes->>'userName'), coalesce(r.attributes->>'userName', ''), r.active, false, 'cloud-only', r.search
	FROM resources r WHERE NOT EXISTS (SELECT FROM links l WHERE l.resource_id = r.id)
) o`

// Find searches entries and resources by name, login, address or id, and tells
// how many fit.
func (s *Store) Find(ctx context.Context, q FindQuery) ([]wire.Hit, int, error) {
	where, args := ` WHERE ? IN ('', state)`, []any{q.State}
	if q.Text != "" {
		where += ` AND (search LIKE ? OR entry_id = ANY(?::text[]) OR resource_id = ANY(?::text[]))`
		args = append(args, like(strings.ToLower(q.Text)), idArray(q.IDs), idArray(q.IDs))
	}
	var total int
	if err := s.with(ctx).Raw(`SELECT count(*) `+findFrom+where, args...).Scan(&total).Error; err != nil {
		return nil, 0, err
	}
	order, ok := map[string]string{"": "lower(name)", "name": "lower(name)", "-name": "lower(name) DESC", "login": "login", "-login": "login DESC", "state": "state, lower(name)", "-state": "state DESC, lower(name)"}[q.Sort]
	if !ok {
		return nil, 0, problem.New(problem.BadInput, "sort %q: use name, login or state, with a minus for the other way round", q.Sort)
	}
	var rows []hitRow
	if err := s.with(ctx).Raw(`SELECT * `+findFrom+where+` ORDER BY `+order+`, entry_id, resource_id OFFSET ? LIMIT ?`, append(args, q.Offset, q.Limit)...).Scan(&rows).Error; err != nil {
		return nil, 0, err
	}
	hits := make([]wire.Hit, len(rows))
	for i, r := range rows {
		hits[i] = wire.Hit{Type: r.Type, Name: r.Name, Login: r.Login, DN: r.DN, Directory: r.Directory, EntryID: r.EntryID, ResourceID: r.ResourceID, Active: r.Active, Gone: r.Gone, State: r.State}
	}
	return hits, total, nil
}
