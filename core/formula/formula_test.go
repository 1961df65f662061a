package formula

import (
	"errors"
	"fmt"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/reason"
)

var mira = entry.Entry{
	DN: "CN=Mira Tangen,OU=Crewing,DC=corp,DC=halvard,DC=example",
	Attributes: entry.Attributes{
		"givenName": {"Mira"}, "sn": {"Tangen"}, "userAccountControl": {"514"},
		"otherTelephone": {"11", "12"}, "employeeNumber": {"x7"},
	},
}

func TestEvaluate(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]any{
		`entry.givenName + " " + entry.sn`: "Mira Tangen",
		`entry.GIVENNAME`:                  "Mira",
		`entry.title`:                      nil,
		`entry["sn"]`:                      "Tangen",
		`entry.displayName != "" ? entry.displayName : entry.sn`:         "Tangen",
		`!flag(entry.userAccountControl, 2)`:                             false,
		`flag(entry.absent, 2)`:                                          false,
		`all.otherTelephone`:                                             []string{"11", "12"},
		`all.absent`:                                                     nil,
		`has(entry.title)`:                                               false,
		`has(entry.sn)`:                                                  true,
		`all.otherTelephone.exists(n, n == "12")`:                        true,
		`entry.sn.lowerAscii()`:                                          "tangen",
		`dn.contains("Crewing") ? size(all.otherTelephone) : 0`:          int64(2),
		`(entry.givenName + "." + entry.sn).lowerAscii() + "@x.example"`: "mira.tangen@x.example",
	} {
		f, err := Compile(text)
		require.NoError(t, err, text)
		got, err := f.Evaluate(mira)
		require.NoError(t, err, text)
		assert.Equal(t, want, got, text)
	}
}

func TestAFormulaThatFailsForAnEntrySaysWhy(t *testing.T) {
	t.Parallel()
	f, err := Compile(`int(entry.employeeNumber) + 1`)
	require.NoError(t, err)
	_, err = f.Evaluate(mira)
	require.ErrorContains(t, err, "x7")
	assert.Equal(t, reason.Bad, f.Explain(mira).Outcome)
}

func TestCompileTellsPlaceAndReason(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]Fault{
		`entry.sn +`:           {1, 11, "Syntax error"},
		`entry.sn + 1`:         {1, 10, "no matching overload"},
		"entry.sn\n + unknown": {2, 4, "undeclared reference"},
		`entry`:                {1, 1, "gives map"},
		`entry[dn]`:            {1, 1, "literally"},
		`dn in entry`:          {1, 7, "literally"},
		`1.5`:                  {1, 1, "gives double"},
	} {
		_, err := Compile(text)
		var failure *CompileError
		require.True(t, errors.As(err, &failure), "%q gave %v", text, err)
		got := failure.Faults[0]
		assert.Contains(t, got.Message, want.Message, text)
		assert.Equal(t, fmt.Sprint(want.Line, want.Column), fmt.Sprint(got.Line, got.Column), "%q: %s", text, got.Message)
	}
}

func TestAttributesAreWhatTheDirectoryIsAskedFor(t *testing.T) {
	t.Parallel()
	f, err := Compile(`has(entry.title) ? entry.title : entry["description"] + all.mail[0] + entry.title`)
	require.NoError(t, err)
	assert.Equal(t, []string{"description", "mail", "title"}, f.Attributes())
}

func TestExplainShowsEverySubExpression(t *testing.T) {
	t.Parallel()
	f, err := Compile(`entry.displayName != "" ? entry.displayName : entry.givenName + " " + entry.sn`)
	require.NoError(t, err)
	node := f.Explain(mira)
	assert.Equal(t, `"Mira Tangen"`, node.Value)
	assert.Equal(t, []string{
		`no entry.displayName != "" = false`, `  note entry.displayName = ""`,
		`note entry.givenName + " " + entry.sn = "Mira Tangen"`, `  note entry.givenName + " " = "Mira "`, `    note entry.givenName = "Mira"`, `  note entry.sn = "Tangen"`,
	}, outline(node.Children, ""), "what was not asked is not there")
}

