// Package store keeps Kambrel's records in PostgreSQL through GORM: mirrors,
// links, runs, problems, agents, operators. It knows nothing of HTTP, LDAP or
// SCIM. What is small goes through GORM's models; what concerns many rows is
// one SQL statement over arrays, so that a batch costs one round trip. A Store
// serves many goroutines and many services on one database.
package store

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"embed"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"net"
	"net/url"
	"strings"
	"sync/atomic"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/pressly/goose/v3"
	"gorm.io/driver/postgres"
	"gorm.io/gorm"

	"kambrel.example/kambrel/core/problem"
)

//go:embed migrations/*.sql
var migrations embed.FS

// Store is an open database, or a transaction in one, cut by concept: each part has
// the records of one, in a file of its own.
type Store struct {
	*session
	Facts      Facts     // what decisions ask about others (decide.Facts)
	Cases      Cases     // entries with their links and resources
	Dirty      Dirty     // what the next plan must look at
	Entries    Entries   // the source mirror
	Resources  Resources // the cloud mirror
	Links      Links
	Choices    Choices    // what operators decided about entries
	Persons    Persons    // which entries are one person
	References References // members and pointers, compared
	Changes    Changes
	Pauses     Pauses
	// Certificates are until when those are valid that are met.
	Certificates Certificates
	Kept         Kept // what would have been taken away, and was discarded
	Pins         Pins // what was put back
	History      History
	Notices      Notices // what people are told
	Reports      Reports
	Runs         Runs
	Problems     Problems
	Acts         Acts
	Orders       Orders
	Agents       Agents
	Connection   Connection // which cloud the records are of
	Federations  Federations
	OwnProvider  OwnProvider
	Releases     Releases  // versions of the agent
	Operators    Operators // who may use the interface, and sessions
	Settings     Settings  // revisions and the draft
	Removed      Removed   // directories that were taken away
	Surveys      Surveys
	Repairs      Repairs
	Search       Search
	Passwords    Passwords // what the cloud asked about passwords
	Budget       Budget    // of requests to the cloud
	Expectations Expectations
	Digests      Digests // of whose password the cloud has a digest
	// CloudGroups are groups that the cloud owns, in directories.
	CloudGroups CloudGroups
}

// session is a connection to the database, or a transaction.
type session struct {
	db  *gorm.DB
	sql *sql.DB
	dsn string
	// written counts rows since PostgreSQL has last learnt how the tables look.
	written   *atomic.Int64
	shadow    *atomic.Bool
	ahead     *atomic.Int64 // see Ahead
	rehearsed bool          // see Rehearsed
}

// all is all parts on the same connection.
func (s *session) all() *Store {
	return &Store{
		session:      s,
		Facts:        Facts{s},
		CloudGroups:  CloudGroups{s},
		Cases:        Cases{s},
		Dirty:        Dirty{s},
		Entries:      Entries{s},
		Resources:    Resources{s},
		Links:        Links{s},
		Choices:      Choices{s},
		Persons:      Persons{s},
		References:   References{s},
		Changes:      Changes{s},
		Pauses:       Pauses{s},
		Certificates: Certificates{s},
		Kept:         Kept{s},
		Pins:         Pins{s},
		History:      History{s},
		Notices:      Notices{s},
		Reports:      Reports{s},
		Runs:         Runs{s},
		Problems:     Problems{s},
		Acts:         Acts{s},
		Orders:       Orders{s},
		Agents:       Agents{s},
		Connection:   Connection{s},
		Federations:  Federations{s},
		OwnProvider:  OwnProvider{s},
		Releases:     Releases{s},
		Operators:    Operators{s},
		Settings:     Settings{s},
		Removed:      Removed{s},
		Surveys:      Surveys{s},
		Repairs:      Repairs{s},
		Search:       Search{s},
		Passwords:    Passwords{s},
		Budget:       Budget{s},
		Expectations: Expectations{s},
		Digests:      Digests{s},
	}
}

// most connections that one service takes for its records.
const connections = 16

var errConnection = problem.New(problem.BadInput, "the database connection cannot be read: write postgres://user@host:port/name")

