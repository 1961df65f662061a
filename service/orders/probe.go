package orders

import (
	"context"
	"slices"

	"kambrel.example/kambrel/core/problem"
	protocol "kambrel.example/kambrel/protocol/orders"
	"kambrel.example/kambrel/service/store"
)

// probeTaker keeps the verdicts of a probe once it has ended.
type probeTaker struct {
	*ingestion
	verdicts []protocol.Verdict
}

func newProbeTaker(i *ingestion) taker { return &probeTaker{ingestion: i} }

func (p *probeTaker) line(line protocol.Line) (belongs, full bool, err error) {
	if line.Verdict == nil {
		return false, false, nil
	}
	p.verdicts = append(p.verdicts, *line.Verdict)
	return true, false, nil
}

func (p *probeTaker) keep(context.Context, *store.Store) error { return nil }

// verdict is the agent's where it came no further than to the sign-in; what it finds in
// the directory is none of its faults.
func (p *probeTaker) verdict() (problem.Code, string) {
	for _, v := range p.verdicts {
		if v.Outcome == "bad" && slices.Contains(protocol.ConnectingSteps, v.Step) {
			return problem.DirectoryUnreachable, v.Step + ": " + v.Detail
		}
	}
	return "", ""
}

func (p *probeTaker) done(ctx context.Context, tx *store.Store, _ protocol.Done) error {
	return tx.Orders.SaveVerdicts(ctx, p.order.ID, p.verdicts)
}
