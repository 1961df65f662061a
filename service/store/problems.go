package store

import (
	"context"
	"strings"
	"time"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/protocol/wire"
)

// NewProblem is a problem that a run met.
type NewProblem struct {
	Ref    entry.Ref
	Code   string
	Detail string
	// Candidates are the ids of the resources that it is about.
	Candidates []string
}

// SaveProblems opens problems, or notes that they were met again.
func (s *Store) SaveProblems(ctx context.Context, run int64, problems []NewProblem) error {
	if len(problems) == 0 {
		return nil
	}
	var directories, ids, codes, details, candidates textArray
	seen := map[entry.Ref]bool{}
	for _, p := range problems {
		if seen[p.Ref] {
			continue
		}
		seen[p.Ref] = true
		directories, ids = append(directories, p.Ref.Directory), append(ids, p.Ref.ID.String())
		codes, details = append(codes, p.Code), append(details, p.Detail)
		candidates = append(candidates, strings.Join(p.Candidates, " "))
	}
	_, err := s.exec(ctx, `INSERT INTO problems AS p (directory, entry_id, code, detail, candidates, last_run) SELECT d, i, c, t, string_to_array(r, ' '), ? FROM unnest(?::text[], ?::text[]::uuid[], ?::text[], ?::text[], ?::text[]) AS x(d, i, c, t, r)
		ON CONFLICT (directory, entry_id) DO UPDATE SET times = CASE WHEN p.code <> excluded.code THEN 1 WHEN p.last_run = excluded.last_run THEN p.times ELSE p.times + 1 END,
			since = CASE WHEN p.code = excluded.code THEN p.since ELSE now() END, code = excluded.code, detail = excluded.detail, candidates = excluded.candidates, last_run = excluded.last_run`,
		run, directories, ids, codes, details, candidates)
	return err
}

// CloseProblems closes the problems of entries whose cause is gone.
func (s *Store) CloseProblems(ctx context.Context, refs []entry.Ref) error {
	return s.deleteByEntry(ctx, "problems", refs)
}

type problemRow struct {
	Directory, EntryID, Code, Detail string
	DN                               string `gorm:"column:dn"`
	ResourceID                       string
	Candidates                       textArray
	Since                            time.Time
	LastRun                          int64
	Times                            int
}

func (r problemRow) open() wire.OpenProblem {
	return wire.OpenProblem{
		ProblemDetail: wire.DetailOf(problem.Code(r.Code), r.Detail), Directory: r.Directory, EntryID: r.EntryID, DN: r.DN, ResourceID: r.ResourceID, Candidates: append([]string{}, r.Candidates...),
		Since: r.Since, LastRun: r.LastRun, Times: r.Times,
	}
}

const problemSelect = `SELECT p.*, e.dn, coalesce(l.resource_id, '') AS resource_id FROM problems p
	JOIN entries e ON e.directory = p.directory AND e.id = p.entry_id LEFT JOIN links l ON l.directory = p.directory AND l.entry_id = p.entry_id`

// ProblemOf returns the open problem of an entry.
func (s *Store) ProblemOf(ctx context.Context, ref entry.Ref) (wire.OpenProblem, bool, error) {
	var row problemRow
	err := s.raw(ctx, problemSelect+` WHERE p.directory = ? AND p.entry_id = ?`, ref.Directory, ref.ID.String()).Scan(&row).Error
	return row.open(), row.EntryID != "", err
}

// Problems lists open problems, the oldest first, and how many there are.
func (s *Store) Problems(ctx context.Context, code string, offset, limit int) ([]wire.OpenProblem, int, error) {
	var total int
	if err := s.raw(ctx, `SELECT count(*) FROM problems WHERE ? IN ('', code)`, code).Scan(&total).Error; err != nil {
		return nil, 0, err
	}
	var rows []problemRow
	err := s.raw(ctx, problemSelect+` WHERE ? IN ('', p.code) ORDER BY p.since, p.entry_id OFFSET ? LIMIT ?`, code, offset, limit).Scan(&rows).Error
	out := make([]wire.OpenProblem, len(rows))
	for i, row := range rows {
		out[i] = row.open()
	}
	return out, total, err
}

// ProblemCounts counts open problems by code, the most frequent first.
func (s *Store) ProblemCounts(ctx context.Context) ([]wire.CodeCount, error) {
	counts := []wire.CodeCount{}
	if err := s.raw(ctx, `SELECT code, count(*) AS count FROM problems GROUP BY code ORDER BY 2 DESC, 1`).Scan(&counts).Error; err != nil {
		return nil, err
	}
	for i := range counts {
		counts[i].Title = problem.Describe(problem.Code(counts[i].Code)).Title
	}
	return counts, nil
}

// ObjectCounts counts what is where, but for the entries.
func (s *Store) ObjectCounts(ctx context.Context) (wire.ObjectCounts, error) {
	var c wire.ObjectCounts
	err := s.raw(ctx, `SELECT
		count(*) FILTER (WHERE kind = 'user') AS linked,
		count(*) FILTER (WHERE kind = 'group') AS groups,
		count(*) FILTER (WHERE kind = 'contact') AS contacts,
		count(*) FILTER (WHERE kind = 'user' AND left_at IS NOT NULL) AS suspended,
		(SELECT count(*) FROM resources r WHERE NOT EXISTS (SELECT FROM links l WHERE l.resource_id = r.id)) AS cloud_only,
		(SELECT count(*) FROM dirty) AS dirty FROM links`).Scan(&c).Error
	return c, err
}

// PeopleCounts counts the people of each directory.
func (s *Store) PeopleCounts(ctx context.Context) (map[string]int, error) {
	var rows []struct {
		Directory string
		N         int
	}
	if err := s.raw(ctx, `SELECT directory, count(*) AS n FROM entries WHERE kind = 'user' AND gone IS NULL GROUP BY directory`).Scan(&rows).Error; err != nil {
		return nil, err
	}
	counts := map[string]int{}
	for _, row := range rows {
		counts[row.Directory] = row.N
	}
	return counts, nil
}
