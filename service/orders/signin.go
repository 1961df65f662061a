package orders

import (
	"context"

	"kambrel.example/kambrel/core/password"
	"kambrel.example/kambrel/core/problem"
	protocol "kambrel.example/kambrel/protocol/orders"
	"kambrel.example/kambrel/service/store"
)

// signInTaker keeps what an agent says of somebody who signs in.
type signInTaker struct {
	*ingestion
	said *protocol.SignedIn
}

func newSignInTaker(i *ingestion) taker { return &signInTaker{ingestion: i} }

func (s *signInTaker) line(line protocol.Line) (belongs, full bool, err error) {
	if line.SignedIn == nil || s.said != nil {
		return false, false, nil
	}
	s.said = line.SignedIn
	asked := s.order.Request.SignIn
	if s.said.Standing == password.StandsWell && asked.Entry != nil && s.said.Entry != *asked.Entry {
		return true, false, problem.New(problem.AgentMessageMalformed, "order %d: it is told of somebody else than was asked for", s.order.ID)
	}
	return true, false, nil
}

func (s *signInTaker) keep(context.Context, *store.Store) error { return nil }

func (s *signInTaker) done(ctx context.Context, tx *store.Store, _ protocol.Done) error {
	if s.said == nil {
		return problem.New(problem.AgentMessageMalformed, "order %d: the answer does not say who it is", s.order.ID)
	}
	return tx.Orders.SaveSignedIn(ctx, s.order.ID, *s.said)
}
