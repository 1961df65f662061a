package store

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/problem"
	protocol "kambrel.example/kambrel/protocol/orders"
)

// Orders are what agents are asked.
type Orders struct{ *session }

// Order is an order with its state.
type Order struct {
	ID            int64
	RunID         *int64 // nil for an order of no run
	Kind          protocol.Kind
	Priority      int  // the lowest is taken first
	Slow          bool // it may take minutes
	Erases        bool // the request is forgotten at the end
	Directory     string
	Request       protocol.Order `gorm:"serializer:json;type:jsonb"`
	State         string         // waiting, leased, done, failed
	AgentID       *string
	OnlyAgent     *string    // nobody else may take it
	Among         textArray  `gorm:"type:uuid[]"` // nobody but these; none for anybody
	NotBefore     *time.Time // nobody may take it before
	Checkup       bool       // it looks whether an agent is well again
	Taken         int        // how often
	Begun         int        // how often an agent has begun it, of one for a password
	LeaseUntil    *time.Time
	Created       time.Time
	FailureCode   string
	FailureDetail string
	Counts        OrderCounts `gorm:"serializer:json;type:jsonb"`
	// Result is what a probe found.
	Result []protocol.Verdict `gorm:"serializer:json;type:jsonb"`
	// Outcome is what became of a password.
	Outcome *protocol.PasswordDone `gorm:"serializer:json;type:jsonb"`
	// SignedIn is what was said of somebody who signs in.
	SignedIn *protocol.SignedIn `gorm:"serializer:json;type:jsonb"`
	// Found are the ids of what a search found.
	Found textArray `gorm:"type:uuid[];->"`
}

// OrderCounts is what an order's answer held so far.
type OrderCounts struct {
	Read    int `json:"read"`
	Changed int `json:"changed"`
	Gone    int `json:"gone"`
}

// Add asks an agent for work.
func (s Orders) Add(ctx context.Context, order *Order) error {
	order.State, order.Created, order.Kind = "waiting", time.Now(), order.Request.Kind()
	if order.Kind == "" {
		return fmt.Errorf("the order for %s asks for nothing", order.Directory)
	}
	order.Priority, order.Slow, order.Erases = order.Kind.Priority(), order.Kind.Slow(), order.Kind.Erases()
	if err := s.with(ctx).Create(order).Error; err != nil {
		return fmt.Errorf("keep the order: %w", err)
	}
	return s.Notify(ctx, Event{Kind: "order", ID: order.ID})
}

// OfRun returns the last order of a run for a directory.
func (s Orders) OfRun(ctx context.Context, run int64, directory string) (Order, bool, error) {
	var order Order
	err := s.with(ctx).Where("run_id = ? AND directory = ? AND kind = 'read'", run, directory).Order("id DESC").Take(&order).Error
	if NotFound(err) {
		return Order{}, false, nil
	}
	return order, err == nil, err
}

// Get returns an order by id.
func (s Orders) Get(ctx context.Context, id int64) (Order, error) {
	var order Order
	return order, s.with(ctx).Where("id = ?", id).Take(&order).Error
}

// Take leases the order that an agent is to carry out next, by priority: the
// oldest of the lane that waits or whose lease has lapsed. Several agents never take the same one. One that has failed an order does
// not get it again, and one that fails for the directory only where no other is left.
func (s Orders) Take(ctx context.Context, agent string, directories []string, lane protocol.Lane, usual time.Duration) (Order, bool, error) {
	var id int64
	err := s.raw(ctx, `
		UPDATE orders SET state = 'leased', agent_id = @agent, taken = taken + 1, lease_until = now() + CASE WHEN kind = @password THEN CAST(@short AS float8) WHEN kind = @signIn THEN CAST(@soon AS float8) ELSE CAST(@usual AS float8) END * interval '1 second' WHERE id = (
			SELECT id FROM orders o WHERE directory = ANY(CAST(@directories AS text[])) AND (state = 'waiting' OR state = 'leased' AND lease_until < now())
			AND (NOT @shadow OR kind IN ('read', 'fetch', 'probe', 'search', 'sign-in')) AND (kind IN (@password, @signIn)) = (@lane = @passwords) AND NOT (@lane = @quick AND slow) AND (among = '{}' OR @agent = ANY(among)) AND taken < @most AND (not_before IS NULL OR not_before <= now()) AND NOT @agent = ANY(failed_by)
			AND (only_agent = @agent OR only_agent IS NULL AND (
				NOT EXISTS (SELECT FROM agent_faults f WHERE f.agent_id = @agent AND f.directory = o.directory)
				OR NOT EXISTS (SELECT FROM agents a WHERE `+canTake+` AND NOT EXISTS (SELECT FROM agent_faults f WHERE f.agent_id = a.id AND f.directory = o.directory))))
			ORDER BY priority, id LIMIT 1 FOR UPDATE OF o SKIP LOCKED
		) RETURNING id`, map[string]any{"agent": agent, "usual": usual.Seconds(), "short": protocol.KindPassword.Lease(usual).Seconds(), "directories": textArray(directories),
		"lane": lane, "quick": protocol.LaneQuick, "passwords": protocol.LanePasswords, "password": protocol.KindPassword, "signIn": protocol.KindSignIn, "soon": protocol.KindSignIn.Lease(usual).Seconds(), "most": MostTaken, "within": askingWithin.Seconds(), "shadow": s.IsShadow()}).Scan(&id).Error
	if err != nil || id == 0 {
		return Order{}, false, err
	}
	order, err := s.Get(ctx, id)
	return order, err == nil, err
}

