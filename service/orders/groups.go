package orders

import (
	"context"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/problem"
	protocol "kambrel.example/kambrel/protocol/orders"
	"kambrel.example/kambrel/service/store"
)

// groupsAtOnce is how many results are kept in one go.
const groupsAtOnce = 20

// groupTaker keeps what became of each group.
type groupTaker struct {
	*ingestion
	written []protocol.GroupWritten
}

func newGroupTaker(i *ingestion) taker { return &groupTaker{ingestion: i} }

func (g *groupTaker) line(line protocol.Line) (belongs, full bool, err error) {
	if line.Group == nil {
		return false, false, nil
	}
	names := []string{line.Group.DN}
	if line.Group.Entry != nil {
		names = append(names, line.Group.Entry.DN)
	}
	for _, name := range names {
		if name == "" {
			continue
		}
		if beneath, err := g.beneath(name); err != nil || !beneath {
			return true, false, problem.New(problem.EntryOutsideBase, "%s does not lie below %s", name, g.order.Request.Base)
		}
	}
	g.written = append(g.written, *line.Group)
	return true, len(g.written) >= groupsAtOnce, nil
}

func (g *groupTaker) keep(ctx context.Context, s *store.Store) error {
	if len(g.written) == 0 {
		return nil
	}
	kept := g.written
	g.written = nil
	return s.CloudGroups.Keep(ctx, g.order.Directory, g.order.Request.Dialect != entry.AD, *g.order.Request.Groups, kept)
}

func (g *groupTaker) done(context.Context, *store.Store, protocol.Done) error { return nil }
