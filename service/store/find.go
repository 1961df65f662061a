package store

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
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
			FROM resources r LEFT JOIN LATERAL (SELECT id, directory, entry_id FROM links WHERE resource_id = r.id LIMIT 1) l ON true
				LEFT JOIN LATERAL (SELECT gone FROM entries WHERE directory = l.directory AND id = l.entry_id LIMIT 1) e ON true
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

// MostCounted is how many of a list are counted. There may be more of what fits then: a
// page must not take longer for what nobody pages to.
const MostCounted = 10_000

// mostNamed is the same of a text, which all that it fits are sorted by.
const mostNamed = 2000

// Total is how many fit a query.
type Total struct {
	N       int
	AtLeast bool // there are more, which were not counted
}

// Of puts it into words: so many things of a sort.
func (t Total) Of(word string) string {
	if t.N != 1 {
		word += "s"
	}
	if t.AtLeast {
		return fmt.Sprintf("more than %d %s", t.N, word)
	}
	return fmt.Sprintf("%d %s", t.N, word)
}

// totalOf reads a count that went up to one more than most.
func totalOf(counted, most int) Total {
	return Total{min(counted, most), counted > most}
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
	// Most, where it is not 0, is how many are counted instead of the usual. Of a text that
	// more have, so many are gathered, and whoever is called so is among them.
	Most int
}

// entryState is where an entry stands. What comes first in hitState counts.
type entryState struct {
	// from drives a search for its entries e by the shortest way, and is tells of an entry
	// what that way knows already.
	from, is string
	// and is what must hold besides.
	and string
}

const (
	hasProblem = `EXISTS (SELECT FROM problems p WHERE p.directory = e.directory AND p.entry_id = e.id AND p.closed IS NULL)`
	isTied     = `EXISTS (SELECT FROM ties l WHERE l.directory = e.directory AND l.entry_id = e.id)`
	hasLeft    = `EXISTS (SELECT FROM ties l WHERE l.directory = e.directory AND l.entry_id = e.id AND l.left_at IS NOT NULL)`
	isDue      = `EXISTS (SELECT FROM ties l WHERE l.directory = e.directory AND l.entry_id = e.id AND l.due IS NOT NULL)`
	isDirty    = `EXISTS (SELECT FROM dirty d WHERE d.directory = e.directory AND d.entry_id = e.id)`

	every = `entries e`
	// The entry of each row of t, by its key: without the offset PostgreSQL would read all.
	itsEntry = ` t CROSS JOIN LATERAL (SELECT * FROM entries e WHERE e.directory = t.directory AND e.id = t.entry_id OFFSET 0) e`
	tied     = `(SELECT directory, entry_id, left_at FROM links UNION ALL SELECT f.directory, f.entry_id, l.left_at FROM followers f
		JOIN links l ON l.directory = f.lead_directory AND l.entry_id = f.lead_id WHERE NOT EXISTS (SELECT FROM links o WHERE o.directory = f.directory AND o.entry_id = f.entry_id))`
	left = `(SELECT * FROM ` + tied + ` t WHERE left_at IS NOT NULL)` + itsEntry
)

var entryStates = map[string]entryState{
	"problem":    {`(SELECT * FROM problems WHERE closed IS NULL AND entry_id IS NOT NULL)` + itsEntry, hasProblem, "true"},
	"removed":    {every, `e.gone IS NOT NULL`, `NOT ` + hasProblem + ` AND NOT ` + isTied},
	"suspended":  {left, hasLeft, `e.kind = 'user' AND NOT ` + hasProblem},
	"leaving":    {left, hasLeft, `e.kind <> 'user' AND ` + isDue + ` AND NOT ` + hasProblem},
	"left":       {left, hasLeft, `e.kind <> 'user' AND NOT ` + isDue + ` AND NOT ` + hasProblem},
	"changing":   {`dirty` + itsEntry, isDirty, `NOT ` + hasProblem + ` AND NOT ` + hasLeft + ` AND (e.gone IS NULL OR ` + isTied + `)`},
	"in-step":    {tied + itsEntry, isTied, `NOT ` + hasProblem + ` AND NOT ` + hasLeft + ` AND NOT ` + isDirty},
	"not-synced": {every, `e.gone IS NULL`, `NOT ` + isTied + ` AND NOT ` + hasProblem + ` AND NOT ` + isDirty},
}

