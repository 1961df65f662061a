package store

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"kambrel.example/kambrel/core/about"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/problem"
)

// Problem is a problem as it is kept.
type Problem struct {
	ID int64
	NewProblem
	// Name is what people call the thing: a distinguished name, the name of an agent.
	Name string
	// Ref and ResourceID are of an entry, and of the resource that it is linked to.
	Ref        entry.Ref
	ResourceID string
	Kind       entry.Kind // of the entry
	MetBy      MetBy
	Since, Met time.Time
	FirstRun   int64
	LastRun    int64
	Times      int
	Closed     *time.Time
	Closing    string
	ClosedRun  int64
	Marks      Marks
}

// Asleep tells whether it stands behind the others for now.
func (p Problem) Asleep() bool { return p.Marks.Asleep != nil && p.Marks.Asleep.After(time.Now()) }

type problemRow struct {
	ID                                                     int64
	About, Subject, Directory, Code, Detail, Name, Closing string
	EntryID, ResourceID, Kind                              string
	Source                                                 MetBy
	Facts                                                  []byte
	Since, Met                                             time.Time
	Closed                                                 *time.Time
	FirstRun, LastRun, ClosedRun                           int64
	Assigned, Note, MarkedBy                               string
	Asleep, Marked                                         *time.Time
	Times                                                  int
}

func (r problemRow) problem() (Problem, error) {
	p := Problem{ID: r.ID, Name: r.Name, ResourceID: r.ResourceID, Kind: entry.Kind(r.Kind), MetBy: r.Source, Since: r.Since, Met: r.Met, FirstRun: r.FirstRun, LastRun: r.LastRun, Times: r.Times, Closed: r.Closed, Closing: r.Closing, ClosedRun: r.ClosedRun,
		Marks:      Marks{Assigned: r.Assigned, Note: r.Note, Asleep: r.Asleep, By: r.MarkedBy, At: r.Marked},
		NewProblem: NewProblem{About: about.Thing{Type: about.Type(r.About), Key: r.Subject}, Code: problem.Code(r.Code), Detail: r.Detail}}
	if err := json.Unmarshal(r.Facts, &p.Facts); err != nil {
		return p, fmt.Errorf("facts of problem %d: %w", r.ID, err)
	}
	var err error
	if r.EntryID != "" {
		p.Ref, err = refOf(r.Directory, r.EntryID)
	}
	return p, err
}

const problemSelect = `SELECT p.id, p.about, p.subject, p.directory, coalesce(p.entry_id::text, '') AS entry_id, p.code, p.facts, p.detail, p.source, p.since, p.met, p.first_run, p.last_run, p.times, p.closed, p.closing, p.closed_run, p.assigned, p.note, p.asleep, p.marked_by, p.marked,
		coalesce(e.dn, a.name, CASE WHEN p.about = 'cloud-group' THEN (SELECT r.name || ' in ' || split_part(p.subject, '/', 1) FROM resources r WHERE r.id = substr(p.subject, strpos(p.subject, '/') + 1)) END, p.subject) AS name, coalesce(l.resource_id, '') AS resource_id, coalesce(e.kind, '') AS kind
	FROM problems p LEFT JOIN entries e ON e.directory = p.directory AND e.id = p.entry_id LEFT JOIN links l ON l.directory = p.directory AND l.entry_id = p.entry_id
	LEFT JOIN agents a ON p.about = 'agent' AND a.id::text = p.subject`

