package store

import (
	"context"
	"fmt"
	"strings"
	"time"

	"gorm.io/gorm"

	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/core/settings"
)

// Runs are those that wait, go on, and have ended.
type Runs struct{ *session }

var (
	// ErrNotFound says that there is no such record; see NotFound.
	ErrNotFound = gorm.ErrRecordNotFound
	newSession  = &gorm.Session{}
)

// like makes a pattern that finds text anywhere.
func like(text string) string {
	return "%" + strings.NewReplacer(`\`, `\\`, `%`, `\%`, `_`, `\_`).Replace(text) + "%"
}

type runRow struct {
	ID            int64 `gorm:"primaryKey"`
	Purpose       string
	Releases      int64
	Undoes        int64
	State         string
	Stage         string
	Revision      int
	By            string
	Created       time.Time
	Started       *time.Time
	Ended         *time.Time
	Stages        []progress.Stage   `gorm:"serializer:json;type:jsonb"`
	Counts        progress.Counts    `gorm:"serializer:json;type:jsonb"`
	LeftOut       []progress.LeftOut `gorm:"serializer:json;type:jsonb"`
	FailureCode   string
	FailureDetail string
	Draft         int
	Only          []int64            `gorm:"column:released_only;serializer:json;type:jsonb"`
	Document      *settings.Document `gorm:"serializer:json;type:jsonb"`
	Subject       string
	Members       int
	Failures      int
	GuardSince    *time.Time
}

// groupSubject begins the subject of a trial of a group.
const groupSubject = "cloud-group:"

// GroupSubject is the subject of a trial of a group of the cloud in a directory.
func GroupSubject(directory, resource string) string {
	return groupSubject + directory + "/" + resource
}

// TriedGroup is the group that a run is a trial of; false when it is none.
func (r Run) TriedGroup() (directory, resource string, tries bool) {
	rest, tries := strings.CutPrefix(r.Subject, groupSubject)
	directory, resource, _ = strings.Cut(rest, "/")
	return directory, resource, tries
}

func (runRow) TableName() string { return "runs" }

// Run is a run as it is executed; Save keeps it.
type Run struct {
	ID      int64
	Purpose purpose.Purpose
	// Releases is the run whose held removals this one lets through.
	Releases int64
	// Undoes is the run that this one takes back.
	Undoes int64
	// Only are the changes of that run that it lets through, none for all.
	Only []int64
	// Draft is the version of the draft that it works by, 0 for the active settings.
	Draft    int
	State    progress.State
	Stage    string // what is going on now
	Revision int    // of the settings that it works by
	By       string
	Created  time.Time
	Started  *time.Time
	Ended    *time.Time
	Stages   []progress.Stage
	Counts   progress.Counts
	// LeftOut are the directories that could not be read.
	LeftOut []progress.LeftOut

	FailureCode, FailureDetail string
	// Document is the draft that the run works by, nil for active settings.
	Document *settings.Document
	// Subject is the one entry of a trial, as directory/id, or a group of the cloud in a
	// directory; see GroupSubject.
	Subject string
	// Members is how many members a trial of a group writes at most.
	Members int
	// Failures is how often it ended with an error that nobody has foreseen.
	Failures int
	// GuardSince is since when what went counts with what the run would take away.
	GuardSince *time.Time
}

func (r *Run) row() *runRow {
	return &runRow{
		ID: r.ID, Purpose: string(r.Purpose), Releases: r.Releases, Undoes: r.Undoes, State: string(r.State), Stage: r.Stage, Revision: r.Revision, By: r.By,
		Created: r.Created, Started: r.Started, Ended: r.Ended, Stages: r.Stages, Counts: r.Counts, FailureCode: r.FailureCode, FailureDetail: r.FailureDetail,
		Draft: r.Draft, Document: r.Document, Subject: r.Subject, Members: r.Members, Failures: r.Failures, LeftOut: r.LeftOut, Only: r.Only, GuardSince: r.GuardSince,
	}
}

func (r runRow) run() Run {
	return Run{
		FailureCode: r.FailureCode, FailureDetail: r.FailureDetail, Document: r.Document, Subject: r.Subject, Members: r.Members, Failures: r.Failures, ID: r.ID, Purpose: purpose.Purpose(r.Purpose), Releases: r.Releases, Undoes: r.Undoes, State: progress.State(r.State), Stage: r.Stage, Revision: r.Revision, By: r.By,
		Created: r.Created, Started: r.Started, Ended: r.Ended, Stages: r.Stages, Counts: r.Counts, Draft: r.Draft, LeftOut: r.LeftOut, Only: r.Only, GuardSince: r.GuardSince,
	}
}

// New asks for a run. The schedule asks for none while one is open; the
// result is 0 then.
func (s Runs) New(ctx context.Context, run Run, unlessOpen bool) (int64, error) {
	if unlessOpen {
		return s.newUnless(ctx, run, `state IN ('waiting', 'running') AND `+writing)
	}
	return s.newUnless(ctx, run, "")
}

// AskOnce asks for a run that writes unless one waits already, which will read what there is
// by then; one that is under way may have read before. The result is 0 where one waits.
func (s Runs) AskOnce(ctx context.Context, run Run) (int64, error) {
	return s.newUnless(ctx, run, `state = 'waiting' AND purpose IN ('sync', 'full')`)
}

// AskLive is AskOnce of a run that a change has started.
func (s Runs) AskLive(ctx context.Context, revision int) (int64, error) {
	return s.AskOnce(ctx, Run{Purpose: purpose.Sync, By: ByLive, Revision: revision})
}

// newUnless asks for a run unless there is one that a condition chooses; of several who ask
// at once, one does.
func (s Runs) newUnless(ctx context.Context, run Run, there string) (int64, error) {
	var id int64
	err := s.Tx(ctx, func(tx *Store) error {
		if there != "" {
			if _, err := tx.exec(ctx, `LOCK TABLE runs IN SHARE ROW EXCLUSIVE MODE`); err != nil {
				return err
			}
			var is bool
			err := tx.raw(ctx, `SELECT EXISTS (SELECT FROM runs WHERE `+there+`)`).Scan(&is).Error
			if err != nil || is {
				return err
			}
		}
		row := run.row()
		row.State, row.Created, row.Stages = string(progress.Waiting), time.Now(), []progress.Stage{}
		if err := tx.with(ctx).Create(row).Error; err != nil {
			return fmt.Errorf("keep the new run: %w", err)
		}
		id = row.ID
		return tx.Notify(ctx, Event{Kind: "run", ID: id})
	})
	return id, err
}

// writing chooses runs that are there to change the cloud.
const writing = `purpose IN ('sync', 'full', 'release', 'single', 'undo')`

// wasForMany holds for runs that have ended and were there to write, but for those of one object.
const wasForMany = `ended IS NOT NULL AND purpose IN ('sync', 'full', 'release', 'undo')`

// taken is the first run that a query finds.
func taken(query *gorm.DB) (Run, bool, error) {
	var row runRow
	err := query.Take(&row).Error
	if NotFound(err) {
		return Run{}, false, nil
	}
	return row.run(), err == nil, err
}

// Open returns the oldest run that is to write and waits or was interrupted.
func (s Runs) Open(ctx context.Context) (Run, bool, error) {
	return taken(s.with(ctx).Where("state IN ?", []string{"waiting", "running"}).Where(writing).Order("id"))
}

// mayGo holds for a run that is under way, and for one that waits while not everything is
// paused.
const mayGo = `(state = 'running' OR state = 'waiting' AND NOT EXISTS (SELECT FROM pauses WHERE of = 'everything' AND ` + stillPaused + `))`

// Next returns the oldest run that is to write and goes on or may begin.
func (s Runs) Next(ctx context.Context) (Run, bool, error) {
	return taken(s.with(ctx).Where(mayGo).Where(writing).Order("id"))
}

// decides holds for runs u by which an operator has decided about all that was held.
const decides = `(u.purpose = 'undo' OR u.purpose = 'release' AND coalesce(u.released_only, 'null') IN ('null', '[]'))`

// Counted is since when the guard has counted, and whether that still stands.
type Counted struct {
	Since            *time.Time // in the last run, nil where it did not
	Removals, Losses bool       // some are held
	Decided          time.Time  // when an operator last decided about all that was held
}

// Counted finds that out. What is held stays so over runs that fail or leave a directory
// out.
func (s Runs) Counted(ctx context.Context) (Counted, error) {
	var found Counted
	err := s.raw(ctx, `SELECT (SELECT guard_since FROM runs WHERE guard_since IS NOT NULL AND `+wasForMany+` ORDER BY id DESC LIMIT 1) AS since,
		EXISTS (SELECT FROM links WHERE held) AS removals,
		(SELECT coalesce(max(u.ended), 'epoch') FROM runs u WHERE u.ended IS NOT NULL AND `+decides+`) AS decided`).Scan(&found).Error
	if err != nil {
		return found, fmt.Errorf("look since when the guard counts: %w", err)
	}
	last, ok, err := taken(s.with(ctx).Where(wasForMany).Where("state IN ?", []string{string(progress.InStep), string(progress.Problems)}).Order("id DESC"))
	if ok {
		removals := last.Counts.HeldRemovals()
		found.Removals, found.Losses = found.Removals || removals > 0, last.Counts.Held > removals
	}
	return found, err
}

// ByLive is who asks for the runs that changes have started.
const ByLive = "live"

// MayComeBetween returns the oldest run that waits and that changes have started, or that
// is of one entry: they may go before the rest of another. Whoever asks for a whole run
// gets one.
func (s Runs) MayComeBetween(ctx context.Context, of int64) (Run, bool, error) {
	return taken(s.with(ctx).Where(mayGo).Where("state = 'waiting' AND (purpose = 'sync' AND by = ? OR purpose = 'single') AND id > ?", ByLive, of).Order("id"))
}

// UnderWay lists the runs that write and were begun, but for the one given.
func (s Runs) UnderWay(ctx context.Context, except int64) ([]int64, error) {
	var ids []int64
	return ids, s.with(ctx).Model(&runRow{}).Where("state = 'running' AND "+writing+" AND id <> ?", except).Order("id").Pluck("id", &ids).Error
}

// openBeside chooses runs that write nothing and wait or were interrupted, the
// oldest first.
func (s Runs) openBeside(ctx context.Context, limit int) *gorm.DB {
	return s.with(ctx).Model(&runRow{}).Where("state IN ? AND NOT "+writing, []string{"waiting", "running"}).Order("id").Limit(limit)
}

// OpenBeside lists the runs that write nothing and wait or were interrupted, the
// oldest first.
func (s Runs) OpenBeside(ctx context.Context, limit int) ([]Run, error) {
	var rows []runRow
	err := s.openBeside(ctx, limit).Find(&rows).Error
	return runsOf(rows), err
}

// OpenBesideIDs is OpenBeside for who asks all the time: a run may carry a whole draft.
func (s Runs) OpenBesideIDs(ctx context.Context, limit int) ([]int64, error) {
	var ids []int64
	return ids, s.openBeside(ctx, limit).Pluck("id", &ids).Error
}

func runsOf(rows []runRow) []Run {
	runs := make([]Run, len(rows))
	for i, row := range rows {
		runs[i] = row.run()
	}
	return runs
}

// Stage tells in which stage the run is that writes to the cloud: "" when there
// is none that may go on, "waiting" when it has not begun.
func (s Runs) Stage(ctx context.Context) (string, error) {
	run, open, err := s.Next(ctx)
	if err != nil || !open {
		return "", err
	}
	if run.State == progress.Waiting || run.Stage == "" {
		return "waiting", nil
	}
	return run.Stage, nil
}

// Save keeps a run's state and tells everybody.
func (s Runs) Save(ctx context.Context, run *Run) error {
	return s.Fenced(ctx, func(tx *Store) error {
		if err := tx.with(ctx).Save(run.row()).Error; err != nil {
			return fmt.Errorf("keep run %d: %w", run.ID, err)
		}
		return tx.Notify(ctx, Event{Kind: "run", ID: run.ID})
	})
}

// Get returns one run.
func (s Runs) Get(ctx context.Context, id int64) (Run, error) {
	var row runRow
	err := s.with(ctx).Where("id = ?", id).Take(&row).Error
	return row.run(), err
}

// RunQuery chooses runs.
type RunQuery struct {
	State   string
	Changed bool // only runs that changed something, or opened or closed a problem, or have not ended well
	Purpose purpose.Purpose
	Before  int64 // id of the last one seen; 0 begins with the newest
	Limit   int
}

// List lists runs, the newest first, and how many the query fits.
func (s Runs) List(ctx context.Context, q RunQuery) ([]Run, int, error) {
	query := s.with(ctx).Model(&runRow{})
	if q.State != "" {
		query = query.Where("state = ?", q.State)
	}
	if q.Purpose != "" {
		query = query.Where("purpose = ?", q.Purpose)
	}
	if q.Changed {
		query = query.Where(`((counts->>'changes')::int > 0 OR (counts->>'held')::int > 0 OR (counts->>'problemsNew')::int > 0 OR (counts->>'problemsGone')::int > 0 OR (counts->>'findings')::int > 0 OR state NOT IN ('in-step', 'problems'))`)
	}
	var total int64
	if err := query.Session(newSession).Count(&total).Error; err != nil {
		return nil, 0, err
	}
	if q.Before > 0 {
		query = query.Where("id < ?", q.Before)
	}
	var rows []runRow
	if err := query.Order("id DESC").Limit(q.Limit).Find(&rows).Error; err != nil {
		return nil, 0, err
	}
	return runsOf(rows), int(total), nil
}

// Last returns the newest run that has ended and was there to write.
func (s Runs) Last(ctx context.Context) (Run, bool, error) {
	return taken(s.with(ctx).Where(wasForMany).Order("id DESC"))
}

// Before returns the newest revision by which a run worked before another, and which is not
// the one of that; 0 when there is none.
func (s Runs) RevisionBefore(ctx context.Context, run Run) (int, error) {
	var revision int
	return revision, s.raw(ctx, `SELECT coalesce((SELECT revision FROM runs WHERE id < ? AND ended IS NOT NULL AND revision > 0 AND revision <> ? AND draft = 0 AND `+writing+` ORDER BY id DESC LIMIT 1), 0)`, run.ID, run.Revision).Scan(&revision).Error
}

// RunDay is what runs have done on a day, in UTC.
type RunDay struct {
	Day                                                time.Time
	Runs, Failed                                       int
	Created, Adopted, Updated, Restored, Removed, Held int
	// Longest is how long the longest one took.
	Longest float64 // seconds
}

// Days tells what runs that write have done on each day since a time.
func (s Runs) Days(ctx context.Context, since time.Time) ([]RunDay, error) {
	var days []RunDay
	return days, s.raw(ctx, `SELECT date_trunc('day', ended AT TIME ZONE 'UTC') AS day, count(*) AS runs, count(*) FILTER (WHERE state = 'failed') AS failed,
			sum(coalesce((counts->>'create')::int, 0)) AS created, sum(coalesce((counts->>'adopt')::int, 0)) AS adopted, sum(coalesce((counts->>'update')::int, 0)) AS updated, sum(coalesce((counts->>'restore')::int, 0)) AS restored,
			sum(coalesce((counts->>'suspend')::int, 0) + coalesce((counts->>'delete')::int, 0)) AS removed, max(coalesce((counts->>'held')::int, 0)) AS held,
			coalesce(max(extract(epoch FROM ended - started)), 0) AS longest
		FROM runs WHERE ended >= ? AND `+writing+` GROUP BY 1 ORDER BY 1`, since).Scan(&days).Error
}

// LastOf returns the newest run of a purpose that has ended well enough to be
// looked at.
func (s Runs) LastOf(ctx context.Context, why purpose.Purpose) (Run, bool, error) {
	return taken(s.with(ctx).Where("purpose = ? AND ended IS NOT NULL AND state IN ('in-step', 'problems')", why).Order("id DESC"))
}

// Failing tells how many runs that write have failed since one has not, and when the latest
// of them ended.
func (s Runs) Failing(ctx context.Context) (int, time.Time, error) {
	var row struct {
		Failed int
		Ended  *time.Time
	}
	err := s.raw(ctx, `SELECT count(*) AS failed, max(ended) AS ended FROM runs WHERE `+wasForMany+` AND state = 'failed'
		AND id > coalesce((SELECT max(id) FROM runs WHERE `+wasForMany+` AND state <> 'failed'), 0)`).Scan(&row).Error
	if row.Ended == nil {
		return 0, time.Time{}, err
	}
	return row.Failed, *row.Ended, err
}

// Speed is how long the last run that wrote at least so many changes was writing, and how
// many they were; none of them where there was no such run.
func (s Runs) Speed(ctx context.Context, least int) (took time.Duration, changes int, id int64, err error) {
	run, ok, err := taken(s.with(ctx).Where(wasForMany).Where("(counts->>'done')::int >= ?", least).Order("id DESC"))
	if err != nil || !ok {
		return 0, 0, 0, err
	}
	for _, stage := range run.Stages {
		if stage.Name == "write" && stage.Started != nil && stage.Ended != nil {
			return stage.Ended.Sub(*stage.Started), run.Counts.Done, run.ID, nil
		}
	}
	return 0, 0, 0, nil
}

// LastAsked tells when a run for a purpose was asked for last, whatever came of it; zero when
// none was.
func (s Runs) LastAsked(ctx context.Context, why purpose.Purpose) (time.Time, error) {
	var row struct{ Asked *time.Time }
	err := s.raw(ctx, `SELECT max(created) AS asked FROM runs WHERE purpose = ?`, string(why)).Scan(&row).Error
	if row.Asked == nil {
		return time.Time{}, err
	}
	return *row.Asked, err
}

// OfDraft returns the newest rehearsal of a version of the draft.
func (s Runs) OfDraft(ctx context.Context, version int) (Run, bool, error) {
	return taken(s.with(ctx).Where("draft = ? AND purpose = 'impact'", version).Order("id DESC"))
}

// Cancel asks a run that writes nothing to end; false when there is none
// that still goes on.
func (s Runs) Cancel(ctx context.Context, id int64) (bool, error) {
	n, err := s.exec(ctx, `UPDATE runs SET cancelled = true WHERE id = ? AND state IN ('waiting', 'running') AND NOT `+writing, id)
	if err == nil {
		err = s.Notify(ctx, Event{Kind: "run", ID: id})
	}
	return n == 1, err
}

// CancelOfDrafts asks all rehearsals of a draft to end, since it has changed.
func (s Runs) CancelOfDrafts(ctx context.Context) error {
	_, err := s.exec(ctx, `UPDATE runs SET cancelled = true WHERE state IN ('waiting', 'running') AND purpose = 'impact'`)
	return err
}

// Asked tells whether a run was asked to end, and whether one that writes
// waits for its turn.
func (s Runs) Asked(ctx context.Context, id int64) (cancelled, wanted bool, err error) {
	var row struct{ Cancelled, Wanted bool }
	err = s.raw(ctx, `SELECT cancelled, EXISTS (SELECT FROM runs WHERE `+mayGo+` AND `+writing+`) AS wanted FROM runs WHERE id = ?`, id).Scan(&row).Error
	return row.Cancelled, row.Wanted, err
}

// Prune deletes runs that ended before a time and changed nothing, and all
// that ended before the second time.
func (s Runs) Prune(ctx context.Context, quietBefore, allBefore time.Time) (int64, error) {
	var n int64
	err := s.raw(ctx, `WITH pruned AS (
			DELETE FROM runs WHERE ended IS NOT NULL AND (ended < ? OR ended < ? AND state = 'in-step' AND coalesce((counts->>'changes')::int, 0) = 0)
				AND id <> (SELECT max(id) FROM runs WHERE ended IS NOT NULL) RETURNING id
		), gone AS (
			DELETE FROM changes c USING pruned p WHERE c.run_id = p.id
		) SELECT count(*) FROM pruned`, allBefore, quietBefore).Scan(&n).Error
	return n, err
}
