package settings

import (
	"fmt"
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestWhatIsNotReadAtAll has texts that cost far more than their length.
func TestWhatIsNotReadAtAll(t *testing.T) { // alone, since memory is measured
	steps := ""
	for i := range 60 {
		steps += strings.Repeat(" ", i) + "a:\n"
	}
	for name, c := range map[string]struct{ text, says string }{
		"brackets":               {strings.Repeat("[", 100_000), "line 1, column 51"},
		"braces after a quote":   {"a: it's " + strings.Repeat("{", 1000), "nested deeper"},
		"brackets line by line":  {strings.Repeat("[\n", 1000), "line 51, column 1"},
		"lists in one line":      {strings.Repeat("- ", 1000) + "a", "nested deeper"},
		"steps":                  {steps, "line 51"},
		"aliases":                {"a: &a [1, 2]\nb: &b [*a, *a]\nc: [*b, *b]\n", "line 2"},
		"an alias as a value":    {"a: &a x\nb: *a\n", "stands for another value"},
		"a merge":                {"a: &a {b: c}\nd:\n  <<: *a\n", "stands for another value"},
		"more than a file holds": {"# " + strings.Repeat("x", mostBytes), "262146 bytes"},
	} {
		t.Run(name, func(t *testing.T) {
			var before, after runtime.MemStats
			runtime.ReadMemStats(&before)
			_, err := Parse([]byte(c.text))
			runtime.ReadMemStats(&after)
			require.Error(t, err)
			assert.Contains(t, err.Error(), c.says)
			assert.Less(t, after.TotalAlloc-before.TotalAlloc, uint64(64<<20))
		})
	}
	for name, text := range map[string]string{
		"stars in filters and formulas": "users:\n  filter: (&(cn=*a*)(!(sn=*)))\n  rules:\n    - {target: title, formula: 'entry.a == \"*\" ? entry.b : \"*x\"'}\n    - {target: nickName, always: '*x*'}\n",
		"balanced brackets":             "a: " + strings.Repeat("[x] ", 100),
	} {
		assert.NoError(t, bounded([]byte(text)), name)
	}
	// As long as may be, and flat.
	var keys strings.Builder
	for i := range 20_000 {
		fmt.Fprintf(&keys, "key%d: v\n", i)
	}
	for name, text := range map[string]string{
		"a list in one line": "[" + strings.Repeat("a,", mostBytes/2-2) + "]", "a list in lines": strings.Repeat("- a\n", 60_000), "keys": keys.String(),
	} {
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		_, err := Parse([]byte(text))
		runtime.ReadMemStats(&after)
		require.Error(t, err, name)
		assert.Less(t, after.TotalAlloc-before.TotalAlloc, uint64(1<<30), name)
	}
}
