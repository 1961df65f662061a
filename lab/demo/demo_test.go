package demo

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/protocol/wire"
)

func TestTheFirstRunMayBeThatOfTheSchedule(t *testing.T) {
	t.Parallel()
	run := func(id int64, why purpose.Purpose) wire.Run { return wire.Run{ID: id, Purpose: why} }
	own := run(9, purpose.Sync)
	for name, c := range map[string]struct {
		runs []wire.Run
		want int64
	}{
		"the demo was the first":               {[]wire.Run{own, run(4, purpose.Sync)}, 9},
		"the schedule was faster":              {[]wire.Run{own, run(8, purpose.Sync), run(4, purpose.Sync)}, 8},
		"a rehearsal writes nothing":           {[]wire.Run{own, run(8, purpose.Rehearsal)}, 9},
		"what came after it is not the first":  {[]wire.Run{run(10, purpose.Sync), own}, 9},
		"the list of a service that forgot it": {nil, 9},
	} {
		assert.Equal(t, c.want, firstSince(c.runs, 4, own).ID, name)
	}
}