// cloudOnly is where a resource stands that no entry has.
const cloudOnly = "cloud-only"

// Columns of a hit, over an entry e with what hitJoins ties to it.
const (
	hitLogin = `coalesce(nullif(r.login, ''), e.login, '')`
	hitState = `CASE WHEN e.id IS NULL THEN 'cloud-only' WHEN p.entry_id IS NOT NULL THEN 'problem' WHEN e.gone IS NOT NULL AND l.resource_id IS NULL THEN 'removed'
		WHEN l.left_at IS NOT NULL THEN CASE WHEN e.kind = 'user' THEN 'suspended' WHEN l.due IS NOT NULL THEN 'leaving' ELSE 'left' END WHEN d.entry_id IS NOT NULL THEN 'changing' WHEN l.resource_id IS NOT NULL THEN 'in-step' ELSE 'not-synced' END`
	// An entry that follows another and has a link of its own besides stands where that is.
	hitTie   = ` LEFT JOIN LATERAL (SELECT * FROM ties l WHERE l.directory = e.directory AND l.entry_id = e.id LIMIT 1) l ON true`
	hitJoins = hitTie + ` LEFT JOIN problems p ON p.directory = e.directory AND p.entry_id = e.id AND p.closed IS NULL LEFT JOIN dirty d ON d.directory = e.directory AND d.entry_id = e.id`
)

// all joins conditions.
func all(conditions ...string) string {
	return strings.Join(slices.DeleteFunc(conditions, func(c string) bool { return c == "" || c == "true" }), " AND ")
}

func (q FindQuery) most() int {
	if q.Text != "" {
		return cmp.Or(q.Most, mostNamed)
	}
	return cmp.Or(q.Most, MostCounted)
}

