package store

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"gorm.io/gorm"

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
}

func (runRow) TableName() string { return "runs" }

// Run is a run as it is executed; Save keeps it.
type Run struct {
	wire.Run
	FailureCode, FailureDetail string
}

func (r *Run) row() *runRow {
	return &runRow{
		ID: r.ID, Kind: r.Kind, Rehearsal: r.Rehearsal, Releases: r.Releases, State: string(r.State), Stage: r.Stage, Revision: r.Revision, By: r.By,
		Created: r.Created, Started: r.Started, Ended: r.Ended, Stages: r.Stages, Counts: r.Counts, FailureCode: r.FailureCode, FailureDetail: r.FailureDetail,
	}
}

func (r runRow) run() Run {
	return Run{FailureCode: r.FailureCode, FailureDetail: r.FailureDetail, Run: wire.Run{
		ID: r.ID, Kind: r.Kind, Rehearsal: r.Rehearsal, Releases: r.Releases, State: wire.RunState(r.State), Stage: r.Stage, Revision: r.Revision, By: r.By,
		Created: r.Created, Started: r.Started, Ended: r.Ended, Stages: r.Stages, Counts: r.Counts,
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
	if err := s.with(ctx).Save(run.row()).Error; err != nil {
		return fmt.Errorf("keep run %d: %w", run.ID, err)
	}
	return s.Notify(ctx, wire.Event{Kind: "run", ID: run.ID})
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

// LastRun returns the newest run that has ended and was no rehearsal.
func (s *Store) LastRun(ctx context.Context) (Run, bool, error) {
	var row runRow
	err := s.with(ctx).Where("ended IS NOT NULL AND NOT rehearsal").Order("id DESC").Take(&row).Error
	if NotFound(err) {
		return Run{}, false, nil
	}
	return row.run(), err == nil, err
}

// PruneRuns deletes runs that ended before a time and changed nothing, and all
// that ended before the second time.
func (s *Store) PruneRuns(ctx context.Context, quietBefore, allBefore time.Time) (int64, error) {
	return s.exec(ctx, `DELETE FROM runs WHERE ended IS NOT NULL AND (ended < ? OR ended < ? AND state = 'in-step' AND coalesce((counts->>'changes')::int, 0) = 0)
		AND id <> (SELECT max(id) FROM runs WHERE ended IS NOT NULL)`, allBefore, quietBefore)
}

// Order is an order with its state.
type Order struct {
	ID            int64
	RunID         int64
	Directory     string
	Request       wire.Order `gorm:"serializer:json;type:jsonb"`
	State         string     // waiting, leased, done, failed
	AgentID       *string
	LeaseUntil    *time.Time
	Created       time.Time
	FailureCode   string
	FailureDetail string
	Counts        OrderCounts `gorm:"serializer:json;type:jsonb"`
}

// OrderCounts is what an order's answer held so far.
type OrderCounts struct {
	Read    int `json:"read"`
	Changed int `json:"changed"`
	Gone    int `json:"gone"`
}

// AddOrder asks an agent for work.
func (s *Store) AddOrder(ctx context.Context, order *Order) error {
	order.State, order.Created = "waiting", time.Now()
	if err := s.with(ctx).Create(order).Error; err != nil {
		return fmt.Errorf("keep the order: %w", err)
	}
	return s.Notify(ctx, wire.Event{Kind: "order", ID: order.ID})
}

// OrderOf returns the last order of a run for a directory.
func (s *Store) OrderOf(ctx context.Context, run int64, directory string) (Order, bool, error) {
	var order Order
	err := s.with(ctx).Where("run_id = ? AND directory = ?", run, directory).Order("id DESC").Take(&order).Error
	if NotFound(err) {
		return Order{}, false, nil
	}
	return order, err == nil, err
}

// Order returns an order by id.
func (s *Store) Order(ctx context.Context, id int64) (Order, error) {
	var order Order
	return order, s.with(ctx).Where("id = ?", id).Take(&order).Error
}

// TakeOrder leases the oldest order that an agent can serve: one that waits, or
// whose lease has lapsed. Several agents never take the same one.
func (s *Store) TakeOrder(ctx context.Context, agent string, directories []string, lease time.Duration) (Order, bool, error) {
	var id int64
	err := s.raw(ctx, `
		UPDATE orders SET state = 'leased', agent_id = ?, lease_until = now() + ? * interval '1 second' WHERE id = (
			SELECT id FROM orders WHERE directory = ANY(?::text[]) AND (state = 'waiting' OR state = 'leased' AND lease_until < now())
			ORDER BY id LIMIT 1 FOR UPDATE SKIP LOCKED
		) RETURNING id`, agent, lease.Seconds(), textArray(directories)).Scan(&id).Error
	if err != nil || id == 0 {
		return Order{}, false, err
	}
	order, err := s.Order(ctx, id)
	return order, err == nil, err
}

// KeepOrder renews a lease and keeps the counts; false says that the order is
// no longer the agent's.
func (s *Store) KeepOrder(ctx context.Context, id int64, agent string, lease time.Duration, counts OrderCounts) (bool, error) {
	text, err := json.Marshal(counts)
	if err != nil {
		return false, err
	}
	n, err := s.exec(ctx, `UPDATE orders SET lease_until = now() + ? * interval '1 second', counts = ?::jsonb WHERE id = ? AND agent_id = ? AND state = 'leased'`,
		lease.Seconds(), string(text), id, agent)
	return n == 1, err
}

// EndOrder ends an order: done when code is "".
func (s *Store) EndOrder(ctx context.Context, id int64, code, detail string, counts OrderCounts) error {
	state := "done"
	if code != "" {
		state = "failed"
	}
	text, err := json.Marshal(counts)
	if err != nil {
		return err
	}
	if _, err := s.exec(ctx, `UPDATE orders SET state = ?, failure_code = ?, failure_detail = ?, counts = ?::jsonb WHERE id = ?`, state, code, detail, string(text), id); err != nil {
		return err
	}
	return s.Notify(ctx, wire.Event{Kind: "order", ID: id})
}

// GiveBackOrder lets another agent take an order whose answer broke off.
func (s *Store) GiveBackOrder(ctx context.Context, id int64, agent string) error {
	if _, err := s.exec(ctx, `UPDATE orders SET state = 'waiting', agent_id = NULL WHERE id = ? AND agent_id = ? AND state = 'leased'`, id, agent); err != nil {
		return err
	}
	return s.Notify(ctx, wire.Event{Kind: "order", ID: id})
}
