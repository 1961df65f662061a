package sheet

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestNoCellIsAFormula(t *testing.T) {
	t.Parallel()
	for value, cell := range map[string]string{
		"": "", "Mate": "Mate", "=1+1": "'=1+1", "+47 55": "'+47 55", "-": "'-", "@x": "'@x", "\tx": "'\tx", "'=x": "''=x", "'tis": "'tis", "a=b": "a=b",
	} {
		assert.Equal(t, cell, Cells(value)[0])
		assert.Equal(t, value, Value(cell), "read back as it was")
	}
}
