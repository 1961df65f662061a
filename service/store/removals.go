package store

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"kambrel.example/kambrel/core/settings"
)

// Removed are directories that were taken away, with their links put aside.
type Removed struct{ *session }

// Removal is a directory that was taken away and can be brought back.
type Removal struct {
	ID        int64
	Name      string
	Directory settings.Directory
	By        string
	Removed   time.Time
	Until     time.Time
	Links     int
}

type removalRow struct {
	ID        int64
	Name      string
	Directory []byte
	By        string
	Removed   time.Time
	Until     time.Time
	Links     int
}

// CountsOf counts what the mirror and the links have of a directory.
func (s Removed) CountsOf(ctx context.Context, directory string) (entries, links int, err error) {
	var row struct{ Entries, Links int }
	err = s.raw(ctx, `SELECT (SELECT coalesce(sum(n), 0) FROM container_counts WHERE directory = @d) AS entries,
		(SELECT count(*) FROM links WHERE directory = @d) AS links`, map[string]any{"d": directory}).Scan(&row).Error
	return row.Entries, row.Links, err
}

// CountWorking counts the accounts of a directory that can be signed in to.
func (s Links) CountWorking(ctx context.Context, name string) (int, error) {
	var n int
	return n, s.raw(ctx, `SELECT count(*) FROM links l JOIN resources r ON r.id = l.resource_id WHERE l.directory = ? AND r.active`, name).Scan(&n).Error
}

// TakeAway puts the links of a directory aside and forgets its entries. It must
// run in the transaction that activates settings without it.
func (s Removed) TakeAway(ctx context.Context, directory settings.Directory, by string, until time.Time) (Removal, error) {
	removal := Removal{Name: directory.Name, Directory: directory, By: by, Removed: time.Now(), Until: until}
	text, err := json.Marshal(directory)
	if err != nil {
		return removal, err
	}
	if err := s.raw(ctx, `INSERT INTO removed_directories (name, directory, by, removed, until, links) VALUES (?, ?::jsonb, ?, ?, ?, 0) RETURNING id`,
		directory.Name, string(text), by, removal.Removed, until).Scan(&removal.ID).Error; err != nil {
		return removal, err
	}
	// Whoever has an entry in another directory too keeps the resource by that.
	if _, err := s.exec(ctx, `UPDATE links l SET directory = j.directory, entry_id = j.entry_id FROM (
			SELECT DISTINCT ON (lead_directory, lead_id) * FROM followers WHERE lead_directory = @name AND directory <> @name ORDER BY lead_directory, lead_id, directory, entry_id
		) j WHERE l.directory = @name AND l.entry_id = j.lead_id`, map[string]any{"name": directory.Name}); err != nil {
		return removal, fmt.Errorf("hand the links of %s over: %w", directory.Name, err)
	}
	n, err := s.exec(ctx, `WITH moved AS (DELETE FROM links WHERE directory = ? RETURNING link_key, resource_id, directory, entry_id, how, run_id, since, left_at, kind, due)
		INSERT INTO links_aside SELECT ?, moved.* FROM moved`, directory.Name, removal.ID)
	if err != nil {
		return removal, fmt.Errorf("put the links of %s aside: %w", directory.Name, err)
	}
	removal.Links = int(n)
	if _, err := s.exec(ctx, `UPDATE removed_directories SET links = ? WHERE id = ?`, removal.Links, removal.ID); err != nil {
		return removal, err
	}
	return removal, s.Forget(ctx, directory.Name)
}

// Forget drops what is known of a directory but for its links.
func (s Removed) Forget(ctx context.Context, directory string) error {
	if _, err := s.exec(ctx, `WITH dropped AS (DELETE FROM followers WHERE lead_directory = ? RETURNING directory, entry_id)
		INSERT INTO dirty (directory, entry_id) SELECT directory, entry_id FROM dropped ON CONFLICT (directory, entry_id) DO UPDATE SET state = 0`, directory); err != nil {
		return fmt.Errorf("forget %s: %w", directory, err)
	}
	if err := s.all().Problems.closeOf(ctx, directory); err != nil {
		return fmt.Errorf("forget %s: %w", directory, err)
	}
	for _, table := range []string{"followers", "person_keys", "claims", "dirty", "dirty_references", "dirty_members", "decisions", "kept", "pins", "memberships", "pointers", "entries", "former_names", "directory_states"} {
		if _, err := s.exec(ctx, `DELETE FROM `+table+` WHERE directory = ?`, directory); err != nil {
			return fmt.Errorf("forget %s: %w", directory, err)
		}
	}
	return nil
}

// List lists directories that can be brought back, the newest first.
func (s Removed) List(ctx context.Context) ([]Removal, error) {
	var rows []removalRow
	if err := s.raw(ctx, `SELECT id, name, directory, by, removed, until, links FROM removed_directories WHERE until > now() ORDER BY id DESC`).Scan(&rows).Error; err != nil {
		return nil, err
	}
	removals := make([]Removal, len(rows))
	for i, row := range rows {
		removals[i] = Removal{ID: row.ID, Name: row.Name, By: row.By, Removed: row.Removed, Until: row.Until, Links: row.Links}
		if err := json.Unmarshal(row.Directory, &removals[i].Directory); err != nil {
			return nil, err
		}
	}
	return removals, nil
}

// BringBack gives a directory its links back, but for those whose resource or
// entry has another link by now; it returns how many came back. The entries are
// read by the next run.
func (s Removed) BringBack(ctx context.Context, id int64) (int, error) {
	n, err := s.exec(ctx, `INSERT INTO links (link_key, resource_id, directory, entry_id, how, run_id, since, left_at, kind, due)
		SELECT link_key, resource_id, directory, entry_id, how, run_id, since, left_at, kind, due FROM links_aside WHERE removal = ? ON CONFLICT DO NOTHING`, id)
	if err != nil {
		return 0, fmt.Errorf("bring links back: %w", err)
	}
	_, err = s.exec(ctx, `DELETE FROM removed_directories WHERE id = ?`, id)
	return int(n), err
}

// Drop makes removals final whose time for undo is over.
func (s Removed) Drop(ctx context.Context) error {
	_, err := s.exec(ctx, `DELETE FROM removed_directories WHERE until < now()`)
	return err
}
