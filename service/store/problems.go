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
	if _, err := s.exec(ctx, `UPDATE problems p SET closed = now(), closing = ?, closed_run = ? FROM unnest(?::text[], ?::text[], ?::text[]) AS t(a, s, c)
		WHERE p.about = a AND p.subject = s AND p.code <> c AND p.closed IS NULL AND (a = 'entry' OR p.source = 'run' AND ? = 'run')`, ClosedReplaced, run, types, subjects, codes, string(source)); err != nil {
		return err
	}
	// What a plan has taken for well and the cloud refuses again has never been gone.
	if _, err := s.exec(ctx, `UPDATE problems p SET closed = NULL, closing = '', closed_run = 0 FROM (
			SELECT max(p.id) AS id FROM unnest(?::text[], ?::text[], ?::text[]) AS t(a, s, c) JOIN problems p ON p.about = a AND p.subject = s AND p.code = c
			WHERE p.closed_run = ? AND NOT EXISTS (SELECT FROM problems o WHERE o.about = a AND o.subject = s AND o.code = c AND o.closed IS NULL) GROUP BY a, s, c
		) again WHERE p.id = again.id AND ? > 0`, types, subjects, codes, run, run); err != nil {
		return err
	}
	_, err := s.exec(ctx, `INSERT INTO problems AS p (about, subject, directory, entry_id, code, facts, detail, source, first_run, last_run)
		SELECT a, s, d, nullif(i, '')::uuid, c, f::jsonb, t, ?, ?, ? FROM unnest(?::text[], ?::text[], ?::text[], ?::text[], ?::text[], ?::text[], ?::text[]) AS x(a, s, d, i, c, f, t)
		ON CONFLICT (about, subject, code) WHERE closed IS NULL DO UPDATE SET times = CASE WHEN p.last_run = 0 OR excluded.last_run IN (0, p.last_run) THEN p.times ELSE p.times + 1 END,
			first_run = CASE WHEN p.first_run = 0 THEN excluded.first_run ELSE p.first_run END, met = now(), facts = excluded.facts, detail = excluded.detail, source = excluded.source,
			asleep = CASE WHEN p.about = 'entry' AND p.facts <> excluded.facts THEN NULL ELSE p.asleep END, last_run = greatest(p.last_run, excluded.last_run)`,
		string(source), run, run, types, subjects, directories, ids, codes, facts, details)
	return err
}

// Close closes the problems of entries whose cause is gone, as a run has found.
func (s Problems) Close(ctx context.Context, run int64, refs []entry.Ref) error {
	if len(refs) == 0 {
		return nil
	}
	directories, ids := refArrays(refs)
	_, err := s.exec(ctx, `UPDATE problems SET closed = now(), closing = ?, closed_run = ? FROM unnest(?::text[], ?::text[]::uuid[]) AS t(d, i)
		WHERE directory = d AND entry_id = i AND closed IS NULL`, ClosedGone, run, directories, ids)
	return err
}

// CloseOfRuns closes what runs have met, since this one has come to its end, but for what
// directories have that it has left out.
func (s Problems) CloseOfRuns(ctx context.Context, run int64, without []string) error {
	_, err := s.exec(ctx, `UPDATE problems SET closed = now(), closing = ?, closed_run = ? WHERE source = 'run' AND closed IS NULL AND NOT (about = 'directory' AND subject = ANY(?::text[]))`, ClosedGone, run, textArray(without))
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