// MostTaken is how often an order is taken before it is given up: an answer that never
// comes to its end is not asked for without end.
const MostTaken = 8

// askingWithin is how long ago an agent has asked that would take an order now.
const askingWithin = 8 * time.Second

// canTake is true of the agents a other than @agent that would take the order o.
const canTake = `a.id <> @agent AND o.directory = ANY(a.granted) AND o.directory = ANY(a.directories) AND a.last_contact > now() - @within * interval '1 second' AND NOT a.id = ANY(o.failed_by) AND (o.among = '{}' OR a.id = ANY(o.among))`

// HandOn lets another agent do what one has failed to do, and keeps what that one said;
// false when there is no other.
func (s Orders) HandOn(ctx context.Context, id int64, agent string, code problem.Code, said string) (bool, error) {
	n, err := s.exec(ctx, `UPDATE orders o SET state = 'waiting', agent_id = NULL, failed_by = failed_by || CAST(@agent AS uuid), failure_code = @code, failure_detail = failure_detail || @said || '; '
		WHERE id = @id AND agent_id = @agent AND state = 'leased' AND only_agent IS NULL AND EXISTS (SELECT FROM agents a WHERE `+canTake+`)`,
		map[string]any{"id": id, "agent": agent, "code": code, "said": said, "within": askingWithin.Seconds()})
	if err != nil || n == 0 {
		return false, err
	}
	return true, s.Notify(ctx, Event{Kind: "order", ID: id})
}

// Keep renews a lease and keeps the counts; false says that the order is
// no longer the agent's.
func (s Orders) Keep(ctx context.Context, id int64, agent string, lease time.Duration, counts OrderCounts) (bool, error) {
	text, err := json.Marshal(counts)
	if err != nil {
		return false, err
	}
	n, err := s.exec(ctx, `UPDATE orders SET lease_until = now() + ? * interval '1 second', counts = ?::jsonb WHERE id = ? AND agent_id = ? AND state = 'leased'`,
		lease.Seconds(), string(text), id, agent)
	return n == 1, err
}

// End ends an order: done when code is "". What was asked is forgotten where its kind
// says so.
func (s Orders) End(ctx context.Context, id int64, code, detail string, counts OrderCounts) error {
	state := "done"
	if code != "" {
		state = "failed"
	}
	text, err := json.Marshal(counts)
	if err != nil {
		return err
	}
	if _, err := s.exec(ctx, `UPDATE orders SET state = ?, failure_code = ?, failure_detail = CASE WHEN ? = '' THEN '' ELSE failure_detail || ? END, counts = ?::jsonb, request = CASE WHEN erases THEN '{}' ELSE request END WHERE id = ?`, state, code, code, detail, string(text), id); err != nil {
		return err
	}
	return s.Notify(ctx, Event{Kind: "order", ID: id})
}

// Withdraw ends the orders of a run that are still open: an agent that is
// at one finds that it is no longer its own.
func (s Orders) Withdraw(ctx context.Context, run int64) error {
	_, err := s.exec(ctx, `UPDATE orders SET state = 'failed', failure_code = 'cancelled', failure_detail = '' WHERE run_id = ? AND state IN ('waiting', 'leased')`, run)
	return err
}

// WithdrawAll ends the orders that are open.
func (s Orders) WithdrawAll(ctx context.Context) error {
	_, err := s.exec(ctx, `UPDATE orders SET state = 'failed', failure_code = 'cancelled', failure_detail = '', request = CASE WHEN kind IN ('read', 'fetch', 'probe', 'search') THEN request ELSE '{}' END WHERE state IN ('waiting', 'leased')`)
	return err
}

