package store

import (
	"context"
	"fmt"
	"strings"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/problem"
)

// Search finds and counts objects of both mirrors.
type Search struct{ *session }

// Hit is one object that was found.
type Hit struct {
	Type       string // entry or resource
	Kind       string
	Name       string
	Login      string
	DN         string `gorm:"column:dn"`
	Directory  string
	EntryID    string
	ResourceID string
	Active     *bool
	Gone       bool
	State      string // where it stands: the keys of entryStates, and cloud-only
}

// What is looked for by a name.
type Wanted int

// Whom a name means first.
const (
	AnyObject Wanted = iota
	AnEntry
	AResource
)

// Exact finds the one object whose entry id, resource id, distinguished name or login is
// exactly the text, by index, and others that are called so too. Ids come before names,
// the living before the gone, and entries before resources unless those are wanted. It
// is false when there is none, or several that are equally near.
func (s Search) Exact(ctx context.Context, text string, ids []entry.ID, wanted Wanted) (Hit, []Hit, bool, error) {
	path := ""
	if dn, err := entry.ParseDN(text); err == nil {
		path = dn.Path()
	}
	return s.nearest(ctx, `
		SELECT directory, id::text AS entry_id, '' AS resource_id, CASE WHEN gone IS NULL THEN 0 ELSE 3 END AS rank FROM entries WHERE id = ANY((@ids)::text[]::uuid[]) AND kind <> 'container'
		UNION ALL SELECT directory, id::text, '', CASE WHEN gone IS NULL THEN 1 ELSE 4 END FROM entries WHERE @path <> '' AND path = @path AND kind <> 'container' AND directory IN (SELECT directory FROM directory_states)
		UNION ALL SELECT directory, id::text, '', CASE WHEN gone IS NULL THEN 1 ELSE 4 END FROM entries WHERE lower(login) = lower(@text) AND login <> '' AND kind <> 'container'
		UNION ALL SELECT coalesce(l.directory, ''), coalesce(l.entry_id::text, ''), CASE WHEN l.id IS NULL OR @resource THEN r.id ELSE '' END,
			CASE WHEN @resource OR r.id = @text THEN 0 WHEN l.id IS NULL THEN 2 WHEN e.gone IS NULL THEN 1 ELSE 3 END
			FROM resources r LEFT JOIN links l ON l.resource_id = r.id LEFT JOIN entries e ON e.directory = l.directory AND e.id = l.entry_id
			WHERE r.keys && ARRAY['userName=' || lower(@text)] OR r.id = @text OR r.id = ANY((@ids)::text[])`,
		map[string]any{"ids": idArray(ids), "path": path, "text": text, "resource": wanted == AResource}, wanted)
}

// Former finds the object that had a login or a distinguished name once, as far as
// changes tell; it looks at all of them.
func (s Search) Former(ctx context.Context, text string) (Hit, []Hit, bool, error) {
	return s.nearest(ctx, `SELECT DISTINCT c.directory, c.entry_id::text AS entry_id, '' AS resource_id, CASE WHEN e.gone IS NULL THEN 0 ELSE 1 END AS rank
		FROM changes c JOIN entries e ON e.directory = c.directory AND e.id = c.entry_id WHERE lower(c.dn) = lower(@text) OR 'logins userName' = ANY(c.losses) AND c.state = 'done'
			AND EXISTS (SELECT FROM jsonb_array_elements(c.diffs) d WHERE d->>'target' = 'userName' AND lower(d->>'before') = lower(@text))`, map[string]any{"text": text}, AnyObject)
}