// sql is made of what is asked only, so that each page is read by the shortest way. So
// many entries are gathered as are counted. Where these are all, the page is taken of them;
// otherwise there are many, and the page is found by walking along the names.
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
		joins = hitTie + ` LEFT JOIN resources r ON r.id = l.resource_id`
	default:
		return "", problem.New(problem.BadInput, "sort %q: leave it out for the nearest first, or use name, login or state, with a minus for the other way round", q.Sort)
	}
	when := func(holds bool, condition string) string {
		if holds {
			return condition
		}
		return ""
	}
	state, known := entryStates[q.State]
	if !known {
		state = entryState{from: every, and: when(q.State != "", "false")}
	}
	// Of an entry, and of one that the way to its state has found already.
	found := all(`e.kind <> 'container'`, when(q.Kind != "", `e.kind = @kind`), state.and,
		when(q.Among != nil, `(e.directory, e.id) IN (SELECT * FROM unnest((@directories)::text[], (@entries)::text[]::uuid[]))`))
	fits := all(found, state.is)
	resources := all(`NOT EXISTS (SELECT FROM links l WHERE l.resource_id = r.id)`, when(q.Kind != "", `r.kind = @kind`), when(q.Among != nil || q.State != "" && q.State != cloudOnly, "false"))

	const columns = `e.directory, e.id, e.kind, e.name, e.login, e.gone, `
	with := `WITH `
	gathered, beside := `SELECT `+columns+`'' AS near FROM `+state.from+` WHERE `+all(found, when(state.from == every, state.is))+` LIMIT @most`, `(SELECT r.* FROM loose_resources JOIN resources r ON r.id = resource_id)`
	walk := ` UNION ALL (SELECT e.directory, e.id, '', ` + by + `, lower(e.name) FROM entries e` + joins + ` WHERE (SELECT entries FROM counted) >= @most AND ` + fits + ` ORDER BY 4` + direction + `, 5, 2 LIMIT @last)`
	if sort == "login" {
		walk = alongLogins(fits, direction)
	}
	few := ` WHERE (SELECT entries FROM counted) < @most`
	if q.Text != "" {
		gathered, beside, walk, few = `SELECT DISTINCT ON (directory, id) * FROM (`+strings.Join(called(columns, fits), " UNION ALL ")+`) e ORDER BY directory, id, near`, `found`, "", ""
		with += `found AS MATERIALIZED (SELECT r.id, r.kind, r.name, r.login, ` + fmt.Sprintf(nearness, "r") + ` AS near FROM resources r
			WHERE (` + fmt.Sprintf(contains, "r") + ` OR r.id = ANY((@ids)::text[]))` + when(q.Kind != "", ` AND r.kind = @kind`) + ` LIMIT @most), `
	}
	return with + `loose AS MATERIALIZED (SELECT r.id, ` + loose + ` AS by, lower(r.name) AS name FROM ` + beside + ` r WHERE ` + resources + `),
		gathered AS MATERIALIZED (` + gathered + `),
		counted AS MATERIALIZED (SELECT (SELECT count(*) FROM gathered) AS entries, (SELECT count(*) FROM loose) AS loose),
		page AS MATERIALIZED (SELECT * FROM (
			(SELECT e.directory, e.id, '' AS resource_id, ` + by + ` AS by, lower(e.name) AS name FROM gathered e` + joins + few + ` ORDER BY 4` + direction + `, 5, 2 LIMIT @last)` + walk + `
			UNION ALL (SELECT NULL, NULL, id, by, name FROM loose ORDER BY by` + direction + `, name, id LIMIT @last)) o
			ORDER BY by` + direction + `, name, id, resource_id OFFSET @offset LIMIT @limit)
		SELECT CASE WHEN e.id IS NULL THEN 'resource' ELSE 'entry' END AS type, coalesce(e.kind, r.kind) AS kind, coalesce(e.directory, '') AS directory, coalesce(e.id::text, '') AS entry_id,
			coalesce(r.id, l.resource_id, '') AS resource_id, coalesce(e.dn, '') AS dn, coalesce(e.name, r.name) AS name, ` + hitLogin + ` AS login, r.active, e.gone IS NOT NULL AS gone, ` + hitState + ` AS state, counted.entries + counted.loose AS total
		FROM counted LEFT JOIN page ON true LEFT JOIN entries e ON e.directory = page.directory AND e.id = page.id` + hitJoins + ` LEFT JOIN resources r ON r.id = coalesce(l.resource_id, page.resource_id)
		ORDER BY page.by` + direction + `, page.name, page.id, page.resource_id`, nil
}

// alongLogins walks along the logins of resources to the entries of those, and sorts who
// has no resource with a login.
func alongLogins(fits, direction string) string {
	return ` UNION ALL (SELECT e.directory, e.id, '', r.login, lower(e.name) FROM resources r CROSS JOIN LATERAL (SELECT * FROM ties WHERE resource_id = r.id OFFSET 0)` + itsEntry + `
			WHERE r.kind = 'user' AND (SELECT entries FROM counted) >= @most AND ` + fits + ` ORDER BY 4` + direction + `, 5, 2 LIMIT @last)
		UNION ALL (SELECT e.directory, e.id, '', coalesce(e.login, ''), lower(e.name) FROM entries e WHERE (SELECT entries FROM counted) >= @most AND ` + fits + `
			AND (NOT ` + isTied + ` OR e.kind <> 'user') ORDER BY 4` + direction + `, 5, 2 LIMIT @last)`
}

