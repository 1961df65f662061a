package orders

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"io"
	"log/slog"
	"slices"
	"time"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/logkey"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/protocol/wire"
	"kambrel.example/kambrel/service/store"
)

const (
	ingestBatch = 1000
	repairBatch = 50
	// longestLine, in bytes, holds a group of some 800,000 members. The buffer
	// grows only as far as a line is long.
	longestLine = 64 << 20
)

// Take gives an agent the next order that it can serve, waiting for one
// until ctx ends; false says that there was none. quick asks for those alone that
// take no long reading, so that two of these never make a probe wait.
func (o *Orders) Take(ctx context.Context, agent store.Agent, quick bool) (wire.Order, bool, error) {
	events, stop := o.hub.Subscribe()
	defer stop()
	for {
		// Read anew, since what it serves may change while it waits.
		agent, err := o.store.Agent(context.WithoutCancel(ctx), agent.ID)
		if store.NotFound(err) {
			return wire.Order{}, false, problem.New(problem.AgentRetired, "")
		}
		if err != nil {
			return wire.Order{}, false, err
		}
		if err := o.store.TouchAgent(context.WithoutCancel(ctx), agent.ID); err != nil {
			return wire.Order{}, false, err
		}
		order, ok, err := o.store.TakeOrder(context.WithoutCancel(ctx), agent.ID, agent.Serves(), quick, o.lease)
		if err != nil {
			return wire.Order{}, false, err
		}
		if ok {
			request := order.Request
			request.ID, request.LeaseSeconds = order.ID, int(o.lease/time.Second)
			return request, true, nil
		}
		select {
		case <-ctx.Done():
			return wire.Order{}, false, nil
		case <-events:
		case <-time.After(2 * time.Second): // a lease may have lapsed
		}
	}
}

// ingestion is one answer on its way into the source mirror.
type ingestion struct {
	orders  *Orders
	order   store.Order
	base    string // path of the directory's base, once it was asked for
	agent   string
	entries []*entry.Entry
	gone    []entry.ID
	seen    map[entry.ID]struct{}
	counts  store.OrderCounts

	verdicts []wire.Verdict
	repaired []wire.Repaired
	touched  time.Time
}

