package store

import (
	"context"
	"errors"
	"fmt"
	"net"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
	"golang.org/x/sys/unix"
)

// runLock is the advisory lock that the one service holds that executes runs.
const runLock = 0x6b616d62

const (
	// lockBeat is how often the lock's connection is tried.
	lockBeat = 500 * time.Millisecond
	// lockDoubt is after how long without an answer the holder writes nothing any
	// more.
	lockDoubt = 2 * time.Second
	// lockIdle is after how long without a word PostgreSQL ends the connection and
	// with it the lock. It is well above lockDoubt, so that nobody else begins
	// before the holder has stopped.
	lockIdle = 3500 * time.Millisecond
)

// idleTransaction is after how long PostgreSQL ends a transaction in which nothing is
// asked any more. Planning a batch on a busy machine asks nothing for seconds.
const idleTransaction = 20 * time.Second

// ErrLockLost says that another service may execute runs by now, so that nothing
// of this one counts any more.
var ErrLockLost = errors.New("this service no longer holds the lock under which runs are executed")

// Lock is held by the service that executes runs. A service that was stopped for
// a while finds it lost: PostgreSQL has ended the silent connection, and every
// write of state asks for the lock's number.
type Lock struct {
	epoch     int64
	confirmed atomic.Int64 // when PostgreSQL last answered, as monotonic nanoseconds since began
	began     time.Time
	lost      atomic.Bool
}

// Check says whether the lock is held for sure just now.
func (l *Lock) Check() error {
	if l.lost.Load() || time.Since(l.began)-time.Duration(l.confirmed.Load()) > lockDoubt {
		return ErrLockLost
	}
	return nil
}

type lockKey struct{}

// LockOf is the lock under which work is done, nil where it needs none.
func LockOf(ctx context.Context) *Lock {
	l, _ := ctx.Value(lockKey{}).(*Lock)
	return l
}

// fence refuses to go on in a transaction when the work is done under a lock
// that somebody else has taken meanwhile. Whoever takes it waits for the
// transactions that were let through.
func (s *session) fence(ctx context.Context) error {
	l := LockOf(ctx)
	if l == nil {
		return nil
	}
	if l.lost.Load() {
		return ErrLockLost
	}
	var epoch int64
	if err := s.raw(ctx, `SELECT epoch FROM run_lock FOR SHARE`).Scan(&epoch).Error; err != nil {
		return err
	}
	if epoch != l.epoch {
		l.lost.Store(true)
		return ErrLockLost
	}
	return nil
}

// Fenced is Tx that is refused when the lock of ctx is lost.
func (s *session) Fenced(ctx context.Context, work func(tx *Store) error) error {
	return s.Tx(ctx, func(tx *Store) error {
		if err := tx.fence(ctx); err != nil {
			return err
		}
		return work(tx)
	})
}

// WithRunLock runs work while holding the lock under which runs are executed.
// It returns false at once when another service holds it. The lock ends with
// its connection, which is tried all the time: when it does not answer, the
// context of work ends.
func (s *session) WithRunLock(ctx context.Context, work func(context.Context) error) (bool, error) {
	connection, err := s.lockConnection(ctx)
	if err != nil {
		return false, err
	}
	defer connection.Close(context.WithoutCancel(ctx))
	lock := &Lock{began: time.Now()}
	var locked bool
	if err := connection.QueryRow(ctx, `SELECT pg_try_advisory_lock($1)`, runLock).Scan(&locked); err != nil || !locked {
		return false, err
	}
	if err := endFenced(ctx, connection); err != nil {
		return false, err
	}
	if err := connection.QueryRow(ctx, `UPDATE run_lock SET epoch = epoch + 1 RETURNING epoch`).Scan(&lock.epoch); err != nil {
		return false, err
	}
	return true, lock.during(context.WithValue(ctx, lockKey{}, lock), connection, `SELECT epoch = $1 FROM run_lock`, work)
}

// endFenced ends the transactions that the holder before was let through with. One that
// was stopped in the middle of them would hold their rows until it goes on; what it has
// done in them is decided about anew, like all that was not kept.
func endFenced(ctx context.Context, connection *pgx.Conn) error {
	_, err := connection.Exec(ctx, `SELECT pg_terminate_backend(pid, 1000) FROM pg_locks
		WHERE relation = 'run_lock'::regclass AND mode = 'RowShareLock' AND database = (SELECT oid FROM pg_database WHERE datname = current_database()) AND pid <> pg_backend_pid()`)
	if err != nil {
		return fmt.Errorf("end the transactions of the service that executed runs before: %w", err)
	}
	return nil
}