const (
	// strpos is the faster one; of LIKE the planner knows how much it keeps, and an index
	// of parts finds it; see IndexParts.
	contains = `(strpos(%[1]s.search, @text) > 0 AND %[1]s.search LIKE @pattern)`
	// A line of what is searched that is the text, begins with it, or has it somewhere.
	nearness = `CASE WHEN strpos(E'\n' || %[1]s.search || E'\n', E'\n' || @text || E'\n') > 0 THEN '0' WHEN strpos(E'\n' || %[1]s.search, E'\n' || @text) > 0 THEN '1' ELSE '2' END`
)

// called are the ways to the entries that a text means, each to so many as are counted: by
// what is searched of themselves or of their resource, and by the indexes of names and
// logins, so that whoever is called so is among many.
func called(columns, fits string) []string {
	near := fmt.Sprintf(nearness, "e") + ` AS near FROM entries e`
	begins := func(column, indexed string) string {
		return `(SELECT ` + columns + near + ` WHERE ` + all(column+` >= @text AND `+column+` < @text || U&'\+10FFFD'`, indexed, fits) + ` ORDER BY ` + column + ` LIMIT @last)`
	}
	return []string{
		`(SELECT ` + columns + near + ` WHERE (` + fmt.Sprintf(contains, "e") + ` OR e.id = ANY((@ids)::text[]::uuid[])) AND ` + fits + ` LIMIT @most)`,
		`(SELECT ` + columns + `found.near FROM found CROSS JOIN LATERAL (SELECT * FROM ties WHERE resource_id = found.id OFFSET 0)` + itsEntry + ` WHERE ` + fits + ` LIMIT @most)`,
		begins(`lower(e.name)`, ""),
		begins(`lower(e.login)`, `e.login <> ''`),
	}
}

// Find searches entries and resources by name, login, address or id, and tells
// how many fit.
func (s Search) Find(ctx context.Context, q FindQuery) ([]Hit, Total, error) {
	if sort, descending := strings.CutPrefix(q.Sort, "-"); sort == "state" {
		return s.byState(ctx, q, descending)
	}
	sql, err := q.sql()
	if err != nil {
		return nil, Total{}, err
	}
	directories, entries := refArrays(q.Among)
	most := q.most()
	var rows []struct {
		Hit
		Total int
	}
	if err := s.raw(ctx, sql, map[string]any{
		"text": strings.ToLower(q.Text), "ids": idArray(q.IDs), "kind": q.Kind, "directories": directories, "entries": entries, "offset": q.Offset, "limit": q.Limit, "pattern": like(strings.ToLower(q.Text)), "last": q.Offset + q.Limit, "most": most + 1,
	}).Scan(&rows).Error; err != nil {
		return nil, Total{}, err
	}
	hits := make([]Hit, 0, len(rows))
	for _, r := range rows {
		if r.EntryID+r.ResourceID != "" { // past the end there is a total only
			hits = append(hits, r.Hit)
		}
	}
	return hits, totalOf(rows[0].Total, most), nil
}

// byState lists objects by where they stand, and by name within: one state after another,
// since the states of all would have to be found out to sort by them.
func (s Search) byState(ctx context.Context, q FindQuery, descending bool) ([]Hit, Total, error) {
	states := append(slices.Collect(maps.Keys(entryStates)), cloudOnly)
	if slices.Sort(states); descending {
		slices.Reverse(states)
	}
	if q.State != "" {
		states = []string{q.State}
	}
	var hits []Hit
	before, most := 0, q.most()
	for _, state := range states {
		of := q
		of.State, of.Sort, of.Offset, of.Limit = state, "name", max(q.Offset-before, 0), q.Limit-len(hits)
		found, total, err := s.Find(ctx, of)
		if err != nil {
			return nil, Total{}, err
		}
		hits, before = append(hits, found...), before+total.N
		if total.AtLeast || before > most {
			return hits, Total{most, true}, nil
		}
	}
	return hits, Total{N: before}, nil
}
