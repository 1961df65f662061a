package orders

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"io"
	"log/slog"
	"time"

	jsonv2 "github.com/go-json-experiment/json"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/logkey"
	"kambrel.example/kambrel/core/problem"
	protocol "kambrel.example/kambrel/protocol/orders"
	"kambrel.example/kambrel/service/store"
)

// longestLine, in bytes, holds a group of some 800,000 members. The buffer grows
// only as far as a line is long.
const longestLine = 64 << 20

// taker keeps what the answer to an order of one kind brings.
type taker interface {
	// line takes a line that is not the last; false says that it does not belong into
	// an answer of this kind. full tells that what has come is to be kept.
	line(line protocol.Line) (belongs, full bool, err error)
	// keep stores what has come so far. It may be in a transaction.
	keep(ctx context.Context, s *store.Store) error
	// done stores what follows from the end, after keep and in the same transaction.
	done(ctx context.Context, tx *store.Store, done protocol.Done) error
}

// takers make one for each kind of order; each is in a file of its own.
var takers = map[protocol.Kind]func(i *ingestion) taker{
	protocol.KindRead:   newReadTaker,
	protocol.KindFetch:  newFetchTaker,
	protocol.KindProbe:  newProbeTaker,
	protocol.KindRepair: newRepairTaker,
	protocol.KindSearch: newSearchTaker,

	protocol.KindPassword: newPasswordTaker,
	protocol.KindDigest:   newDigestTaker,
	protocol.KindGroups:   newGroupTaker,
	protocol.KindSignIn:   newSignInTaker,
}

// ingestion is one answer on its way.
type ingestion struct {
	orders  *Orders
	order   store.Order
	agent   store.Agent
	taker   taker
	came    bool // something has come
	counts  store.OrderCounts
	touched time.Time // when the lease was renewed last
	base    string    // the path of the directory's base, once it was asked for
}

// beneath tells whether a name lies beneath the base that the agent was asked about.
func (i *ingestion) beneath(dn string) (bool, error) {
	path, err := entry.PathOf(dn)
	if err != nil {
		return false, problem.Wrap(problem.AgentMessageMalformed, err, "order %d", i.order.ID)
	}
	if i.base == "" {
		if i.base, err = entry.PathOf(i.order.Request.Base); err != nil {
			return false, err
		}
	}
	return entry.PathUnder(path, i.base), nil
}

// Ingest stores an agent's answer as it streams in, and ends the order with its
// last line. An answer that breaks off gives the order back; what was stored
// already stays, since storing it again changes nothing.
func (o *Orders) Ingest(ctx context.Context, orderID int64, agent store.Agent, answer io.Reader) error {
	order, err := o.store.Orders.Get(ctx, orderID)
	if store.NotFound(err) || err == nil && (order.AgentID == nil || *order.AgentID != agent.ID || order.State != "leased") {
		return problem.New(problem.OrderLost, "order %d", orderID)
	}
	if err != nil {
		return err
	}
	if !agent.May(order.Directory) {
		return errors.Join(problem.New(problem.NotAllowed, "agent %s may not speak for the directory %s.", agent.Name, order.Directory), o.store.Orders.GiveBack(ctx, orderID, agent.ID))
	}
	i := &ingestion{orders: o, order: order, agent: agent, touched: time.Now()}
	newTaker, known := takers[order.Request.Kind()]
	if !known {
		return problem.New(problem.OrderLost, "order %d is of a kind that this service does not know: %q", orderID, order.Kind)
	}
	i.taker = newTaker(i)
	err = i.stream(ctx, answer)
	ctx = context.WithoutCancel(ctx)
	switch code := problem.CodeOf(err); {
	case err == nil, code == problem.OrderLost:
		return err
	case code == problem.EntryOutsideBase, code == problem.NothingVisible:
		// Told by the run, and not asked of another agent in the hope of better.
		slog.Error("an agent's answer was refused", logkey.Agent, agent.Name, logkey.Order, orderID, logkey.Directory, order.Directory, logkey.Code, code)
		return errors.Join(err, o.store.Orders.End(ctx, orderID, string(code), "agent "+agent.Name+": "+detailOf(err), i.counts))
	case store.Refused(err) != "":
		err = problem.New(problem.DatabaseRefused, "order %d: SQLSTATE %s", orderID, store.Refused(err))
		slog.Error("the database refused an agent's answer", logkey.Order, orderID, logkey.Directory, order.Directory, logkey.Error, err)
		return errors.Join(err, o.store.Orders.End(ctx, orderID, string(problem.DatabaseRefused), detailOf(err), i.counts))
	case code == problem.AgentMessageMalformed && !errors.Is(err, errBrokenOff):
		return errors.Join(err, i.fail(ctx, o.store, code, detailOf(err)))
	}
	return errors.Join(err, o.store.Orders.GiveBack(ctx, orderID, agent.ID))
}