func (s Problems) list(ctx context.Context, where string, args ...any) ([]Problem, error) {
	var rows []problemRow
	if err := s.raw(ctx, problemSelect+" "+where, args...).Scan(&rows).Error; err != nil {
		return nil, err
	}
	out := make([]Problem, len(rows))
	for i, row := range rows {
		var err error
		if out[i], err = row.problem(); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// ProblemQuery chooses problems.
type ProblemQuery struct {
	Code   string
	Type   about.Type // of what they are about
	Key    string     // of what they are about, with Type
	Closed bool       // those that were closed, the last first, else the open ones, the newest first
	// In chooses what a run has done with it: those that it has opened, closed, or met again.
	In       RunShare
	Run      int64  // with In
	Assigned string // to whom
	Asleep   *bool  // whether it sleeps
	Text     string // part of the name or of the detail
	Offset   int
	Limit    int
}

// RunShare is what a run has to do with a problem.
type RunShare string

// What a run has to do with problems: it has opened them, it has closed them, or they were
// there before and stand.
const (
	Opened   RunShare = "new"
	Gone     RunShare = "gone"
	Standing RunShare = "standing"
)

// shares chooses by RunShare; each takes the number of the run twice.
var shares = map[RunShare]string{
	Opened:   ` AND p.first_run = ? AND p.closed_run <> ?`,
	Gone:     ` AND p.closed_run = ? AND p.first_run <> ?`,
	Standing: ` AND p.closed IS NULL AND p.first_run <> ? AND p.first_run < ?`,
}

// where is the query as a condition over problemSelect.
func (q ProblemQuery) where() (string, []any) {
	where := `WHERE ? IN ('', p.code) AND ? IN ('', p.about) AND (? = '' OR p.subject = ?)`
	args := []any{q.Code, string(q.Type), q.Key, q.Key}
	if q.In != "" {
		return where + shares[q.In], append(args, q.Run, q.Run)
	}
	where, args = where+` AND (p.closed IS NOT NULL) = ?`, append(args, q.Closed)
	if q.Assigned != "" {
		where, args = where+` AND p.assigned = ?`, append(args, q.Assigned)
	}
	if q.Asleep != nil {
		where, args = where+` AND `+asleepNow+` = ?`, append(args, *q.Asleep)
	}
	if q.Text != "" {
		where += ` AND (p.detail ILIKE ? OR p.subject ILIKE ? OR EXISTS (SELECT FROM entries n WHERE n.directory = p.directory AND n.id = p.entry_id AND n.dn ILIKE ?))`
		args = append(args, like(q.Text), like(q.Text), like(q.Text))
	}
	return where, args
}

// asleepNow tells whether a problem p sleeps.
const asleepNow = `coalesce(p.asleep > now(), false)`

// List lists problems, and how many there are.
func (s Problems) List(ctx context.Context, q ProblemQuery) ([]Problem, int, error) {
	where, args := q.where()
	var total int
	if err := s.raw(ctx, `SELECT count(*) FROM problems p `+where, args...).Scan(&total).Error; err != nil {
		return nil, 0, err
	}
	order := ` ORDER BY ` + asleepNow + `, p.since DESC, p.id DESC`
	if q.Closed || q.In == Gone {
		order = ` ORDER BY p.closed DESC, p.id DESC`
	}
	list, err := s.list(ctx, where+order+` OFFSET ? LIMIT ?`, append(args, q.Offset, q.Limit)...)
	return list, total, err
}

// OfEntry returns the open problem of an entry.
func (s Problems) OfEntry(ctx context.Context, ref entry.Ref) (Problem, bool, error) {
	list, err := s.list(ctx, `WHERE p.directory = ? AND p.entry_id = ? AND p.closed IS NULL`, ref.Directory, ref.ID.String())
	if err != nil || len(list) == 0 {
		return Problem{}, false, err
	}
	return list[0], true, nil
}

// Standing lists the open problems of what is no entry, nor a group in a directory; these
// are few.
func (s Problems) Standing(ctx context.Context) ([]Problem, error) {
	return s.list(ctx, `WHERE p.closed IS NULL AND p.about NOT IN ('entry', 'cloud-group') ORDER BY p.since, p.id`)
}

// CodeCount is how many open problems of entries have a code.
type CodeCount struct {
	Code   problem.Code
	Count  int
	Asleep int // of them
}

// CountByCode counts the open problems of entries and of groups in directories by code, the most frequent first.
func (s Problems) CountByCode(ctx context.Context) ([]CodeCount, error) {
	var counts []CodeCount
	return counts, s.raw(ctx, `SELECT p.code, count(*) AS count, count(*) FILTER (WHERE `+asleepNow+`) AS asleep FROM problems p WHERE p.closed IS NULL AND p.about IN ('entry', 'cloud-group') GROUP BY 1 ORDER BY 2 DESC, 1`).Scan(&counts).Error
}

// Get returns one problem, open or closed.
func (s Problems) Get(ctx context.Context, id int64) (Problem, error) {
	list, err := s.list(ctx, `WHERE p.id = ?`, id)
	if err == nil && len(list) == 0 {
		err = ErrNotFound
	}
	if err != nil {
		return Problem{}, err
	}
	return list[0], nil
}

// ProblemCounts is how many problems a run has opened and closed, and how many of those
// before it stand.
type ProblemCounts struct{ New, Gone, Standing int }

// CountOf counts the problems of a run.
func (s Problems) CountOf(ctx context.Context, run int64) (ProblemCounts, error) {
	var counts ProblemCounts
	for _, part := range []struct {
		share RunShare
		into  *int
	}{{Opened, &counts.New}, {Gone, &counts.Gone}, {Standing, &counts.Standing}} {
		if err := s.raw(ctx, `SELECT count(*) FROM problems p WHERE true`+shares[part.share], run, run).Scan(part.into).Error; err != nil {
			return counts, err
		}
	}
	return counts, nil
}

// ProblemGroup is all open problems that have one code.
type ProblemGroup struct {
	Code     problem.Code
	Count    int
	Asleep   int // of them
	Assigned int
	Newest   time.Time
	Since    time.Time    // of the oldest
	Days     []ProblemDay `gorm:"-"`
}

// ProblemDay is how many problems of a code were opened and closed on a day, in UTC.
type ProblemDay struct {
	Code           problem.Code
	Day            time.Time
	Opened, Closed int
}

// Groups gathers the open problems by code, the most frequent first, with what came and
// went on each day since a time. Codes of which all problems were closed since have a
// group too, of none.
func (s Problems) Groups(ctx context.Context, since time.Time) ([]ProblemGroup, error) {
	var groups []ProblemGroup
	if err := s.raw(ctx, `SELECT p.code, count(*) FILTER (WHERE p.closed IS NULL) AS count, count(*) FILTER (WHERE p.closed IS NULL AND `+asleepNow+`) AS asleep,
			count(*) FILTER (WHERE p.closed IS NULL AND p.assigned <> '') AS assigned, max(p.since) AS newest, coalesce(min(p.since) FILTER (WHERE p.closed IS NULL), min(p.since)) AS since
		FROM problems p WHERE p.closed IS NULL OR p.closed >= ? GROUP BY p.code ORDER BY 2 DESC, 1`, since).Scan(&groups).Error; err != nil {
		return nil, err
	}
	days, err := s.Days(ctx, since)
	for i := range groups {
		for _, day := range days {
			if day.Code == groups[i].Code {
				groups[i].Days = append(groups[i].Days, day)
			}
		}
	}
	return groups, err
}

// Days counts what was opened and closed on each day since a time, by code.
func (s Problems) Days(ctx context.Context, since time.Time) ([]ProblemDay, error) {
	var days []ProblemDay
	return days, s.raw(ctx, `SELECT code, day, sum(opened) AS opened, sum(closed) AS closed FROM (
			SELECT code, date_trunc('day', since AT TIME ZONE 'UTC') AS day, count(*) AS opened, 0 AS closed FROM problems WHERE since >= ? GROUP BY 1, 2
			UNION ALL SELECT code, date_trunc('day', closed AT TIME ZONE 'UTC'), 0, count(*) FROM problems WHERE closed >= ? GROUP BY 1, 2
		) d GROUP BY code, day ORDER BY day, code`, since, since).Scan(&days).Error
}

// OpenOn tells how many problems were open at each of some times.
func (s Problems) OpenOn(ctx context.Context, times []time.Time) ([]int, error) {
	texts := make(textArray, len(times))
	for i := range times {
		texts[i] = instant(&times[i])
	}
	var open []int
	return open, s.raw(ctx, `SELECT (SELECT count(*) FROM problems p WHERE p.since <= t AND (p.closed IS NULL OR p.closed > t)) FROM unnest(?::text[]::timestamptz[]) WITH ORDINALITY AS x(t, n) ORDER BY n`, texts).Scan(&open).Error
}
