package store

import (
	"context"
	"database/sql"
	"time"

	"kambrel.example/kambrel/core/about"
	"kambrel.example/kambrel/core/act"
	"kambrel.example/kambrel/core/checkup"
)

// About tells what the database is.
func (s *session) About(ctx context.Context) (checkup.Database, error) {
	var d checkup.Database
	err := s.raw(ctx, `SELECT current_setting('server_version') AS version, pg_database_size(current_database()) AS bytes,
		(SELECT rolsuper FROM pg_roles WHERE rolname = current_user) AS superuser,
		current_setting('fsync') = 'on' AND current_setting('synchronous_commit') <> 'off' AS synced`).Scan(&d).Error
	d.Ahead = s.Ahead()
	return d, err
}

// LastBackup is when the last backup was made, nil for none.
func (s Acts) LastBackup(ctx context.Context) (*time.Time, error) {
	var rows []time.Time
	err := s.raw(ctx, `SELECT at FROM acts WHERE kind = ? ORDER BY at DESC LIMIT 1`, string(act.MakeBackup)).Scan(&rows).Error
	if err != nil || len(rows) == 0 {
		return nil, err
	}
	return &rows[0], nil
}

// NoteBackup notes in the records that a backup of them was made, whatever the version of the
// tables.
func NoteBackup(ctx context.Context, dsn, file string) error {
	return looking(ctx, dsn, func(pool *sql.DB) error {
		_, err := pool.ExecContext(ctx, `INSERT INTO acts (by, kind, about, subject, result, note) VALUES ('host', $1, $2, '', $3, $4)`,
			string(act.MakeBackup), string(about.Service), string(act.Done), file)
		return err
	})
}