// connect makes a pool of connections to a database that answers.
func connect(ctx context.Context, dsn string, parameters map[string]string) (*sql.DB, error) {
	config, err := pgx.ParseConfig(dsn)
	if err != nil {
		return nil, errConnection
	}
	maps.Copy(config.RuntimeParams, parameters)
	pool := stdlib.OpenDB(*config)
	if err := pool.PingContext(ctx); err != nil {
		_ = pool.Close()
		return nil, problem.Wrap(problem.DatabaseUnreachable, err, "%s:%d", config.Host, config.Port)
	}
	return pool, nil
}

// Open connects and brings the schema up to date.
func Open(ctx context.Context, dsn string) (*Store, error) {
	pool, err := connect(ctx, dsn, map[string]string{
		// A plan made while the tables were small would be kept for prepared
		// statements and scan them when they are large.
		"plan_cache_mode": "force_custom_plan",
		// A service that was stopped in the middle of a transaction must not keep its
		// locks from the one that takes over.
		"idle_in_transaction_session_timeout": milliseconds(idleTransaction),
	})
	if err != nil {
		return nil, err
	}
	pool.SetMaxOpenConns(connections)
	pool.SetMaxIdleConns(connections)
	if err := migrate(ctx, pool); err != nil {
		_ = pool.Close()
		return nil, err
	}
	db, err := gorm.Open(dialector{&postgres.Dialector{Config: &postgres.Config{Conn: pool}}}, &gorm.Config{
		Logger: statementLog{}, TranslateError: true, SkipDefaultTransaction: true, PrepareStmt: false,
	})
	if err != nil {
		_ = pool.Close()
		return nil, fmt.Errorf("open the database: %w", err)
	}
	s := &session{db: db, sql: pool, dsn: dsn, written: &atomic.Int64{}, shadow: &atomic.Bool{}, ahead: &atomic.Int64{}}
	if err := s.compareClocks(ctx); err != nil {
		_ = pool.Close()
		return nil, fmt.Errorf("ask the database for its time: %w", err)
	}
	return s.all(), nil
}

// WithPassword puts a password into a connection, in either form (libpq section 34.1.1).
func WithPassword(dsn, password string) (string, error) {
	parsed, err := url.Parse(dsn)
	if err == nil && parsed.Scheme != "" {
		parsed.User = url.UserPassword(parsed.User.Username(), password)
		return parsed.String(), nil
	}
	if !strings.Contains(dsn, "=") {
		return "", errConnection
	}
	return dsn + " password='" + strings.NewReplacer(`\`, `\\`, `'`, `\'`).Replace(password) + "'", nil
}

func migrate(ctx context.Context, pool *sql.DB) error {
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return err
	}
	provider, err := goose.NewProvider(goose.DialectPostgres, pool, files)
	if err != nil {
		return fmt.Errorf("read the migrations: %w", err)
	}
	current, _, err := provider.GetVersions(ctx)
	if err != nil {
		return fmt.Errorf("read the version of the database: %w", err)
	}
	if err := CheckSchema(current); err != nil {
		return err
	}
	if _, err := provider.Up(ctx); err != nil {
		return fmt.Errorf("bring the database up to date: %w", err)
	}
	return nil
}

// Close ends all connections.
func (s *session) Close() error { return s.sql.Close() }

// Pool is the connections themselves, for what keeps tables of its own.
func (s *session) Pool() *sql.DB { return s.sql }

// Ping tells whether the database answers.
func (s *session) Ping(ctx context.Context) error {
	if err := s.sql.PingContext(ctx); err != nil {
		return problem.Wrap(problem.DatabaseUnreachable, err, "ping")
	}
	return nil
}

// Writable tells whether the database answers and takes writes.
func (s *session) Writable(ctx context.Context) error {
	var readOnly bool
	if err := s.sql.QueryRowContext(ctx, `SELECT pg_is_in_recovery() OR current_setting('transaction_read_only') = 'on'`).Scan(&readOnly); err != nil {
		return problem.Wrap(problem.DatabaseUnreachable, err, "ask")
	}
	if readOnly {
		return problem.New(problem.DatabaseReadOnly, "")
	}
	return nil
}