// during runs work while the connection holds the lock, of which question asks it
// all the time with the lock's number.
func (l *Lock) during(ctx context.Context, connection *pgx.Conn, question string, work func(context.Context) error) error {
	ctx, cancel := context.WithCancelCause(ctx)
	watched := make(chan struct{})
	go func() {
		defer close(watched)
		if err := l.watch(ctx, connection, question); err != nil {
			l.lost.Store(true)
			cancel(err)
		}
	}()
	err := work(ctx)
	cause := context.Cause(ctx)
	cancel(nil)
	<-watched
	if errors.Is(cause, ErrLockLost) {
		return cause
	}
	release(ctx, connection)
	return err
}

// release ends the locks of a connection before it is closed, since PostgreSQL
// notices that a moment later only. A failure is of no matter: it closes all the same.
func release(ctx context.Context, connection *pgx.Conn) {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), lockDoubt)
	defer cancel()
	_, _ = connection.Exec(ctx, `SELECT pg_advisory_unlock_all()`)
}

// Work is what one service at a time is at, and another takes over from one that
// was killed. It is the class of the advisory locks by which that is known.
type Work int32

// The classes.
const (
	RunBeside Work = 0x6b616d63 // a run that writes nothing to the cloud
	Repairing Work = 0x6b616d64 // a repair in directories
	Listening Work = 0x6b616d65 // to the cloud's events
	Digesting Work = 0x6b616d66 // the rounds of password digests
	Indexing  Work = 0x6b616d67 // indexes that are made beside all work
	Watching  Work = 0x6b616d68 // what changes in the cloud
	SigningIn Work = 0x6b616d69 // how people sign in there
)

// Own lets the one service do work that owns what has the id; false says that another
// does. Like the lock above, this one ends with its connection, so that what a
// service has left is taken over soon after it was killed.
func (s *session) Own(ctx context.Context, class Work, id int64, work func(context.Context) error) (bool, error) {
	connection, err := s.lockConnection(ctx)
	if err != nil {
		return false, err
	}
	defer connection.Close(context.WithoutCancel(ctx))
	var locked bool
	if err := connection.QueryRow(ctx, `SELECT pg_try_advisory_lock($1, $2)`, int32(class), int32(id)).Scan(&locked); err != nil || !locked {
		return false, err
	}
	// The lock has no number: the connection holds it as long as it answers.
	lock := &Lock{began: time.Now()}
	return true, lock.during(ctx, connection, `SELECT $1::bigint >= 0`, work)
}

// lockConnection connects so that both ends notice soon when the other is gone.
func (s *session) lockConnection(ctx context.Context) (*pgx.Conn, error) {
	config, err := pgx.ParseConfig(s.dsn)
	if err != nil {
		return nil, err
	}
	config.DialFunc = (&net.Dialer{
		Timeout: lockIdle, KeepAliveConfig: net.KeepAliveConfig{Enable: true, Idle: lockBeat, Interval: lockBeat, Count: 3},
		Control: func(_, _ string, raw syscall.RawConn) error {
			return raw.Control(func(fd uintptr) {
				// Best effort: a local socket knows no such option.
				_ = unix.SetsockoptInt(int(fd), unix.IPPROTO_TCP, unix.TCP_USER_TIMEOUT, int(lockDoubt/time.Millisecond))
			})
		},
	}).DialContext
	for name, value := range map[string]string{
		"idle_session_timeout": milliseconds(lockIdle), "tcp_user_timeout": milliseconds(lockIdle), "tcp_keepalives_idle": "1", "tcp_keepalives_interval": "1", "tcp_keepalives_count": "3",
	} {
		config.RuntimeParams[name] = value
	}
	return pgx.ConnectConfig(ctx, config)
}

func milliseconds(d time.Duration) string { return fmt.Sprint(d.Milliseconds()) }

// watch tries the connection until ctx ends; an error says that the lock is lost.
func (l *Lock) watch(ctx context.Context, connection *pgx.Conn, question string) error {
	ticker := time.NewTicker(lockBeat)
	defer ticker.Stop()
	for {
		select {
		case <-ctx.Done():
			return nil
		case <-ticker.C:
		}
		beat, cancel := context.WithTimeout(ctx, lockDoubt)
		asked := time.Since(l.began)
		var held bool
		err := connection.QueryRow(beat, question, l.epoch).Scan(&held)
		cancel()
		switch {
		case ctx.Err() != nil:
			return nil
		case err != nil:
			return fmt.Errorf("%w: %w", ErrLockLost, err)
		case !held:
			return ErrLockLost
		}
		l.confirmed.Store(int64(asked))
	}
}
