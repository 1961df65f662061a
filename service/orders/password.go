package orders

import (
	"context"

	"kambrel.example/kambrel/core/password"
	"kambrel.example/kambrel/core/problem"
	protocol "kambrel.example/kambrel/protocol/orders"
	"kambrel.example/kambrel/service/store"
)

// passwordTaker keeps what became of a password, or of a trial.
type passwordTaker struct {
	*ingestion
	outcome  *protocol.PasswordDone
	kept     bool
	verdicts []protocol.Verdict
}

func newPasswordTaker(i *ingestion) taker { return &passwordTaker{ingestion: i} }

func (p *passwordTaker) line(line protocol.Line) (belongs, full bool, err error) {
	trial := p.order.Request.Password.Try != nil
	switch {
	case line.Verdict != nil && trial:
		p.verdicts = append(p.verdicts, *line.Verdict)
		return true, false, nil
	case line.Password == nil || trial || p.outcome != nil:
		return false, false, nil
	}
	if !password.Known(line.Password.Reason) {
		return true, false, problem.New(problem.AgentMessageMalformed, "order %d: %q is no reason", p.order.ID, line.Password.Reason)
	}
	p.outcome = line.Password
	return true, false, nil
}

func (p *passwordTaker) keep(ctx context.Context, s *store.Store) error {
	if p.outcome == nil {
		return nil
	}
	if p.kept {
		return nil
	}
	p.kept = true
	return s.Orders.SaveOutcome(ctx, p.order.ID, *p.outcome)
}

func (p *passwordTaker) done(ctx context.Context, tx *store.Store, _ protocol.Done) error {
	if p.verdicts != nil {
		return tx.Orders.SaveVerdicts(ctx, p.order.ID, p.verdicts)
	}
	if p.outcome == nil {
		return problem.New(problem.AgentMessageMalformed, "order %d: the answer does not say what became of it", p.order.ID)
	}
	return nil
}
