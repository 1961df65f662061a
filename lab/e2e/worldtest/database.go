package worldtest

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/lab/servers"
)

// pattern is a database as a service leaves it that was started on an empty one, with
// the server that has it. Copying it costs a tenth of a server and a start of its own,
// so the worlds of a package share that server.
var pattern struct {
	sync.Mutex
	lab    *servers.Lab
	server *servers.Postgres
	copies atomic.Int64
}

const patternName = "pattern"

// sharedDatabase returns a new database on the server of all worlds, which ends with
// the test, after what was started until then.
func sharedDatabase(t *testing.T) (*servers.Postgres, string) {
	t.Helper()
	server, err := patternServer(t.Context())
	require.NoError(t, err)
	name := fmt.Sprintf("world_%d", pattern.copies.Add(1))
	dsn, err := server.CreateFrom(t.Context(), name, patternName)
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, server.Drop(context.Background(), name)) })
	return server, dsn
}

func patternServer(ctx context.Context) (*servers.Postgres, error) {
	pattern.Lock()
	defer pattern.Unlock()
	if pattern.server != nil {
		return pattern.server, nil
	}
	dir, err := os.MkdirTemp("", "kambrel-pattern-")
	if err != nil {
		return nil, err
	}
	// PostgreSQL runs as a user of its own.
	if err := os.Chmod(dir, 0o755); err != nil {
		return nil, err
	}
	if pattern.lab, err = servers.New(dir); err != nil {
		return nil, err
	}
	pattern.lab.Many = true
	// It outlives the test that happens to come first.
	server, err := pattern.lab.StartPostgres(context.WithoutCancel(ctx), 0, true)
	if err != nil {
		return nil, err
	}
	dsn, err := server.Create(ctx, patternName)
	if err != nil {
		return nil, err
	}
	password := filepath.Join(dir, "administrator.password")
	if err := os.WriteFile(password, []byte(Password), 0o600); err != nil {
		return nil, err
	}
	port, err := servers.FreePort(0)
	if err != nil {
		return nil, err
	}
	address := fmt.Sprintf("127.0.0.1:%d", port)
	service, err := pattern.lab.Start(ctx, servers.Command{
		Name: "service", Path: Plainly.Kambrel, Env: []string{"KAMBREL_DATABASE=" + dsn},
		Args: []string{"serve", "--plain", "--listen", address, "--administrator-password-file", password,
			"--cloud-url", "http://127.0.0.1:9", "--cloud-token-file", password}, // no cloud is asked for anything
		Ready: servers.Answers("http://" + address + "/healthz"),
	})
	if err != nil {
		return nil, err
	}
	if err := service.Stop(); err != nil {
		return nil, fmt.Errorf("stop the service that made the pattern: %w", err)
	}
	pattern.server = server
	return server, nil
}

// removePattern ends the server of all worlds.
func removePattern() error {
	pattern.Lock()
	defer pattern.Unlock()
	if pattern.lab == nil {
		return nil
	}
	return errors.Join(pattern.lab.Stop(), servers.Remove(pattern.lab.Dir))
}

// DatabaseAway tells whether the world's own PostgreSQL has ended.
func (w *World) DatabaseAway() bool {
	select {
	case <-w.Postgres.Ended():
		return true
	default:
		return false
	}
}

// StartDatabase starts it again on its port, unless it runs.
func (w *World) StartDatabase() {
	w.T.Helper()
	if !w.DatabaseAway() {
		return
	}
	// Its other processes end a moment after it, and with them its port is free.
	require.Eventually(w.T, func() bool {
		port, err := servers.FreePort(w.Postgres.Port)
		return err == nil && port == w.Postgres.Port
	}, 20*time.Second, 20*time.Millisecond)
	again, err := w.Lab.StartPostgres(w.T.Context(), w.Postgres.Port, true)
	require.NoError(w.T, err)
	require.Equal(w.T, w.Postgres.Port, again.Port)
	w.Postgres = again
}

// ReadOnly lets the database take no writes, as one does that stands by, or take them
// again. Nothing happens to one that is away.
func (w *World) ReadOnly(only bool) {
	w.T.Helper()
	if w.DatabaseAway() {
		return
	}
	name, _, _ := strings.Cut(w.DSN[strings.LastIndexByte(w.DSN, '/')+1:], "?")
	err := w.Execute(fmt.Sprintf(`BEGIN; SET TRANSACTION READ WRITE; ALTER DATABASE %q SET default_transaction_read_only = %t; COMMIT`, name, only))
	if err == nil {
		err = w.EndSessions()
	}
	if err != nil {
		select {
		case <-w.Postgres.Ended(): // over a full disk, say, in this very moment
			return
		case <-time.After(5 * time.Second):
		}
	}
	require.NoError(w.T, err)
}

// EndSessions ends all connections to the database.
func (w *World) EndSessions() error {
	return w.Execute(`SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = current_database() AND backend_type = 'client backend' AND pid <> pg_backend_pid()`)
}

// Execute does something in the database that no user can.
func (w *World) Execute(statement string) error {
	db, err := sql.Open("pgx", w.DSN)
	if err != nil {
		return err
	}
	defer db.Close()
	_, err = db.ExecContext(w.T.Context(), statement)
	return err
}

// RowsPassed tells of tables how many rows were read so far by passes over the whole of
// them. Sessions tell when they end, so the service is started again for it.
func (w *World) RowsPassed(tables ...string) map[string]int64 {
	w.T.Helper()
	require.NoError(w.T, w.Service.Stop())
	defer w.StartService()
	db, err := sql.Open("pgx", w.DSN)
	require.NoError(w.T, err)
	defer db.Close()
	passed := map[string]int64{}
	for _, table := range tables {
		var rows int64
		require.NoError(w.T, db.QueryRowContext(w.T.Context(), `SELECT seq_tup_read FROM pg_stat_user_tables WHERE relname = $1`, table).Scan(&rows))
		passed[table] = rows
	}
	return passed
}
