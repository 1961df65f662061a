package store

import (
	"context"
	"fmt"
	"time"

	protocol "kambrel.example/kambrel/protocol/orders"
)

// Repairs are values that were, or are to be, written to directories.
type Repairs struct{ *session }

// Repair is a set of values that are written together.
type Repair struct {
	ID      int64
	Created time.Time
	By      string
	Undoes  int64 // the repair that it takes back
	Done    int
	Failed  int
	Waiting int
	Items   []RepairItem `gorm:"-"`
}

// RepairItem is one value of one entry; an empty one is none.
type RepairItem struct {
	Repair    int64 `gorm:"primaryKey"`
	Number    int   `gorm:"primaryKey"`
	Directory string
	EntryID   string
	DN        string `gorm:"column:dn"`
	Attribute string
	Before    string
	After     string
	State     string // waiting, done or failed
	Code      string
	Answer    string // what the directory said
}

// Add keeps a repair whose items wait.
func (s Repairs) Add(ctx context.Context, by string, undoes int64, items []RepairItem) (int64, error) {
	var id int64
	err := s.Tx(ctx, func(tx *Store) error {
		if err := tx.raw(ctx, `INSERT INTO repairs (by, undoes) VALUES (?, ?) RETURNING id`, by, undoes).Scan(&id).Error; err != nil {
			return err
		}
		rows := make([]RepairItem, len(items))
		for i, item := range items {
			rows[i] = item
			rows[i].Repair, rows[i].Number, rows[i].State = id, i+1, "waiting"
		}
		return tx.with(ctx).CreateInBatches(rows, 1000).Error
	})
	return id, err
}

// Save keeps results of items, with an act for each that was
// written or failed.
func (s Repairs) Save(ctx context.Context, repair int64, results []protocol.Repaired) error {
	var numbers, states, codes, details textArray
	for _, r := range results {
		state := "done"
		if r.Code != "" {
			state = "failed"
		}
		numbers, states, codes, details = append(numbers, fmt.Sprint(r.Number)), append(states, state), append(codes, r.Code), append(details, r.Detail)
	}
	_, err := s.exec(ctx, `
		WITH input AS (SELECT n::int AS number, state, code, detail FROM unnest(?::text[], ?::text[], ?::text[], ?::text[]) AS t(n, state, code, detail)),
		saved AS (
			UPDATE repair_items i SET state = input.state, code = input.code, answer = input.detail FROM input
			WHERE i.repair = ? AND i.number = input.number AND i.state <> input.state RETURNING i.*
		)
		INSERT INTO acts (by, kind, about, subject, before, after, result, note)
		SELECT r.by, 'repair-value', 'entry', saved.directory || '/' || saved.entry_id, jsonb_build_object(saved.attribute, saved.before), jsonb_build_object(saved.attribute, saved.after), saved.state,
			'repair ' || r.id || CASE WHEN saved.answer = '' THEN '' ELSE ': ' || saved.answer END
		FROM saved JOIN repairs r ON r.id = saved.repair`,
		numbers, states, codes, details, repair)
	if err == nil {
		err = s.Notify(ctx, Event{Kind: "repair", ID: repair})
	}
	return err
}

// Fail ends the waiting items of a repair in one directory, since the
// order for them could not be carried out.
func (s Repairs) Fail(ctx context.Context, repair int64, numbers []int, code, answer string) error {
	results := make([]protocol.Repaired, 0, len(numbers))
	var waiting []int
	if err := s.with(ctx).Model(&RepairItem{}).Where("repair = ? AND state = 'waiting' AND number IN ?", repair, numbers).Pluck("number", &waiting).Error; err != nil {
		return err
	}
	for _, n := range waiting {
		results = append(results, protocol.Repaired{Number: n, Code: code, Detail: answer})
	}
	if len(results) == 0 {
		return nil
	}
	return s.Save(ctx, repair, results)
}

// Waiting returns the values that wait for their result, by repair.
func (s Repairs) Waiting(ctx context.Context) (map[int64][]RepairItem, error) {
	var rows []RepairItem
	if err := s.with(ctx).Where("state = 'waiting'").Order("repair, number").Find(&rows).Error; err != nil {
		return nil, err
	}
	waiting := map[int64][]RepairItem{}
	for _, row := range rows {
		waiting[row.Repair] = append(waiting[row.Repair], row)
	}
	return waiting, nil
}

const repairColumns = `r.id, r.created, r.by, r.undoes, count(*) FILTER (WHERE i.state = 'done') AS done, count(*) FILTER (WHERE i.state = 'failed') AS failed, count(*) FILTER (WHERE i.state = 'waiting') AS waiting`

// List lists repairs without their items, the newest first.
func (s Repairs) List(ctx context.Context, limit int) ([]Repair, error) {
	var repairs []Repair
	err := s.raw(ctx, `SELECT `+repairColumns+` FROM repairs r JOIN repair_items i ON i.repair = r.id GROUP BY r.id ORDER BY r.id DESC LIMIT ?`, limit).Scan(&repairs).Error
	return repairs, err
}

// Get returns a repair with its items.
func (s Repairs) Get(ctx context.Context, id int64) (Repair, error) {
	var repair Repair
	if err := s.raw(ctx, `SELECT `+repairColumns+` FROM repairs r JOIN repair_items i ON i.repair = r.id WHERE r.id = ? GROUP BY r.id`, id).Scan(&repair).Error; err != nil {
		return Repair{}, err
	}
	if repair.ID == 0 {
		return Repair{}, ErrNotFound
	}
	err := s.with(ctx).Where("repair = ?", id).Order("number").Find(&repair.Items).Error
	return repair, err
}
