package cli

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestColoursOnlyRepeatWords prints the same with colours and without, but for their codes,
// and lets no text of a directory set any.
func TestColoursOnlyRepeatWords(t *testing.T) {
	t.Parallel()
	write := func(coloured bool) string {
		var out strings.Builder
		w := cleanWriter{&out, coloured}
		table := newTable("NAME", "STATE")
		table.add("Ada \x1b[31m", "failed")
		table.add("Bo", "in-step")
		require.NoError(t, table.print(w))
		_, err := w.Write([]byte("create user ada  [done]\n  ! It belongs to somebody.\n"))
		require.NoError(t, err)
		return out.String()
	}
	plain := write(false)
	assert.Equal(t, "NAME       STATE\nAda \uFFFD[31m  failed\nBo         in-step\ncreate user ada  [done]\n  ! It belongs to somebody.\n", plain)
	inColour := write(true)
	assert.Contains(t, inColour, "\x1b[1mNAME\x1b[0m       \x1b[1mSTATE\x1b[0m\n")
	assert.Contains(t, inColour, "\x1b[31mfailed\x1b[0m\n")
	assert.Contains(t, inColour, "\x1b[32m[done]\x1b[0m\n\x1b[33m  ! It belongs to somebody.\x1b[0m\n")
	for _, code := range codes {
		inColour = strings.ReplaceAll(inColour, code, "")
	}
	assert.Equal(t, plain, inColour)
}
