package orders

import (
	"context"
	"errors"
	"log/slog"
	"slices"

	"kambrel.example/kambrel/core/logkey"
	"kambrel.example/kambrel/core/problem"
	protocol "kambrel.example/kambrel/protocol/orders"
	"kambrel.example/kambrel/service/store"
)

// errBrokenOff tells of an answer that did not come to its end, as when an agent is
// stopped or the network fails. That says nothing about the agent.
var errBrokenOff = errors.New("the answer broke off")

// atAgent are failures whose cause may lie at one agent: its password, its CA bundle,
// its way to the directory or its version. Another may do better.
var atAgent = []problem.Code{problem.DirectoryUnreachable, problem.DirectoryNotServed, problem.AgentMessageMalformed}

// fail ends an order that its agent could not carry out, or lets another have it.
func (i *ingestion) fail(ctx context.Context, s *store.Store, code problem.Code, detail string) error {
	said := "agent " + i.agent.Name + ": " + detail
	if !slices.Contains(atAgent, code) {
		return s.Orders.End(ctx, i.order.ID, string(code), said, i.counts)
	}
	slog.Warn("an agent fails for a directory", logkey.Agent, i.agent.Name, logkey.Directory, i.order.Directory, logkey.Order, i.order.ID, logkey.Code, code, logkey.Detail, detail)
	return s.Tx(ctx, func(tx *store.Store) error {
		if err := tx.Agents.Fail(ctx, i.agent.ID, i.order, code, detail); err != nil {
			return err
		}
		// What was written in part is not begun again by somebody who does not know it.
		if i.order.Kind != protocol.KindRepair || !i.came {
			handed, err := tx.Orders.HandOn(ctx, i.order.ID, i.agent.ID, code, said)
			if err != nil || handed {
				return err
			}
		}
		return tx.Orders.End(ctx, i.order.ID, string(code), said, i.counts)
	})
}

// proven takes back that the agent fails for the directory, since it did not.
func (i *ingestion) proven(ctx context.Context, tx *store.Store) error {
	if p, probed := i.taker.(*probeTaker); probed {
		if code, detail := p.verdict(); code != "" {
			return tx.Agents.Fail(ctx, i.agent.ID, i.order, code, detail)
		}
	}
	return tx.Agents.Heal(ctx, i.agent.ID, i.order.Directory)
}
