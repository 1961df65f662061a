package store

import (
	"context"
	"time"

	"gorm.io/gorm"

	"kambrel.example/kambrel/core/problem"
	protocol "kambrel.example/kambrel/protocol/orders"
)

// AgentFault is why an agent fails for a directory. It gets no more orders for it while
// another agent is well.
type AgentFault struct {
	AgentID   string `gorm:"primaryKey"`
	Directory string `gorm:"primaryKey"`
	Code      problem.Code
	Detail    string
	Since     time.Time
	Times     int // how often in a row
}

// An agent at fault is looked at again after a pause that doubles each time.
const (
	firstCheckup   = 15 * time.Second
	longestCheckup = 10 * time.Minute
)

func pauseBeforeCheckup(times int) time.Duration {
	pause := firstCheckup
	for range times - 1 {
		pause = min(2*pause, longestCheckup)
	}
	return pause
}

// withFaults loads agents with what is wrong with them.
func (s Agents) withFaults(ctx context.Context) *gorm.DB {
	return s.with(ctx).Preload("Faults", func(db *gorm.DB) *gorm.DB { return db.Order("directory") })
}

// Fail marks an agent as failing for the directory of an order, and has it probed later:
// but for one whose answers cannot be read, which a probe cannot tell from a sound one.
// That one is well again when it starts anew.
func (s Agents) Fail(ctx context.Context, agent string, order Order, code problem.Code, detail string) error {
	var times int
	err := s.raw(ctx, `INSERT INTO agent_faults (agent_id, directory, code, detail) SELECT id, ?, ?, ? FROM agents WHERE id = ?
		ON CONFLICT (agent_id, directory) DO UPDATE SET code = EXCLUDED.code, detail = EXCLUDED.detail, times = agent_faults.times + 1 RETURNING times`,
		order.Directory, code, detail, agent).Scan(&times).Error
	if err != nil || times == 0 {
		return err
	}
	if code != problem.AgentMessageMalformed {
		if err := s.lookAgain(ctx, agent, order, time.Now().Add(pauseBeforeCheckup(times))); err != nil {
			return err
		}
	}
	return s.Notify(ctx, Event{Kind: "agent"})
}

// lookAgain has an agent probed by name, unless that is to come already.
func (s Agents) lookAgain(ctx context.Context, agent string, failed Order, from time.Time) error {
	var open int64
	err := s.with(ctx).Model(&Order{}).Where("checkup AND only_agent = ? AND directory = ? AND state IN ('waiting', 'leased') AND id <> ?", agent, failed.Directory, failed.ID).Count(&open).Error
	if err != nil || open > 0 {
		return err
	}
	return s.all().Orders.Add(ctx, &Order{Directory: failed.Directory, OnlyAgent: &agent, NotBefore: &from, Checkup: true,
		Request: protocol.Order{Directory: failed.Directory, Dialect: failed.Request.Dialect, Base: failed.Request.Base, Probe: &protocol.Probe{}}})
}

// Heal takes back that an agent fails for a directory.
func (s Agents) Heal(ctx context.Context, agent, directory string) error {
	n, err := s.exec(ctx, `DELETE FROM agent_faults WHERE agent_id = ? AND directory = ?`, agent, directory)
	if err != nil || n == 0 {
		return err
	}
	if _, err := s.exec(ctx, `DELETE FROM orders WHERE checkup AND only_agent = ? AND directory = ? AND state = 'waiting'`, agent, directory); err != nil {
		return err
	}
	return s.Notify(ctx, Event{Kind: "agent"})
}

// restarted gives an agent a new chance that has started anew or is configured
// otherwise: what cannot be probed is forgotten, the rest probed at once.
func (s Agents) restarted(ctx context.Context, agent string) error {
	if _, err := s.exec(ctx, `DELETE FROM agent_faults WHERE agent_id = ? AND code = ?`, agent, problem.AgentMessageMalformed); err != nil {
		return err
	}
	_, err := s.exec(ctx, `UPDATE orders SET not_before = now() WHERE checkup AND only_agent = ? AND state = 'waiting'`, agent)
	return err
}
