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

// Problems are what keeps things from being in step, with a history that keeps the
// closed ones.
type Problems struct{ *session }

// MetBy is who meets a problem, and so who can tell that its cause is gone.
type MetBy string

// Who meets problems.
const (
	MetByPlan  MetBy = "plan"  // decided about an entry, or answered for it
	MetByRun   MetBy = "run"   // ended a run
	MetByWatch MetBy = "watch" // how things stand, whatever runs
)

// NewProblem is a problem that was met.
type NewProblem struct {
	About  about.Thing
	Code   problem.Code
	Facts  problem.Facts
	Detail string
}

// ProblemOf is what to keep of a problem that something has.
func ProblemOf(thing about.Thing, p *problem.Error) NewProblem {
	return NewProblem{About: thing, Code: p.Code, Facts: p.Facts, Detail: p.Detail}
}

// Why a problem was closed.
const (
	ClosedGone     = "the cause is gone"
	ClosedReplaced = "another problem took its place"
	ClosedTaken    = "the directory was taken away"
)

// Save opens problems, or notes that they were met again: once for each
// run, where one is given. An entry has one problem at a time, the first that is
// given, and so has what runs end by. It belongs into a transaction.
func (s Problems) Save(ctx context.Context, source MetBy, run int64, problems []NewProblem) error {
	if len(problems) == 0 {
		return nil
	}
	type key struct {
		about.Thing
		problem.Code
	}
	var types, subjects, directories, ids, codes, facts, details textArray
	seen := map[key]bool{}
	for _, p := range problems {
		is := key{p.About, p.Code}
		directory, id := "", ""
		if p.About.Type == about.Entry {
			is.Code = ""
			ref, err := entry.ParseRef(p.About.Key)
			if err != nil {
				return fmt.Errorf("problem %s: %w", p.Code, err)
			}
			directory, id = ref.Directory, ref.ID.String()
		}
		if seen[is] {
			continue
		}
		seen[is] = true
		text, err := json.Marshal(p.Facts)
		if err != nil {
			return err
		}
		types, subjects, directories, ids = append(types, string(p.About.Type)), append(subjects, p.About.Key), append(directories, directory), append(ids, id)
		codes, facts, details = append(codes, string(p.Code)), append(facts, string(text)), append(details, p.Detail)
	}
	if _, err := s.exec(ctx, `UPDATE problems p SET closed = now(), closing = ? FROM unnest(?::text[], ?::text[], ?::text[]) AS t(a, s, c)
		WHERE p.about = a AND p.subject = s AND p.code <> c AND p.closed IS NULL AND (a = 'entry' OR p.source = 'run' AND ? = 'run')`, ClosedReplaced, types, subjects, codes, string(source)); err != nil {
		return err
	}
	_, err := s.exec(ctx, `INSERT INTO problems AS p (about, subject, directory, entry_id, code, facts, detail, source, first_run, last_run)
		SELECT a, s, d, nullif(i, '')::uuid, c, f::jsonb, t, ?, ?, ? FROM unnest(?::text[], ?::text[], ?::text[], ?::text[], ?::text[], ?::text[], ?::text[]) AS x(a, s, d, i, c, f, t)
		ON CONFLICT (about, subject, code) WHERE closed IS NULL DO UPDATE SET times = CASE WHEN p.last_run = 0 OR excluded.last_run IN (0, p.last_run) THEN p.times ELSE p.times + 1 END,
			first_run = CASE WHEN p.first_run = 0 THEN excluded.first_run ELSE p.first_run END, met = now(), facts = excluded.facts, detail = excluded.detail, source = excluded.source, last_run = greatest(p.last_run, excluded.last_run)`,
		string(source), run, run, types, subjects, directories, ids, codes, facts, details)
	return err
}

// Close closes the problems of entries whose cause is gone.
func (s Problems) Close(ctx context.Context, refs []entry.Ref) error {
	if len(refs) == 0 {
		return nil
	}
	directories, ids := refArrays(refs)
	_, err := s.exec(ctx, `UPDATE problems SET closed = now(), closing = ? FROM unnest(?::text[], ?::text[]::uuid[]) AS t(d, i)
		WHERE directory = d AND entry_id = i AND closed IS NULL`, ClosedGone, directories, ids)
	return err
}

// CloseOfRuns closes what runs have met, since one has come to its end, but for what
// directories have that it has left out.
func (s Problems) CloseOfRuns(ctx context.Context, without []string) error {
	_, err := s.exec(ctx, `UPDATE problems SET closed = now(), closing = ? WHERE source = 'run' AND closed IS NULL AND NOT (about = 'directory' AND subject = ANY(?::text[]))`, ClosedGone, textArray(without))
	return err
}