func detailOf(err error) string {
	var p *problem.Error
	if errors.As(err, &p) {
		return p.Detail
	}
	return err.Error()
}

func (i *ingestion) stream(ctx context.Context, answer io.Reader) error {
	scanner := bufio.NewScanner(answer)
	scanner.Buffer(make([]byte, 64<<10), longestLine)
	scanner.Split(wholeLines)
	for number := 1; scanner.Scan(); number++ {
		var line protocol.Line
		if err := jsonv2.Unmarshal(scanner.Bytes(), &line); err != nil {
			return problem.Wrap(problem.AgentMessageMalformed, err, "order %d, line %d", i.order.ID, number)
		}
		ended, err := i.line(ctx, line)
		if err != nil {
			return err
		}
		if ended {
			// Read to the end of the request, so that the connection can be
			// used again.
			_, err := io.Copy(io.Discard, answer)
			return err
		}
	}
	if err := scanner.Err(); errors.Is(err, bufio.ErrTooLong) {
		return problem.Wrap(problem.AgentMessageMalformed, err, "order %d: an entry is longer than %d MB; is there a group with more members than that?", i.order.ID, longestLine>>20)
	}
	err := scanner.Err()
	if !errors.Is(err, errBrokenOff) {
		err = errors.Join(errBrokenOff, err)
	}
	return problem.Wrap(problem.AgentMessageMalformed, err, "order %d", i.order.ID)
}

// wholeLines splits into lines; the beginning of one is not taken for a line.
func wholeLines(data []byte, atEOF bool) (advance int, token []byte, err error) {
	if at := bytes.IndexByte(data, '\n'); at >= 0 {
		return at + 1, data[:at], nil
	}
	if atEOF && len(data) > 0 {
		return 0, nil, errBrokenOff
	}
	return 0, nil, nil
}

func (i *ingestion) line(ctx context.Context, line protocol.Line) (ended bool, err error) {
	s := i.orders.store
	switch {
	case line.Done != nil:
		return true, s.Tx(ctx, func(tx *store.Store) error {
			if err := i.flush(ctx, tx); err != nil {
				return err
			}
			if err := i.taker.done(ctx, tx, *line.Done); err != nil {
				return err
			}
			if err := i.proven(ctx, tx); err != nil {
				return err
			}
			return tx.Orders.End(ctx, i.order.ID, "", "", i.counts)
		})
	case line.Failed != nil:
		if err := i.flush(ctx, s); err != nil {
			return true, err
		}
		code := problem.Code(line.Failed.Code)
		if !problem.Known(code) { // an answer that failed is never taken for one that is done
			code = problem.AgentMessageMalformed
		}
		return true, i.fail(ctx, s, code, line.Failed.Detail)
	}
	full := false
	if !line.Alive {
		i.came = true
		var belongs bool
		if belongs, full, err = i.taker.line(line); err != nil {
			return false, err
		}
		if !belongs {
			return false, problem.New(problem.AgentMessageMalformed, "order %d: a %s is answered with something else", i.order.ID, i.order.Kind)
		}
	}
	if !full && time.Since(i.touched) < i.order.Kind.Lease(i.orders.lease)/4 {
		return false, nil
	}
	return false, i.flush(ctx, s)
}

// flush keeps what has come so far, and the lease. Of an order that was withdrawn
// nothing more is stored: what it has read may be older than what another has
// brought since.
func (i *ingestion) flush(ctx context.Context, s *store.Store) error {
	if err := i.renew(ctx, s); err != nil {
		return err
	}
	if err := i.taker.keep(ctx, s); err != nil {
		return err
	}
	i.touched = time.Now()
	return i.renew(ctx, s)
}

// renew renews the lease, and tells when the order is no longer this agent's.
func (i *ingestion) renew(ctx context.Context, s *store.Store) error {
	mine, err := s.Orders.Keep(ctx, i.order.ID, i.agent.ID, i.order.Kind.Lease(i.orders.lease), i.counts)
	if err == nil && !mine {
		err = problem.New(problem.OrderLost, "order %d", i.order.ID)
	}
	return err
}
