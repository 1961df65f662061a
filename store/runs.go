package store

import (
	"context"
	"fmt"
	"strings"
	"time"

	"gorm.io/gorm"

	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/wire"
)

var (
	errNotFound = gorm.ErrRecordNotFound
	newSession  = &gorm.Session{}
)

// like makes a pattern that finds text anywhere.
func like(text string) string {
	return "%" + strings.NewReplacer(`\`, `\\`, `%`, `\%`, `_`, `\_`).Replace(text) + "%"
}

type runRow struct {
	ID            int64 `gorm:"primaryKey"`
	Kind          string
	Rehearsal     bool
	Releases      int64
	State         string
	Stage         string
	Revision      int
	By            string
	Created       time.Time
	Started       *time.Time
	Ended         *time.Time
	Stages        []wire.Stage `gorm:"serializer:json;type:jsonb"`
	Counts        wire.Counts  `gorm:"serializer:json;type:jsonb"`
	FailureCode   string
	FailureDetail string
	Draft         int
	Document      *settings.Document `gorm:"serializer:json;type:jsonb"`
	Subject       string
	Failures      int
}

func (runRow) TableName() string { return "runs" }

// Run is a run as it is executed; Save keeps it.
type Run struct {
	wire.Run
	FailureCode, FailureDetail string
	// Document is the draft that the run works by, nil for active settings.
	Document *settings.Document
	// Subject is the one entry of a trial, as directory/id.
	Subject string
	// Failures is how often it ended with an error that nobody has foreseen.
	Failures int
}

// Writes tells whether the run is there to change the cloud.
func (r *Run) Writes() bool {
	return !r.Rehearsal && (r.Kind == "delta" || r.Kind == "full" || r.Kind == "trial")
}

func (r *Run) row() *runRow {
	return &runRow{
		ID: r.ID, Kind: r.Kind, Rehearsal: r.Rehearsal, Releases: r.Releases, State: string(r.State), Stage: r.Stage, Revision: r.Revision, By: r.By,
		Created: r.Created, Started: r.Started, Ended: r.Ended, Stages: r.Stages, Counts: r.Counts, FailureCode: r.FailureCode, FailureDetail: r.FailureDetail,
		Draft: r.Draft, Document: r.Document, Subject: r.Subject, Failures: r.Failures,
	}
}

func (r runRow) run() Run {
	return Run{FailureCode: r.FailureCode, FailureDetail: r.FailureDetail, Document: r.Document, Subject: r.Subject, Failures: r.Failures, Run: wire.Run{
		ID: r.ID, Kind: r.Kind, Rehearsal: r.Rehearsal, Releases: r.Releases, State: wire.RunState(r.State), Stage: r.Stage, Revision: r.Revision, By: r.By,
		Created: r.Created, Started: r.Started, Ended: r.Ended, Stages: r.Stages, Counts: r.Counts, Draft: r.Draft,
	}}
}

// NewRun asks for a run. The schedule asks for none while one is open; the
// result is 0 then.
func (s *Store) NewRun(ctx context.Context, run Run, unlessOpen bool) (int64, error) {
	var id int64
	err := s.Tx(ctx, func(tx *Store) error {
		if unlessOpen {
			var open bool
			err := tx.raw(ctx, `SELECT EXISTS (SELECT FROM runs WHERE state IN ('waiting', 'running'))`).Scan(&open).Error
			if err != nil || open {
				return err
			}
		}
		row := run.row()
		row.State, row.Created, row.Stages = string(wire.RunWaiting), time.Now(), []wire.Stage{}
		if err := tx.with(ctx).Create(row).Error; err != nil {
			return fmt.Errorf("keep the new run: %w", err)
		}
		id = row.ID
		return tx.Notify(ctx, wire.Event{Kind: "run", ID: id})
	})
	return id, err
}

// OpenRun returns the oldest run that waits or was interrupted.
func (s *Store) OpenRun(ctx context.Context) (Run, bool, error) {
	var row runRow
	err := s.with(ctx).Where("state IN ?", []string{"waiting", "running"}).Order("id").Take(&row).Error
	if NotFound(err) {
		return Run{}, false, nil
	}
	return row.run(), err == nil, err
}

// SaveRun keeps a run's state and tells everybody.
func (s *Store) SaveRun(ctx context.Context, run *Run) error {
	return s.Fenced(ctx, func(tx *Store) error {
		if err := tx.with(ctx).Save(run.row()).Error; err != nil {
			return fmt.Errorf("keep run %d: %w", run.ID, err)
		}
		return tx.Notify(ctx, wire.Event{Kind: "run", ID: run.ID})
	})
}

// Run returns one run.
func (s *Store) Run(ctx context.Context, id int64) (Run, error) {
	var row runRow
	err := s.with(ctx).Where("id = ?", id).Take(&row).Error
	return row.run(), err
}

// RunQuery chooses runs.
type RunQuery struct {
	State     string
	Changed   bool // only runs that changed or found something
	Rehearsal *bool
	Kind      string
	Before    int64 // id of the last one seen; 0 begins with the newest
	Limit     int
}

// Runs lists runs, the newest first, and how many the query fits.
func (s *Store) Runs(ctx context.Context, q RunQuery) ([]Run, int, error) {
	query := s.with(ctx).Model(&runRow{})
	if q.State != "" {
		query = query.Where("state = ?", q.State)
	}
	if q.Rehearsal != nil {
		query = query.Where("rehearsal = ?", *q.Rehearsal)
	}
	if q.Kind != "" {
		query = query.Where("kind = ?", q.Kind)
	}
	if q.Changed {
		query = query.Where("((counts->>'changes')::int > 0 OR (counts->>'held')::int > 0 OR state NOT IN ('in-step'))")
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
	runs := make([]Run, len(rows))
	for i, row := range rows {
		runs[i] = row.run()
	}
	return runs, int(total), nil
}

// LastRun returns the newest run that has ended and was there to write.
func (s *Store) LastRun(ctx context.Context) (Run, bool, error) {
	var row runRow
	err := s.with(ctx).Where("ended IS NOT NULL AND NOT rehearsal AND kind IN ('delta', 'full') AND state <> 'cancelled'").Order("id DESC").Take(&row).Error
	if NotFound(err) {
		return Run{}, false, nil
	}
	return row.run(), err == nil, err
}

// LastOf returns the newest run of a kind that has ended well enough to be
// looked at.
func (s *Store) LastOf(ctx context.Context, kind string) (Run, bool, error) {
	var row runRow
	err := s.with(ctx).Where("kind = ? AND ended IS NOT NULL AND state IN ('in-step', 'problems')", kind).Order("id DESC").Take(&row).Error
	if NotFound(err) {
		return Run{}, false, nil
	}
	return row.run(), err == nil, err
}

// RunOfDraft returns the newest rehearsal of a version of the draft.
func (s *Store) RunOfDraft(ctx context.Context, version int) (Run, bool, error) {
	var row runRow
	err := s.with(ctx).Where("draft = ? AND rehearsal", version).Order("id DESC").Take(&row).Error
	if NotFound(err) {
		return Run{}, false, nil
	}
	return row.run(), err == nil, err
}

// CancelRun asks a run that writes nothing to end; false when there is none
// that still goes on.
func (s *Store) CancelRun(ctx context.Context, id int64) (bool, error) {
	n, err := s.exec(ctx, `UPDATE runs SET cancelled = true WHERE id = ? AND state IN ('waiting', 'running') AND (rehearsal OR kind IN ('survey', 'look'))`, id)
	if err == nil {
		err = s.Notify(ctx, wire.Event{Kind: "run", ID: id})
	}
	return n == 1, err
}

// CancelDraftRuns asks all rehearsals of a draft to end, since it has changed.
func (s *Store) CancelDraftRuns(ctx context.Context) error {
	_, err := s.exec(ctx, `UPDATE runs SET cancelled = true WHERE state IN ('waiting', 'running') AND draft > 0 AND rehearsal`)
	return err
}

// RunCancelled tells whether a run was asked to end.
func (s *Store) RunCancelled(ctx context.Context, id int64) (bool, error) {
	var cancelled bool
	return cancelled, s.raw(ctx, `SELECT cancelled FROM runs WHERE id = ?`, id).Scan(&cancelled).Error
}

// PruneRuns deletes runs that ended before a time and changed nothing, and all
// that ended before the second time.
func (s *Store) PruneRuns(ctx context.Context, quietBefore, allBefore time.Time) (int64, error) {
	return s.exec(ctx, `DELETE FROM runs WHERE ended IS NOT NULL AND (ended < ? OR ended < ? AND state = 'in-step' AND coalesce((counts->>'changes')::int, 0) = 0)
		AND id <> (SELECT max(id) FROM runs WHERE ended IS NOT NULL)`, allBefore, quietBefore)
}
