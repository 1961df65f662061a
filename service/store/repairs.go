package store

import (
	"context"
	"fmt"
	"time"

	protocol "kambrel.example/kambrel/protocol/orders"
	"kambrel.example/kambrel/protocol/wire"
)

// Repairs are values that were, or are to be, written to directories.
type Repairs struct{ *session }

// RepairRow is a repair without its items.
type RepairRow struct {
	ID      int64
	Created time.Time
	By      string
	Undoes  int64
	Done    int
	Failed  int
	Waiting int
}

func (r RepairRow) repair() wire.Repair {
	out := wire.Repair{ID: r.ID, Created: r.Created, By: r.By, Undoes: r.Undoes, Done: r.Done, Failed: r.Failed, Waiting: r.Waiting, State: "done"}
	switch {
	case r.Waiting > 0:
		out.State = "running"
	case r.Failed > 0:
		out.State = "problems"
	}
	return out
}

type repairItemRow struct {
	Repair    int64 `gorm:"primaryKey"`
	Number    int   `gorm:"primaryKey"`
	Directory string
	EntryID   string
	DN        string `gorm:"column:dn"`
	Attribute string
	Before    string
	After     string
	State     string
	Code      string
	Answer    string
}

func (repairItemRow) TableName() string { return "repair_items" }

// Add keeps a repair whose items wait.
func (s Repairs) Add(ctx context.Context, by string, undoes int64, items []wire.RepairItem) (int64, error) {
	var id int64
	err := s.Tx(ctx, func(tx *Store) error {
		if err := tx.raw(ctx, `INSERT INTO repairs (by, undoes) VALUES (?, ?) RETURNING id`, by, undoes).Scan(&id).Error; err != nil {
			return err
		}
		rows := make([]repairItemRow, len(items))
		for i, item := range items {
			rows[i] = repairItemRow{Repair: id, Number: i + 1, Directory: item.Directory, EntryID: item.EntryID, DN: item.DN, Attribute: item.Attribute, Before: item.Before, After: item.After, State: "waiting"}
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
		err = s.Notify(ctx, wire.Event{Kind: "repair", ID: repair})
	}
	return err
}

// Fail ends the waiting items of a repair in one directory, since the
// order for them could not be carried out.
func (s Repairs) Fail(ctx context.Context, repair int64, numbers []int, code, answer string) error {
	results := make([]protocol.Repaired, 0, len(numbers))
	var waiting []int
	if err := s.with(ctx).Model(&repairItemRow{}).Where("repair = ? AND state = 'waiting' AND number IN ?", repair, numbers).Pluck("number", &waiting).Error; err != nil {
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
func (s Repairs) Waiting(ctx context.Context) (map[int64][]wire.RepairItem, error) {
	var rows []repairItemRow
	if err := s.with(ctx).Where("state = 'waiting'").Order("repair, number").Find(&rows).Error; err != nil {
		return nil, err
	}
	waiting := map[int64][]wire.RepairItem{}
	for _, i := range rows {
		waiting[i.Repair] = append(waiting[i.Repair], wire.RepairItem{Number: i.Number, Directory: i.Directory, EntryID: i.EntryID, DN: i.DN, Attribute: i.Attribute, Before: i.Before, After: i.After})
	}
	return waiting, nil
}

const repairColumns = `r.id, r.created, r.by, r.undoes, count(*) FILTER (WHERE i.state = 'done') AS done, count(*) FILTER (WHERE i.state = 'failed') AS failed, count(*) FILTER (WHERE i.state = 'waiting') AS waiting`

// List lists repairs, the newest first.
func (s Repairs) List(ctx context.Context, limit int) ([]wire.Repair, error) {
	var rows []RepairRow
	err := s.raw(ctx, `SELECT `+repairColumns+` FROM repairs r JOIN repair_items i ON i.repair = r.id GROUP BY r.id ORDER BY r.id DESC LIMIT ?`, limit).Scan(&rows).Error
	repairs := make([]wire.Repair, len(rows))
	for i, row := range rows {
		repairs[i] = row.repair()
	}
	return repairs, err
}

// Get returns a repair with its items.
func (s Repairs) Get(ctx context.Context, id int64) (wire.Repair, error) {
	var row RepairRow
	if err := s.raw(ctx, `SELECT `+repairColumns+` FROM repairs r JOIN repair_items i ON i.repair = r.id WHERE r.id = ? GROUP BY r.id`, id).Scan(&row).Error; err != nil {
		return wire.Repair{}, err
	}
	if row.ID == 0 {
		return wire.Repair{}, ErrNotFound
	}
	repair := row.repair()
	var items []repairItemRow
	if err := s.with(ctx).Where("repair = ?", id).Order("number").Find(&items).Error; err != nil {
		return repair, err
	}
	for _, i := range items {
		repair.Items = append(repair.Items, wire.RepairItem{Number: i.Number, Directory: i.Directory, EntryID: i.EntryID, DN: i.DN, Attribute: i.Attribute,
			Before: i.Before, After: i.After, State: i.State, Code: i.Code, Answer: i.Answer})
	}
	return repair, nil
}
