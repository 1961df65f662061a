package sync_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/protocol/wire"
)

// TestOneChangeReadsNoWholeTable changes one title among many people: what a run of that
// costs must not grow with the directory, so no table that does is read row by row.
func TestOneChangeReadsNoWholeTable(t *testing.T) {
	t.Parallel()
	const crew = 2500
	w := worldtest.New(t, worldtest.LDIFPeople(crew))
	w.Activate(worldtest.Document())
	run := w.Run(wire.NewRun{})
	require.Equal(t, progress.InStep, run.State, "%+v", run.Failure)
	w.InStep(0)
	tables := []string{"changes", "claims", "entries", "links", "resources"}
	before := w.RowsPassed(tables...)
	w.Set(worldtest.Crew(7), "title", "Helmsman")
	w.InStep(1)
	for table, rows := range w.RowsPassed(tables...) {
		assert.Less(t, rows-before[table], int64(crew), "%s: rows read in a pass over the table", table)
	}
}