// Ingest stores an agent's answer as it streams in, and ends the order with its
// last line. An answer that breaks off gives the order back; what was stored
// already stays, since storing it again changes nothing.
func (o *Orders) Ingest(ctx context.Context, orderID int64, agent store.Agent, answer io.Reader) error {
	order, err := o.store.Order(ctx, orderID)
	if store.NotFound(err) || err == nil && (order.AgentID == nil || *order.AgentID != agent.ID || order.State != "leased") {
		return problem.New(problem.OrderLost, "order %d", orderID)
	}
	if err != nil {
		return err
	}
	if !agent.May(order.Directory) {
		return errors.Join(problem.New(problem.NotAllowed, "agent %s may not speak for the directory %s.", agent.Name, order.Directory), o.store.GiveBackOrder(ctx, orderID, agent.ID))
	}
	i := &ingestion{orders: o, order: order, agent: agent.ID, seen: map[entry.ID]struct{}{}}
	err = i.stream(ctx, answer)
	ctx = context.WithoutCancel(ctx)
	switch code := problem.CodeOf(err); {
	case err == nil, code == problem.OrderLost:
		return err
	case code == problem.EntryOutsideBase:
		// Told by the run, and not asked of another agent in the hope of better.
		slog.Error("an agent's answer was refused", logkey.Agent, agent.Name, logkey.Order, orderID, logkey.Directory, order.Directory, logkey.Code, code)
		return errors.Join(err, o.store.EndOrder(ctx, orderID, string(code), "agent "+agent.Name+": "+detailOf(err), i.counts))
	case store.Refused(err) != "":
		err = problem.New(problem.DatabaseRefused, "order %d: SQLSTATE %s", orderID, store.Refused(err))
		slog.Error("the database refused an agent's answer", logkey.Order, orderID, logkey.Directory, order.Directory, logkey.Error, err)
		return errors.Join(err, o.store.EndOrder(ctx, orderID, string(problem.DatabaseRefused), detailOf(err), i.counts))
	}
	return errors.Join(err, o.store.GiveBackOrder(ctx, orderID, agent.ID))
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
	for number := 1; scanner.Scan(); number++ {
		var line wire.Line
		if err := json.Unmarshal(scanner.Bytes(), &line); err != nil {
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
	} else if err != nil {
		return problem.Wrap(problem.AgentMessageMalformed, err, "order %d: the answer broke off", i.order.ID)
	}
	return problem.New(problem.AgentMessageMalformed, "order %d: the answer broke off", i.order.ID)
}

func (i *ingestion) line(ctx context.Context, line wire.Line) (ended bool, err error) {
	switch {
	case line.Entry != nil:
		if err := i.admit(line.Entry); err != nil {
			return false, err
		}
		i.seen[line.Entry.ID] = struct{}{}
		i.entries = append(i.entries, line.Entry)
		if line.Entry.Kind != entry.Container {
			i.counts.Read++
		}
	case line.Gone != nil:
		i.gone = append(i.gone, *line.Gone)
		delete(i.seen, *line.Gone)
	case line.Restart:
		clear(i.seen)
	case line.Verdict != nil:
		i.verdicts = append(i.verdicts, *line.Verdict)
		return false, nil
	case line.Repair != nil:
		i.repaired = append(i.repaired, *line.Repair)
	case line.Done != nil:
		return true, i.done(ctx, *line.Done)
	case line.Failed != nil:
		if err := i.flush(ctx, i.orders.store); err != nil {
			return true, err
		}
		code := line.Failed.Code
		if !problem.Known(problem.Code(code)) { // an answer that failed is never taken for one that is done
			code = string(problem.AgentMessageMalformed)
		}
		return true, i.orders.store.EndOrder(ctx, i.order.ID, code, line.Failed.Detail, i.counts)
	default:
		for _, id := range line.Present {
			i.seen[id] = struct{}{}
		}
	}
	if len(i.entries)+len(i.gone) < ingestBatch && len(i.repaired) < repairBatch && time.Since(i.touched) < i.orders.lease/4 {
		return false, nil
	}
	return false, i.flush(ctx, i.orders.store)
}

// admit refuses what the agent was not asked about: only what lies beneath the
// directory's base may come from it.
func (i *ingestion) admit(e *entry.Entry) error {
	path, err := entry.PathOf(e.DN)
	if err != nil {
		return problem.Wrap(problem.AgentMessageMalformed, err, "order %d", i.order.ID)
	}
	if i.base == "" {
		if i.base, err = entry.PathOf(i.order.Request.Base); err != nil {
			return err
		}
	}
	if !entry.PathUnder(path, i.base) {
		return problem.New(problem.EntryOutsideBase, "%s is not beneath %s", e.DN, i.order.Request.Base)
	}
	if e.Kind != entry.Container && !slices.Contains(entry.Kinds, e.Kind) {
		return problem.New(problem.AgentMessageMalformed, "order %d: %s is of the kind %q", i.order.ID, e.DN, e.Kind)
	}
	e.Directory, e.Gone, e.Fault = i.order.Directory, false, ""
	return nil
}

// storeEntries keeps a batch. When the database cannot take it, each entry is
// kept by itself, and those that it cannot take with a fault instead of values.
func (i *ingestion) storeEntries(ctx context.Context, s *store.Store) (store.Stored, error) {
	keep := func(entries []*entry.Entry) (stored store.Stored, err error) {
		err = s.Tx(ctx, func(tx *store.Store) error {
			stored, err = tx.StoreEntries(ctx, i.source(), entries)
			return err
		})
		return stored, err
	}
	stored, err := keep(i.entries)
	if store.Refused(err) == "" {
		return stored, err
	}
	stored = store.Stored{}
	for _, e := range i.entries {
		one, err := keep([]*entry.Entry{e})
		if state := store.Refused(err); state != "" {
			empty := entry.Entry{Directory: e.Directory, ID: e.ID, Kind: e.Kind, DN: e.DN, Fault: "the database does not take a value of it (SQLSTATE " + state + ")"}
			one, err = keep([]*entry.Entry{&empty})
		}
		if err != nil {
			return stored, err
		}
		stored.Added, stored.Changed = stored.Added+one.Added, stored.Changed+one.Changed
	}
	return stored, nil
}

func (i *ingestion) source() store.Source {
	return store.Source{Directory: i.order.Directory, Pointers: i.order.Request.Pointers, ByName: i.order.Request.Dialect == entry.Standard}
}

// flush stores what has come so far and keeps the lease. Of an order that was
// withdrawn nothing more is stored: what it has read may be older than what
// another has brought since.
func (i *ingestion) flush(ctx context.Context, s *store.Store) error {
	if err := i.keep(ctx, s); err != nil {
		return err
	}
	if len(i.entries) > 0 {
		stored, err := i.storeEntries(ctx, s)
		if err != nil {
			return err
		}
		i.counts.Changed += stored.Added + stored.Changed
		i.entries = i.entries[:0]
	}
	if len(i.gone) > 0 {
		n, err := s.MarkGone(ctx, i.order.Directory, i.gone)
		if err != nil {
			return err
		}
		i.counts.Gone += n
		i.gone = i.gone[:0]
	}
	if len(i.repaired) > 0 {
		if err := s.SaveRepaired(ctx, i.order.Request.Repair, i.repaired); err != nil {
			return err
		}
		i.repaired = i.repaired[:0]
	}
	i.touched = time.Now()
	return i.keep(ctx, s)
}

// keep renews the lease, and tells when the order is no longer this agent's.
func (i *ingestion) keep(ctx context.Context, s *store.Store) error {
	mine, err := s.KeepOrder(ctx, i.order.ID, i.agent, i.orders.lease, i.counts)
	if err == nil && !mine {
		err = problem.New(problem.OrderLost, "order %d", i.order.ID)
	}
	return err
}

// done stores the rest and the cookie that covers it in one transaction.
func (i *ingestion) done(ctx context.Context, done wire.ReadDone) error {
	return i.orders.store.Tx(ctx, func(tx *store.Store) error {
		if err := i.flush(ctx, tx); err != nil {
			return err
		}
		switch i.order.Kind {
		case wire.OrderProbe:
			if err := tx.SaveVerdicts(ctx, i.order.ID, i.verdicts); err != nil {
				return err
			}
			return tx.EndOrder(ctx, i.order.ID, "", "", i.counts)
		case wire.OrderFetch:
			if err := tx.ResolveMembers(ctx, i.order.Directory); err != nil {
				return err
			}
			return tx.EndOrder(ctx, i.order.ID, "", "", i.counts)
		case wire.OrderRepair:
			return tx.EndOrder(ctx, i.order.ID, "", "", i.counts)
		}
		if err := tx.ResolveMembers(ctx, i.order.Directory); err != nil {
			return err
		}
		if done.Complete {
			n, err := tx.MarkGoneExcept(ctx, i.order.Directory, i.seen)
			if err != nil {
				return err
			}
			i.counts.Gone += n
		}
		err := tx.SaveDirectoryState(ctx, store.DirectoryState{
			Directory: i.order.Directory, Cookie: done.Cookie, Base: i.order.Request.Base, Attributes: i.order.Request.Attributes, Pointers: i.order.Request.Pointers, Read: time.Now(),
		})
		if err != nil {
			return err
		}
		return tx.EndOrder(ctx, i.order.ID, "", "", i.counts)
	})
}