// IsAway tells whether the directory is known to be one that nobody can read.
func (s Problems) IsAway(ctx context.Context, directory string) (bool, error) {
	var away bool
	return away, s.raw(ctx, `SELECT EXISTS (SELECT FROM problems WHERE about = 'directory' AND subject = ? AND code IN (?, ?) AND closed IS NULL)`,
		directory, problem.AgentOffline, problem.DirectoryNotServed).Scan(&away).Error
}

// Watched keeps how things stand: opens the problems that are new, and closes the
// others that were met in this way before.
func (s Problems) Watched(ctx context.Context, standing []NewProblem) error {
	return s.Tx(ctx, func(tx *Store) error {
		if err := tx.Problems.Save(ctx, MetByWatch, 0, standing); err != nil {
			return err
		}
		var types, subjects, codes textArray
		for _, p := range standing {
			types, subjects, codes = append(types, string(p.About.Type)), append(subjects, p.About.Key), append(codes, string(p.Code))
		}
		_, err := tx.exec(ctx, `UPDATE problems p SET closed = now(), closing = ? WHERE source = 'watch' AND closed IS NULL
			AND NOT EXISTS (SELECT FROM unnest(?::text[], ?::text[], ?::text[]) AS t(a, s, c) WHERE p.about = a AND p.subject = s AND p.code = c)`, ClosedGone, types, subjects, codes)
		return err
	})
}

// closeOf closes the problems of a directory that is taken away, and of its
// entries.
func (s Problems) closeOf(ctx context.Context, directory string) error {
	_, err := s.exec(ctx, `UPDATE problems SET closed = now(), closing = ? WHERE closed IS NULL AND (directory = ? OR about = 'directory' AND subject = ?)`, ClosedTaken, directory, directory)
	return err
}

// Prune deletes problems that were closed before a time.
func (s Problems) Prune(ctx context.Context, before time.Time) error {
	_, err := s.exec(ctx, `DELETE FROM problems WHERE closed < ?`, before)
	return err
}

// Problem is a problem as it is kept.
type Problem struct {
	ID int64
	NewProblem
	// Name is what people call the thing: a distinguished name, the name of an agent.
	Name string
	// Ref and ResourceID are of an entry, and of the resource that it is linked to.
	Ref        entry.Ref
	ResourceID string
	MetBy      MetBy
	Since, Met time.Time
	FirstRun   int64
	LastRun    int64
	Times      int
	Closed     *time.Time
	Closing    string
}

type problemRow struct {
	ID                                                     int64
	About, Subject, Directory, Code, Detail, Name, Closing string
	EntryID, ResourceID                                    string
	Source                                                 MetBy
	Facts                                                  []byte
	Since, Met                                             time.Time
	Closed                                                 *time.Time
	FirstRun, LastRun                                      int64
	Times                                                  int
}

func (r problemRow) problem() (Problem, error) {
	p := Problem{ID: r.ID, Name: r.Name, ResourceID: r.ResourceID, MetBy: r.Source, Since: r.Since, Met: r.Met, FirstRun: r.FirstRun, LastRun: r.LastRun, Times: r.Times, Closed: r.Closed, Closing: r.Closing,
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

const problemSelect = `SELECT p.id, p.about, p.subject, p.directory, coalesce(p.entry_id::text, '') AS entry_id, p.code, p.facts, p.detail, p.source, p.since, p.met, p.first_run, p.last_run, p.times, p.closed, p.closing,
		coalesce(e.dn, a.name, CASE WHEN p.about = 'cloud-group' THEN (SELECT r.name || ' in ' || split_part(p.subject, '/', 1) FROM resources r WHERE r.id = substr(p.subject, strpos(p.subject, '/') + 1)) END, p.subject) AS name, coalesce(l.resource_id, '') AS resource_id
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
	Closed bool       // those that were closed, the last first, else the open ones, the oldest first
	Offset int
	Limit  int
}

// List lists problems, and how many there are.
func (s Problems) List(ctx context.Context, q ProblemQuery) ([]Problem, int, error) {
	const where = `WHERE (p.closed IS NOT NULL) = ? AND ? IN ('', p.code) AND ? IN ('', p.about) AND (? = '' OR p.subject = ?)`
	args := []any{q.Closed, q.Code, string(q.Type), q.Key, q.Key}
	var total int
	if err := s.raw(ctx, `SELECT count(*) FROM problems p `+where, args...).Scan(&total).Error; err != nil {
		return nil, 0, err
	}
	order := ` ORDER BY p.since, p.id`
	if q.Closed {
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
	Code  problem.Code
	Count int
}

// CountByCode counts the open problems of entries and of groups in directories by code, the most frequent first.
func (s Problems) CountByCode(ctx context.Context) ([]CodeCount, error) {
	var counts []CodeCount
	return counts, s.raw(ctx, `SELECT code, count(*) AS count FROM problems WHERE closed IS NULL AND about IN ('entry', 'cloud-group') GROUP BY code ORDER BY 2 DESC, 1`).Scan(&counts).Error
}
