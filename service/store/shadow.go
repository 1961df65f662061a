package store

import (
	"context"
	"fmt"

	"kambrel.example/kambrel/core/pause"
)

// shadowBy is who pauses everything in the records of a shadow.
const shadowBy = "shadow"

// BeShadow makes the records those of a shadow: everything is paused, which no operator
// ends as long as it is one, what was asked of agents before is asked no more, and agents
// are asked for reading alone. The pause stays when it is a shadow no more, until somebody
// resumes: two services that write for the same people must be nobody's oversight.
func (s *Store) BeShadow(ctx context.Context) error {
	s.shadow.Store(true)
	err := s.Tx(ctx, func(tx *Store) error {
		if err := tx.Orders.WithdrawAll(ctx); err != nil {
			return err
		}
		return tx.Pauses.Set(ctx, pause.Pause{Of: pause.Everything, By: shadowBy, Reason: "this service was started as a shadow, which reads and plans and writes nothing"})
	})
	if err != nil {
		return fmt.Errorf("become a shadow: %w", err)
	}
	return nil
}

// IsShadow tells whether they are those of a shadow.
func (s *session) IsShadow() bool { return s.shadow.Load() }