// outline writes a tree, a line for each node.
func outline(nodes []reason.Node, indent string) []string {
	var lines []string
	for _, n := range nodes {
		line := indent + string(n.Outcome) + " " + n.Text + " = " + n.Value
		if n.Deciding {
			line += " <-"
		}
		lines = append(append(lines, line), outline(n.Children, indent+"  ")...)
	}
	return lines
}

func TestExplainMarksWhatDecides(t *testing.T) {
	t.Parallel()
	for text, want := range map[string][]string{
		`entry.sn == "Lind" || entry.sn.startsWith("T") && has(entry.givenName)`: {
			`no entry.sn == "Lind" = false`, `  note entry.sn = "Tangen"`,
			`yes entry.sn.startsWith("T") && has(entry.givenName) = true <-`, `  yes entry.sn.startsWith("T") = true`, `    note entry.sn = "Tangen"`,
			`  yes has(entry.givenName) = true`, `    note entry.givenName = "Mira"`,
		},
		`has(entry.title) && entry.sn == "Tangen"`: {`no has(entry.title) = false <-`, `  note entry.title = ""`},
		`first([entry.title, entry.sn])`:           {`note entry.title = ""`, `note entry.sn = "Tangen"`},
		`all.sn.exists(n, n == "Tangen")`:          {`note all.sn = Tangen`},
	} {
		f, err := Compile(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, outline(f.Explain(mira).Children, ""), text)
	}
}

func TestCostIsBounded(t *testing.T) {
	t.Parallel()
	f, err := Compile(`[1,2,3,4,5,6,7,8,9].all(a, [1,2,3,4,5,6,7,8,9].all(b, [1,2,3,4,5,6,7,8,9].all(c, [1,2,3,4,5,6,7,8,9].all(d, [1,2,3,4,5,6,7,8,9].all(e, a+b+c+d+e > 0)))))`)
	require.NoError(t, err)
	_, err = f.Evaluate(mira)
	require.ErrorContains(t, err, "cost limit")
}

func TestFormulasAreCompiledSideBySide(t *testing.T) {
	t.Parallel()
	var side sync.WaitGroup
	for range 4 {
		side.Go(func() {
			_, err := Compile(`all.mail.exists(m, m == entry.mail)`)
			assert.NoError(t, err)
			_, err = Compile(`unknown + 1`)
			assert.Error(t, err)
		})
	}
	side.Wait()
}

// FuzzCompile: nothing that is typed panics; what compiles ends, in a value that
// attributes take or in an error, and is explained with the same value.
func FuzzCompile(f *testing.F) {
	for _, text := range []string{
		`has(entry.userPrincipalName) ? entry.userPrincipalName : entry.mail`, `first([entry.a, entry.b])`, `all.mail.map(m, m + m)`, `[1, "x", null, true]`, `{"a": 1}`, `1/0`, `entry`,
		`"x".matches("(a+)+$")`, `timestamp("x")`, `[[1]].map(x, x)`, `b"\xff"`, `entry.title.size() > 3 && "\u0000" in all.sn`, `((((`, `-9223372036854775808 - 1`, `{}.all(x, true)`, `capitalized(`,
	} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		compiled, err := Compile(text)
		if err != nil {
			assert.NotEmpty(t, err.Error())
			return
		}
		began := time.Now()
		value, failure := compiled.Evaluate(mira)
		require.Less(t, time.Since(began), 2*time.Second, "bounded by its cost")
		switch value.(type) {
		case nil, string, bool, int64, []string:
		default:
			t.Fatalf("%q gives a %T", text, value)
		}
		node := compiled.Explain(mira)
		if failure != nil {
			assert.Equal(t, reason.Bad, node.Outcome, text)
		} else {
			assert.NotEqual(t, reason.Bad, node.Outcome, text)
		}
		compiled.Attributes()
		compiled.Gives()
	})
}

func BenchmarkEvaluate(b *testing.B) {
	f, err := Compile(`entry.displayName != "" ? entry.displayName : entry.givenName + " " + entry.sn`)
	require.NoError(b, err)
	for b.Loop() {
		_, _ = f.Evaluate(mira)
	}
}
