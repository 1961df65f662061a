package orders

import (
	"context"

	protocol "kambrel.example/kambrel/protocol/orders"
	"kambrel.example/kambrel/service/store"
)

// repairedAtOnce is how many results are kept in one go.
const repairedAtOnce = 50

// repairTaker keeps what became of each value.
type repairTaker struct {
	*ingestion
	repaired []protocol.Repaired
}

func newRepairTaker(i *ingestion) taker { return &repairTaker{ingestion: i} }

func (r *repairTaker) line(line protocol.Line) (belongs, full bool, err error) {
	if line.Repaired == nil {
		return false, false, nil
	}
	r.repaired = append(r.repaired, *line.Repaired)
	return true, len(r.repaired) >= repairedAtOnce, nil
}

func (r *repairTaker) keep(ctx context.Context, s *store.Store) error {
	if len(r.repaired) == 0 {
		return nil
	}
	kept := r.repaired
	r.repaired = nil
	return s.Repairs.Save(ctx, r.order.Request.Repair.Number, kept)
}

func (r *repairTaker) done(context.Context, *store.Store, protocol.Done) error { return nil }