// nearest chooses among objects by their ranks.
func (s Search) nearest(ctx context.Context, query string, args map[string]any, wanted Wanted) (Hit, []Hit, bool, error) {
	var rows []struct {
		Directory, EntryID, ResourceID string
		Rank                           int
	}
	if err := s.raw(ctx, `SELECT directory, entry_id, resource_id, min(rank) AS rank FROM (`+query+`) o GROUP BY 1, 2, 3 ORDER BY 4, 1, 2, 3 LIMIT 10`, args).Scan(&rows).Error; err != nil {
		return Hit{}, nil, false, err
	}
	var hits []Hit
	var ranks []int
	for _, row := range rows {
		hit := Hit{Type: "entry", Directory: row.Directory, EntryID: row.EntryID, ResourceID: row.ResourceID, Gone: row.Rank > 2}
		if row.EntryID == "" {
			hit.Type = "resource"
		}
		if wanted == AnEntry && hit.Type == "resource" {
			continue
		}
		hits, ranks = append(hits, hit), append(ranks, row.Rank)
	}
	if len(hits) == 0 || len(hits) > 1 && ranks[0] == ranks[1] {
		return Hit{}, nil, false, nil
	}
	return hits[0], hits[1:], true, nil
}

// Named completes a hit of which the ids are known.
func (s Search) Named(ctx context.Context, hit Hit) (Hit, error) {
	q := FindQuery{Limit: 1, Text: hit.ResourceID}
	if hit.EntryID != "" {
		ref, err := refOf(hit.Directory, hit.EntryID)
		if err != nil {
			return hit, err
		}
		q = FindQuery{Limit: 1, Among: []entry.Ref{ref}}
	}
	found, _, err := s.Find(ctx, q)
	if err != nil || len(found) == 0 {
		return hit, err
	}
	return found[0], nil
}

// FindQuery searches objects.
type FindQuery struct {
	Text string
	IDs  []entry.ID // the text read as an id, in every reading
	// Among, where it is not nil, are the only entries that are looked for.
	Among  []entry.Ref
	State  string
	Kind   string // of entries; "" for all
	Sort   string // name, -name, login, -login, state, -state
	Offset int
	Limit  int
	// Most, where it is not 0, is how many are gathered of a text that many have: those whose
	// names or logins begin with it are among them. There may be more then.
	Most int
}

// Where an entry stands. What comes first in this order counts.
const (
	hasProblem = `EXISTS (SELECT FROM problems p WHERE p.directory = e.directory AND p.entry_id = e.id AND p.closed IS NULL)`
	isLinked   = `EXISTS (SELECT FROM links l WHERE l.directory = e.directory AND l.entry_id = e.id)`
	follows    = `EXISTS (SELECT FROM followers j JOIN links l ON l.directory = j.lead_directory AND l.entry_id = j.lead_id WHERE j.directory = e.directory AND j.entry_id = e.id)`
	isTied     = `(` + isLinked + ` OR ` + follows + `)`
	notTied    = `(NOT ` + isLinked + ` AND NOT ` + follows + `)`
	hasLeft    = `EXISTS (SELECT FROM ties l WHERE l.directory = e.directory AND l.entry_id = e.id AND l.left_at IS NOT NULL)`
	isDue      = `EXISTS (SELECT FROM ties l WHERE l.directory = e.directory AND l.entry_id = e.id AND l.due IS NOT NULL)`
	isDirty    = `EXISTS (SELECT FROM dirty d WHERE d.directory = e.directory AND d.entry_id = e.id)`
)

var entryStates = map[string]string{
	"problem":    hasProblem,
	"removed":    `e.gone IS NOT NULL AND NOT ` + hasProblem + ` AND ` + notTied,
	"suspended":  hasLeft + ` AND e.kind = 'user' AND NOT ` + hasProblem,
	"leaving":    hasLeft + ` AND e.kind <> 'user' AND ` + isDue + ` AND NOT ` + hasProblem,
	"left":       hasLeft + ` AND e.kind <> 'user' AND NOT ` + isDue + ` AND NOT ` + hasProblem,
	"changing":   isDirty + ` AND NOT ` + hasProblem + ` AND NOT ` + hasLeft + ` AND (e.gone IS NULL OR ` + isTied + `)`,
	"in-step":    isTied + ` AND NOT ` + hasProblem + ` AND NOT ` + hasLeft + ` AND NOT ` + isDirty,
	"not-synced": `e.gone IS NULL AND ` + notTied + ` AND NOT ` + hasProblem + ` AND NOT ` + isDirty,
}

