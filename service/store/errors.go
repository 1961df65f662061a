package store

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"gorm.io/driver/postgres"
	"gorm.io/gorm"
	"gorm.io/gorm/logger"

	"kambrel.example/kambrel/core/logkey"
)

// DatabaseError is a refusal of PostgreSQL without the values that it is about:
// those are people's data, and errors end in logs.
type DatabaseError struct {
	State             string // SQLSTATE
	Table, Constraint string
	cause             *pgconn.PgError
}

// tellable are the classes of states whose messages are about the database and
// not about what was given to it.
var tellable = []string{"08", "25", "40", "42", "53", "54", "55", "57", "58"}

func (e *DatabaseError) Error() string {
	text := "PostgreSQL refuses with SQLSTATE " + e.State
	if len(e.State) > 2 && slices.Contains(tellable, e.State[:2]) {
		text += ": " + e.cause.Message
	}
	if e.Table != "" {
		text += ", table " + e.Table
	}
	if e.Constraint != "" {
		text += ", constraint " + e.Constraint
	}
	return text
}

// Unwrap gives the driver's error, for errors.As; it must not be printed.
func (e *DatabaseError) Unwrap() error { return e.cause }

// dialector is PostgreSQL's with errors that do not tell values.
type dialector struct{ *postgres.Dialector }

// Translate is called by GORM for each error.
func (dialector) Translate(err error) error {
	var failure *pgconn.PgError
	var known *DatabaseError
	if !errors.As(err, &failure) || errors.As(err, &known) {
		return err
	}
	return &DatabaseError{State: failure.Code, Table: failure.TableName, Constraint: failure.ConstraintName, cause: failure}
}

// Explain is what GORM takes for the text of a statement, also where it never shows it: it
// would put in the values, which belong into no log, and of arrays that takes long.
func (dialector) Explain(statement string, _ ...any) string { return statement }

// statementLog logs statements that fail or take long, never with the values
// that they are given.
type statementLog struct{}

const slowStatement = 10 * time.Second

// ParamsFilter keeps the values out of what GORM hands to Trace.
func (statementLog) ParamsFilter(_ context.Context, statement string, _ ...any) (string, []any) {
	return statement, nil
}

// LogMode is there for the interface; there is one mode.
func (l statementLog) LogMode(logger.LogLevel) logger.Interface { return l }

// Info, Warn and Error are GORM's own words, which may hold values.
func (statementLog) Info(context.Context, string, ...any) {}

// Warn is left out as Info is.
func (statementLog) Warn(context.Context, string, ...any) {}

// Error is left out as Info is.
func (statementLog) Error(context.Context, string, ...any) {}

// Trace is called after each statement.
func (statementLog) Trace(ctx context.Context, begin time.Time, sql func() (string, int64), err error) {
	took := time.Since(begin)
	failed := err != nil && !errors.Is(err, gorm.ErrRecordNotFound) && ctx.Err() == nil
	if !failed && took < slowStatement {
		return
	}
	statement, _ := sql()
	statement = strings.Join(strings.Fields(statement), " ")
	if len(statement) > 120 {
		statement = statement[:120] + "..."
	}
	if failed {
		slog.Warn("a statement failed", logkey.Error, fmt.Sprint(dialector{}.Translate(err)), logkey.Statement, statement)
	} else {
		slog.Warn("a statement took long", logkey.Seconds, took.Seconds(), logkey.Statement, statement)
	}
}