// Tx runs work in one transaction.
func (s *session) Tx(ctx context.Context, work func(tx *Store) error) error {
	return s.db.WithContext(ctx).Transaction(func(db *gorm.DB) error {
		within := *s
		within.db = db
		return work(within.all())
	})
}

// ByIndex has every row of a transaction's batches looked up by an index. What PostgreSQL
// knows of tables that grow meanwhile is old, and where it takes them for small it reads all
// of one for each batch, so that the work grows with the square of the directory.
func (s *session) ByIndex(ctx context.Context) error {
	_, err := s.exec(ctx, `SELECT set_config('enable_hashjoin', 'off', true), set_config('enable_mergejoin', 'off', true), set_config('enable_seqscan', 'off', true)`)
	return err
}

func (s *session) with(ctx context.Context) *gorm.DB { return s.db.WithContext(ctx) }

// exec runs a statement and returns the number of rows it touched.
func (s *session) exec(ctx context.Context, statement string, args ...any) (int64, error) {
	result := s.with(ctx).Exec(statement, arguments(args)...)
	s.written.Add(result.RowsAffected)
	return result.RowsAffected, result.Error
}

// raw prepares a query with arrays among its arguments.
func (s *session) raw(ctx context.Context, query string, args ...any) *gorm.DB {
	return s.with(ctx).Raw(query, arguments(args)...)
}

// Deadlock tells whether the database ended a transaction because two waited
// for each other; it can be done again.
func Deadlock(err error) bool {
	var failure *pgconn.PgError
	return errors.As(err, &failure) && failure.Code == "40P01"
}

// Refused tells the state (SQLSTATE) with which the database would not take what
// it was given, such as a character that it cannot keep; "" for anything else.
func Refused(err error) string {
	var failure *pgconn.PgError
	if errors.As(err, &failure) && (strings.HasPrefix(failure.Code, "22") || strings.HasPrefix(failure.Code, "23")) {
		return failure.Code
	}
	return ""
}

// Away tells that the database could not do anything just now, for a reason that is not in
// what it was asked: it is read-only, shuts down, or cannot be reached; nil of anything else.
// The states are those of PostgreSQL's appendix A.
func Away(err error) *problem.Error {
	var failure *pgconn.PgError
	var connect *pgconn.ConnectError
	var network *net.OpError
	switch {
	case errors.As(err, &failure):
		switch code := failure.Code; {
		case code == "25006": // read_only_sql_transaction
			return problem.New(problem.DatabaseReadOnly, "")
		case strings.HasPrefix(code, "08"), strings.HasPrefix(code, "57P0"), code == "53300": // connection, shutdown, too many connections
			return problem.New(problem.DatabaseUnreachable, "SQLSTATE %s", code)
		}
		return nil
	case errors.As(err, &connect), errors.As(err, &network), errors.Is(err, driver.ErrBadConn), errors.Is(err, io.ErrUnexpectedEOF):
		return problem.New(problem.DatabaseUnreachable, "it does not answer")
	}
	return nil
}

// NotFound tells whether an error means that there is no such record.
func NotFound(err error) bool { return errors.Is(err, gorm.ErrRecordNotFound) }

// muchWritten is from how many rows on PostgreSQL's own knowledge of its tables
// is too old.
const muchWritten = 5000

// Learn lets PostgreSQL learn how the tables look after much was written; its
// own rounds come minutes later, and until then it may read whole tables for one
// page. It looks at fewer rows than by itself: what counts is how many there are.
func (s *session) Learn(ctx context.Context) error {
	if s.written.Load() < muchWritten {
		return nil
	}
	defer s.written.Store(0)
	return s.Tx(ctx, func(tx *Store) error {
		if _, err := tx.exec(ctx, `SET LOCAL default_statistics_target = 20`); err != nil {
			return err
		}
		_, err := tx.exec(ctx, `ANALYZE entries, resources, links, claims, dirty, memberships, resource_members, pointers, dirty_references, dirty_members, followers, person_keys, changes, run_done`)
		return err
	})
}
