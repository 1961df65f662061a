package cli

import (
	"strings"
	"testing"

	"github.com/mattn/go-runewidth"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestColoursOnlyRepeatWords prints the same with colours and without, but for their codes,
// and lets no text of a directory set any.
func TestColoursOnlyRepeatWords(t *testing.T) {
	t.Parallel()
	write := func(coloured bool) string {
		var out strings.Builder
		w := cleanWriter{&out, coloured, 0}
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

// TestTablesFitTheTerminal prints a table for a narrow terminal: no line is wider, no word is
// lost, and a column that is narrow anyway stays.
func TestTablesFitTheTerminal(t *testing.T) {
	t.Parallel()
	table := newTable("STATE", "WHAT", "DETAIL")
	table.add("in-step", "Agents take over within seconds of one another", "cn=Pilot,ou=Teams,dc=halvard,dc=example and no other")
	table.add("failed", "港の制御所 の 人々 と 船", "-")
	for _, width := range []int{0, 30, 50, 72, 200} {
		var out strings.Builder
		require.NoError(t, table.print(cleanWriter{&out, false, width}))
		words := map[string]int{}
		for _, line := range strings.Split(out.String(), "\n") {
			if width >= 50 {
				assert.LessOrEqual(t, runewidth.StringWidth(line), width, line)
			}
			for _, word := range strings.Fields(line) {
				words[word]++
			}
		}
		for _, word := range []string{"in-step", "Agents", "another", "other", "人々", "failed"} {
			assert.Equal(t, 1, words[word], "%d wide: %s\n%s", width, word, out.String())
		}
		if width == 0 || width == 200 {
			assert.Equal(t, 3, strings.Count(out.String(), "\n"), "%d wide: each row is one line", width)
		}
	}
}
