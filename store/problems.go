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
	// Candidates are the ids of the resources that it is about.
	Candidates []string
}

// SaveProblems opens problems, or notes that they were met again.
func (s *Store) SaveProblems(ctx context.Context, run int64, problems []NewProblem) error {
	if len(problems) == 0 {
		return nil
	}
	var directories, ids, codes, details, candidates textArray
	seen := map[Ref]bool{}
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
func (s *Store) CloseProblems(ctx context.Context, refs []Ref) error {
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
func (s *Store) ProblemOf(ctx context.Context, ref Ref) (wire.OpenProblem, bool, error) {
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

// ObjectCounts counts what is where.
func (s *Store) ObjectCounts(ctx context.Context) (wire.ObjectCounts, error) {
	var c wire.ObjectCounts
	err := s.raw(ctx, `SELECT
		(SELECT count(*) FROM entries WHERE kind = 'user' AND gone IS NULL) AS entries,
		(SELECT count(*) FROM links WHERE kind = 'user') AS linked,
		(SELECT count(*) FROM links WHERE kind = 'group') AS groups,
		(SELECT count(*) FROM links WHERE kind = 'contact') AS contacts,
		(SELECT count(*) FROM links WHERE kind = 'user' AND left_at IS NOT NULL) AS suspended,
		(SELECT count(*) FROM resources r WHERE NOT EXISTS (SELECT FROM links l WHERE l.resource_id = r.id)) AS cloud_only,
		(SELECT count(*) FROM dirty) AS dirty`).Scan(&c).Error
	return c, err
}

// EntryCount counts the people of a directory.
func (s *Store) EntryCount(ctx context.Context, directory string) (int, error) {
	var n int
	return n, s.raw(ctx, `SELECT count(*) FROM entries WHERE directory = ? AND kind = 'user' AND gone IS NULL`, directory).Scan(&n).Error
}

// hitRow is a row of a search.
type hitRow struct {
	Type, Kind                     string
	Directory, EntryID, ResourceID string
	DN                             string `gorm:"column:dn"`
	Name, Login, State             string
	Active                         *bool
	Gone                           bool
	Total                          int
}

// FindQuery searches objects.
type FindQuery struct {
	Text string
	IDs  []entry.ID // the text read as an id, in every reading
	// Among, where it is not nil, are the only entries that are looked for.
	Among  []Ref
	State  string
	Kind   string // of entries; "" for all
	Sort   string // name, -name, login, -login, state, -state
	Offset int
	Limit  int
}

// findFrom joins entries with their resources, and adds resources that no
// entry owns; state is where each object stands.
const findFrom = `FROM (
	SELECT 'entry' AS type, e.kind, e.directory, e.id::text AS entry_id, coalesce(l.resource_id, '') AS resource_id, e.dn,
		coalesce(nullif(e.attributes->'displayName'->>0, ''), e.attributes->'cn'->>0, e.dn) AS name,
		coalesce(r.attributes->>'userName', e.attributes->'userPrincipalName'->>0, e.attributes->'mail'->>0, '') AS login,
		r.active, e.gone IS NOT NULL AS gone,
		CASE WHEN p.entry_id IS NOT NULL THEN 'problem' WHEN e.gone IS NOT NULL AND l.resource_id IS NULL THEN 'removed' WHEN l.left_at IS NOT NULL THEN 'suspended'
			WHEN d.entry_id IS NOT NULL THEN 'changing' WHEN l.resource_id IS NOT NULL THEN 'in-step' ELSE 'not-synced' END AS state
	FROM entries e LEFT JOIN ties l ON l.directory = e.directory AND l.entry_id = e.id LEFT JOIN resources r ON r.id = l.resource_id
		LEFT JOIN problems p ON p.directory = e.directory AND p.entry_id = e.id LEFT JOIN dirty d ON d.directory = e.directory AND d.entry_id = e.id
	WHERE e.kind <> 'container' AND (@kind = '' OR e.kind = @kind) AND (@text = '' OR e.search LIKE @pattern OR r.search LIKE @pattern OR e.id::text = ANY((@ids)::text[]))
		AND (NOT @among OR e.directory || '/' || e.id = ANY((@refs)::text[]))
	UNION ALL
	SELECT 'resource', r.kind, '', '', r.id, '', coalesce(r.attributes->>'displayName', r.attributes->>'userName', r.id), coalesce(r.attributes->>'userName', ''), r.active, false, 'cloud-only'
	FROM resources r WHERE NOT @among AND @kind IN ('', r.kind) AND NOT EXISTS (SELECT FROM links l WHERE l.resource_id = r.id)
		AND (@text = '' OR r.search LIKE @pattern OR r.id = ANY((@ids)::text[]))
) o WHERE @state IN ('', state)`

// Exact finds the one object whose entry id, resource id, distinguished name or
// login is exactly the text, by index; false when there is none, or several.
func (s *Store) Exact(ctx context.Context, text string, ids []entry.ID) (wire.Hit, bool, error) {
	path := ""
	if dn, err := entry.ParseDN(text); err == nil {
		path = dn.Path()
	}
	var refs []struct{ Directory, EntryID, ResourceID string }
	err := s.raw(ctx, `
		SELECT directory, id::text AS entry_id, '' AS resource_id FROM entries WHERE id = ANY((@ids)::text[]::uuid[]) AND kind <> 'container'
		UNION SELECT directory, id::text, '' FROM entries WHERE @path <> '' AND path = @path AND kind <> 'container' AND gone IS NULL AND directory IN (SELECT directory FROM directory_states)
		UNION SELECT coalesce(l.directory, ''), coalesce(l.entry_id::text, ''), CASE WHEN l.id IS NULL THEN r.id ELSE '' END
			FROM resources r LEFT JOIN links l ON l.resource_id = r.id WHERE r.keys && ARRAY['userName=' || lower(@text)] OR r.id = @text OR r.id = ANY((@ids)::text[])
		LIMIT 2`, map[string]any{"ids": idArray(ids), "path": path, "text": text}).Scan(&refs).Error
	if err != nil || len(refs) != 1 {
		return wire.Hit{}, false, err
	}
	hit := wire.Hit{Type: "entry", Directory: refs[0].Directory, EntryID: refs[0].EntryID, ResourceID: refs[0].ResourceID}
	if hit.EntryID == "" {
		hit.Type = "resource"
	}
	return hit, true, nil
}

// Find searches entries and resources by name, login, address or id, and tells
// how many fit.
func (s *Store) Find(ctx context.Context, q FindQuery) ([]wire.Hit, int, error) {
	refs := make(textArray, len(q.Among))
	for i, ref := range q.Among {
		refs[i] = ref.Directory + "/" + ref.ID.String()
	}
	args := map[string]any{"among": q.Among != nil, "refs": refs, "text": q.Text, "pattern": like(strings.ToLower(q.Text)), "ids": idArray(q.IDs), "state": q.State, "kind": q.Kind, "offset": q.Offset, "limit": q.Limit}
	order, ok := map[string]string{"": "lower(name)", "name": "lower(name)", "-name": "lower(name) DESC", "login": "login", "-login": "login DESC", "state": "state, lower(name)", "-state": "state DESC, lower(name)"}[q.Sort]
	if !ok {
		return nil, 0, problem.New(problem.BadInput, "sort %q: use name, login or state, with a minus for the other way round", q.Sort)
	}
	var rows []hitRow
	// One pass counts and pages.
	if err := s.raw(ctx, `SELECT *, count(*) OVER () AS total `+findFrom+` ORDER BY `+order+`, entry_id, resource_id OFFSET @offset LIMIT @limit`, args).Scan(&rows).Error; err != nil {
		return nil, 0, err
	}
	total := 0
	if len(rows) > 0 {
		total = rows[0].Total
	} else if q.Offset > 0 { // past the end
		if err := s.raw(ctx, `SELECT count(*) `+findFrom, args).Scan(&total).Error; err != nil {
			return nil, 0, err
		}
	}
	hits := make([]wire.Hit, len(rows))
	for i, r := range rows {
		hits[i] = wire.Hit{Type: r.Type, Kind: r.Kind, Name: r.Name, Login: r.Login, DN: r.DN, Directory: r.Directory, EntryID: r.EntryID, ResourceID: r.ResourceID, Active: r.Active, Gone: r.Gone, State: r.State}
	}
	return hits, total, nil
}