// WithdrawGroups ends what a run has asked to be written of groups, since it is planned anew.
func (s Orders) WithdrawGroups(ctx context.Context, run int64) error {
	_, err := s.exec(ctx, `UPDATE orders SET state = 'failed', failure_code = 'cancelled', failure_detail = '', request = '{}' WHERE run_id = ? AND kind = 'groups' AND state IN ('waiting', 'leased')`, run)
	return err
}

// SaveVerdicts keeps what a probe has found so far.
func (s Orders) SaveVerdicts(ctx context.Context, id int64, verdicts []protocol.Verdict) error {
	text, err := json.Marshal(verdicts)
	if err != nil {
		return err
	}
	_, err = s.exec(ctx, `UPDATE orders SET result = ?::jsonb WHERE id = ?`, string(text), id)
	return err
}

// SaveFound keeps what a search has found.
func (s Orders) SaveFound(ctx context.Context, id int64, found []entry.ID) error {
	_, err := s.exec(ctx, `UPDATE orders SET found = ?::text[]::uuid[] WHERE id = ?`, idArray(found), id)
	return err
}

// SaveOutcome keeps what became of an order for a password.
func (s Orders) SaveOutcome(ctx context.Context, id int64, done protocol.PasswordDone) error {
	text, err := json.Marshal(done)
	if err != nil {
		return err
	}
	if _, err = s.exec(ctx, `UPDATE orders SET outcome = ?::jsonb WHERE id = ?`, string(text), id); err != nil {
		return err
	}
	return s.Notify(ctx, Event{Kind: "order", ID: id}) // somebody waits for it
}

// SaveSignedIn keeps what was said of somebody who signs in.
func (s Orders) SaveSignedIn(ctx context.Context, id int64, said protocol.SignedIn) error {
	text, err := json.Marshal(said)
	if err != nil {
		return err
	}
	_, err = s.exec(ctx, `UPDATE orders SET signed_in = ?::jsonb WHERE id = ?`, string(text), id)
	return err
}

// Begin notes that the agent that has an order begins it now; false when the order is no
// longer the agent's, which must leave it then.
func (s Orders) Begin(ctx context.Context, id int64, agent string, usual time.Duration) (bool, error) {
	n, err := s.exec(ctx, `UPDATE orders SET begun = begun + 1, lease_until = now() + ? * interval '1 second' WHERE id = ? AND agent_id = ? AND state = 'leased' AND kind = ?`,
		protocol.KindPassword.Lease(usual).Seconds(), id, agent, protocol.KindPassword)
	return n == 1, err
}

// WithdrawUnbegun ends an order that nobody has begun, so that nobody will; false when
// somebody has, or when it has ended.
func (s Orders) WithdrawUnbegun(ctx context.Context, id int64) (bool, error) {
	n, err := s.exec(ctx, `UPDATE orders SET state = 'failed', failure_code = CASE WHEN failure_code = '' THEN 'cancelled' ELSE failure_code END, request = '{}' WHERE id = ? AND state IN ('waiting', 'leased') AND begun = 0`, id)
	return n == 1, err
}

// LastProbe returns the newest probe of a directory that has ended; one by an agent that
// fails there only where no other has probed it.
func (s Orders) LastProbe(ctx context.Context, directory string) (Order, bool, error) {
	var order Order
	err := s.with(ctx).Where("directory = ? AND kind = 'probe' AND state = 'done' AND NOT checkup", directory).Order("EXISTS (SELECT FROM agent_faults f WHERE f.agent_id = orders.agent_id AND f.directory = orders.directory), id DESC").Take(&order).Error
	if NotFound(err) {
		return Order{}, false, nil
	}
	return order, err == nil, err
}

// Prune deletes orders of no run that ended before a time, but for the
// last probe of each directory.
func (s Orders) Prune(ctx context.Context, before time.Time) error {
	_, err := s.exec(ctx, `DELETE FROM orders WHERE run_id IS NULL AND state IN ('done', 'failed') AND created < ?
		AND id NOT IN (SELECT max(id) FROM orders WHERE kind = 'probe' AND state = 'done' AND NOT checkup GROUP BY directory)`, before)
	return err
}

// Drop takes an order away that nobody will ask about again.
func (s Orders) Drop(ctx context.Context, id int64) error {
	_, err := s.exec(ctx, `DELETE FROM orders WHERE id = ?`, id)
	return err
}

// GiveBack lets another agent take an order whose answer broke off.
func (s Orders) GiveBack(ctx context.Context, id int64, agent string) error {
	if _, err := s.exec(ctx, `UPDATE orders SET state = 'waiting', agent_id = NULL WHERE id = ? AND agent_id = ? AND state = 'leased'`, id, agent); err != nil {
		return err
	}
	return s.Notify(ctx, Event{Kind: "order", ID: id})
}
