package store

import (
	"context"
	"database/sql"
	"io/fs"
	"time"

	"kambrel.example/kambrel/core/about"
	"kambrel.example/kambrel/core/act"
	"kambrel.example/kambrel/core/pause"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/progress"
)

// ByRestore is in whose name records that were brought back are paused.
const ByRestore = "restore"

// Holding is what records are of, for whoever looks at a backup of them.
type Holding struct {
	Schema  int64 `json:"schema"` // the version of the tables
	Entries int   `json:"entries"`
	Links   int   `json:"links"`
	Runs    int   `json:"runs"`
}

// HoldingOf looks what the records of a database are of, without changing them; of schema 0
// are those of a database that has none.
func HoldingOf(ctx context.Context, dsn string) (Holding, error) {
	var holding Holding
	err := looking(ctx, dsn, func(pool *sql.DB) error {
		var known bool
		if err := pool.QueryRowContext(ctx, `SELECT to_regclass('goose_db_version') IS NOT NULL`).Scan(&known); err != nil || !known {
			return err
		}
		if err := pool.QueryRowContext(ctx, `SELECT coalesce(max(version_id), 0) FROM goose_db_version WHERE is_applied`).Scan(&holding.Schema); err != nil || holding.Schema == 0 {
			return err
		}
		return pool.QueryRowContext(ctx, `SELECT (SELECT count(*) FROM entries WHERE gone IS NULL), (SELECT count(*) FROM links), (SELECT count(*) FROM runs)`).
			Scan(&holding.Entries, &holding.Links, &holding.Runs)
	})
	return holding, err
}

// CheckEmpty refuses a database that holds anything.
func CheckEmpty(ctx context.Context, dsn string) error {
	return looking(ctx, dsn, func(pool *sql.DB) error {
		var tables int
		if err := pool.QueryRowContext(ctx, `SELECT count(*) FROM pg_class WHERE relkind IN ('r', 'p') AND relnamespace = 'public'::regnamespace`).Scan(&tables); err != nil {
			return err
		}
		if tables > 0 {
			return problem.New(problem.BadInput, "the database has %d tables: a backup is brought back into an empty one only. Make one (createdb), and leave the other as it is until all is well.", tables)
		}
		return nil
	})
}

// CheckSchema refuses tables that are newer than this program.
func CheckSchema(version int64) error {
	names, err := fs.Glob(migrations, "migrations/*.sql")
	if err != nil || version <= int64(len(names)) {
		return err
	}
	return problem.New(problem.SchemaNewer, "the tables are of version %d, and this program knows up to %d", version, len(names))
}

// looking works on a database without bringing its tables up to date.
func looking(ctx context.Context, dsn string, look func(*sql.DB) error) error {
	pool, err := connect(ctx, dsn, nil)
	if err != nil {
		return err
	}
	defer pool.Close()
	return look(pool)
}

// BeRestored is for records that were brought back from a backup: they know of an earlier
// moment. Everything is read anew before anything is decided by them, nothing is written until
// somebody has seen a rehearsal, and who had signed in then has to do it again.
func (s *session) BeRestored(ctx context.Context, made time.Time) error {
	return s.Tx(ctx, func(tx *Store) error {
		before, err := tx.Pauses.Now(ctx)
		if err != nil {
			return err
		}
		for _, statement := range []string{
			`UPDATE directory_states SET cookie = NULL`,
			`DELETE FROM cloud_state`,
			// How people sign in may have been switched since: it is told, and nobody is switched back.
			`UPDATE federations SET sent = version`,
			`DELETE FROM tokens WHERE kind = 'session'`,
			`DELETE FROM pauses WHERE of = 'everything'`, // the one that follows begins now
		} {
			if _, err := tx.Runs.exec(ctx, statement); err != nil {
				return err
			}
		}
		at := made.UTC().Format("2006-01-02 15:04 UTC")
		reason := "the records are those of a backup of " + at + "; look at the rehearsal that was begun since, and resume when it shows what you expect"
		for _, p := range before {
			if p.Of == pause.Everything && p.By != ByRestore {
				reason += "; it was paused then too, by " + p.By + ": " + p.Reason
			}
		}
		if err := tx.Pauses.Set(ctx, pause.Pause{Of: pause.Everything, By: ByRestore, Reason: reason}); err != nil {
			return err
		}
		return tx.Acts.Record(ctx, act.Act{Kind: act.RestoreRecords, By: "host", About: about.Thing{Type: about.Service}, Note: "from a backup of " + at})
	})
}

// Rehearsal is the rehearsal that was asked for last after a time and has not failed.
func (s Runs) Rehearsal(ctx context.Context, since time.Time) (id int64, state progress.State, err error) {
	var row struct {
		ID    int64
		State progress.State
	}
	err = s.raw(ctx, `SELECT id, state FROM runs WHERE purpose = 'rehearsal' AND state NOT IN ('failed', 'cancelled') AND created >= ? ORDER BY state IN ('in-step', 'problems') DESC, id DESC LIMIT 1`, since).Scan(&row).Error
	return row.ID, row.State, err
}