// Columns of a hit, over an entry e with what hitJoins ties to it.
const (
	hitLogin = `coalesce(nullif(r.login, ''), e.login, '')`
	hitState = `CASE WHEN e.id IS NULL THEN 'cloud-only' WHEN p.entry_id IS NOT NULL THEN 'problem' WHEN e.gone IS NOT NULL AND l.resource_id IS NULL THEN 'removed'
		WHEN l.left_at IS NOT NULL THEN CASE WHEN e.kind = 'user' THEN 'suspended' WHEN l.due IS NOT NULL THEN 'leaving' ELSE 'left' END WHEN d.entry_id IS NOT NULL THEN 'changing' WHEN l.resource_id IS NOT NULL THEN 'in-step' ELSE 'not-synced' END`
	hitJoins = `LEFT JOIN ties l ON l.directory = e.directory AND l.entry_id = e.id
		LEFT JOIN problems p ON p.directory = e.directory AND p.entry_id = e.id AND p.closed IS NULL LEFT JOIN dirty d ON d.directory = e.directory AND d.entry_id = e.id`
)

// sql is made of what is asked only, so that each page is read by the
// shortest way: the first ones in order of names by index, and what stands
// beside an object for the page alone.
func (q FindQuery) sql() (string, error) {
	sort, descending := strings.CutPrefix(q.Sort, "-")
	direction := ""
	if descending {
		direction = " DESC"
	}
	by, joins, loose := `lower(e.name)`, "", `lower(r.name)`
	switch sort {
	case "":
		if q.Text != "" { // whoever is called just so, then those that are there
			by, loose = `e.near || CASE WHEN e.gone IS NULL THEN '0' ELSE '1' END || lower(e.name)`, `r.near || '0' || lower(r.name)`
		}
	case "name":
	case "login":
		by, loose = hitLogin, `r.login`
		joins = ` LEFT JOIN ties l ON l.directory = e.directory AND l.entry_id = e.id LEFT JOIN resources r ON r.id = l.resource_id`
	case "state":
		by, loose, joins = hitState, `'cloud-only'`, " "+hitJoins
	default:
		return "", problem.New(problem.BadInput, "sort %q: leave it out for the nearest first, or use name, login or state, with a minus for the other way round", q.Sort)
	}
	entries, resources := []string{`e.kind <> 'container'`}, []string{`NOT EXISTS (SELECT FROM links l WHERE l.resource_id = r.id)`}
	and := func(conditions *[]string, holds bool, condition string) {
		if holds {
			*conditions = append(*conditions, condition)
		}
	}
	and(&entries, q.Kind != "", `e.kind = @kind`)
	and(&resources, q.Kind != "", `r.kind = @kind`)
	and(&entries, q.Among != nil, `(e.directory, e.id) IN (SELECT * FROM unnest((@directories)::text[], (@entries)::text[]::uuid[]))`)
	and(&entries, q.State != "" && q.State != "cloud-only", entryStates[q.State])
	and(&entries, q.State == "cloud-only", "false")
	and(&resources, q.Among != nil || q.State != "" && q.State != "cloud-only", "false")
	with, from, beside := `WITH `, ` FROM entries e`, `resources`
	if q.Text != "" {
		// strpos is the faster one; of LIKE the planner knows how much it keeps.
		contains := `(strpos(%[1]s.search, @text) > 0 AND %[1]s.search LIKE @pattern)`
		// A line of what is searched that is the text, begins with it, or has it somewhere.
		near := `CASE WHEN strpos(E'\n' || %[1]s.search || E'\n', E'\n' || @text || E'\n') > 0 THEN '0' WHEN strpos(E'\n' || %[1]s.search, E'\n' || @text) > 0 THEN '1' ELSE '2' END`
		const columns = `e.directory, e.id, e.kind, e.name, e.login, e.gone`
		some, each, called, once := "", `SELECT * FROM `, "", ""
		if q.Most > 0 {
			// Whoever is called so is found by the indexes of names and logins.
			begins := func(column, indexed string) string {
				return ` UNION ALL (SELECT ` + columns + `, ` + fmt.Sprintf(near, "e") + ` FROM entries e WHERE ` + column + ` >= @text AND ` + column + ` < @text || U&'\+10FFFD' AND e.kind <> 'container'` + indexed + ` ORDER BY ` + column + ` LIMIT @limit)`
			}
			some, each = ` LIMIT @most`, `SELECT DISTINCT ON (directory, id) * FROM `
			once = ` ORDER BY directory, id, near`
			called = begins(`lower(e.name)`, "") + begins(`lower(e.login)`, ` AND e.login <> ''`)
		}
		with += `found AS MATERIALIZED (SELECT r.id, r.kind, r.name, r.login, ` + fmt.Sprintf(near, "r") + ` AS near FROM resources r WHERE ` + fmt.Sprintf(contains, "r") + ` OR r.id = ANY((@ids)::text[])` + some + `),
			fitting AS MATERIALIZED (` + each + `((SELECT ` + columns + `, least(` + fmt.Sprintf(near, "e") + `, t.near) AS near FROM entries e
				LEFT JOIN (SELECT l.directory, l.entry_id, found.near FROM found JOIN ties l ON l.resource_id = found.id) t ON t.directory = e.directory AND t.entry_id = e.id
				WHERE ` + fmt.Sprintf(contains, "e") + ` OR e.id = ANY((@ids)::text[]::uuid[]) OR t.entry_id IS NOT NULL` + some + `)` + called + `) f` + once + `), `
		from, beside = ` FROM fitting e`, `found`
	}
	fits := ` WHERE ` + strings.Join(entries, " AND ")
	return with + `loose AS MATERIALIZED (SELECT r.id, ` + loose + ` AS by, lower(r.name) AS name FROM ` + beside + ` r WHERE ` + strings.Join(resources, " AND ") + `),
		counted AS MATERIALIZED (SELECT (SELECT count(*) FROM loose) + (SELECT count(*)` + from + fits + `) AS total),
		page AS MATERIALIZED (SELECT * FROM (
			(SELECT e.directory, e.id, '' AS resource_id, ` + by + ` AS by, lower(e.name) AS name` + from + joins + fits + ` ORDER BY 4` + direction + `, 5, 2 LIMIT @last)
			UNION ALL (SELECT NULL, NULL, id, by, name FROM loose ORDER BY by` + direction + `, name, id LIMIT @last)) o
			ORDER BY by` + direction + `, name, id, resource_id OFFSET @offset LIMIT @limit)
		SELECT CASE WHEN e.id IS NULL THEN 'resource' ELSE 'entry' END AS type, coalesce(e.kind, r.kind) AS kind, coalesce(e.directory, '') AS directory, coalesce(e.id::text, '') AS entry_id,
			coalesce(r.id, l.resource_id, '') AS resource_id, coalesce(e.dn, '') AS dn, coalesce(e.name, r.name) AS name, ` + hitLogin + ` AS login, r.active, e.gone IS NOT NULL AS gone, ` + hitState + ` AS state, total
		FROM counted LEFT JOIN page ON true LEFT JOIN entries e ON e.directory = page.directory AND e.id = page.id ` + hitJoins + ` LEFT JOIN resources r ON r.id = coalesce(l.resource_id, page.resource_id)
		ORDER BY page.by` + direction + `, page.name, page.id, page.resource_id`, nil
}

// Find searches entries and resources by name, login, address or id, and tells
// how many fit.
func (s Search) Find(ctx context.Context, q FindQuery) ([]Hit, int, error) {
	sql, err := q.sql()
	if err != nil {
		return nil, 0, err
	}
	directories, entries := refArrays(q.Among)
	var rows []struct {
		Hit
		Total int
	}
	if err := s.raw(ctx, sql, map[string]any{
		"text": strings.ToLower(q.Text), "ids": idArray(q.IDs), "kind": q.Kind, "directories": directories, "entries": entries, "offset": q.Offset, "limit": q.Limit, "pattern": like(strings.ToLower(q.Text)), "last": q.Offset + q.Limit, "most": q.Most,
	}).Scan(&rows).Error; err != nil {
		return nil, 0, err
	}
	hits := make([]Hit, 0, len(rows))
	for _, r := range rows {
		if r.EntryID+r.ResourceID != "" { // past the end there is a total only
			hits = append(hits, r.Hit)
		}
	}
	return hits, rows[0].Total, nil
}
