package cli

import (
	"bytes"
	"encoding/json"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/about"
	"kambrel.example/kambrel/core/act"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/remedy"
	"kambrel.example/kambrel/protocol/wire"
)

// TestEveryRemedyIsACommand asks for the remedies of every code there is.
func TestEveryRemedyIsACommand(t *testing.T) {
	t.Parallel()
	facts := problem.Facts{Value: "7", Names: []string{"halvard"}, Entries: []problem.Entry{{ID: "e3", Name: "CN=Cai"}}, Resources: []problem.Resource{{ID: "r1"}, {ID: "r2", Owner: &problem.Entry{ID: "e2", Name: "CN=Bo"}}}}
	offered := map[act.Kind]bool{}
	for _, kind := range problem.Catalogue() {
		for _, r := range remedy.Of(about.Thing{Type: kind.Touches, Key: "halvard/e1"}, kind.Code, facts, remedy.Situation{Linked: true, Correctable: true}) {
			offered[r.Act] = true
			words := strings.Fields(r.Command)
			require.Equal(t, "kambrel", words[0])
			command, rest, err := NewRoot().Find(words[1:])
			require.NoError(t, err, r.Command)
			require.NotNil(t, command.RunE, "%s is no command", r.Command)
			require.NoError(t, command.ParseFlags(rest), r.Command)
			require.NoError(t, command.ValidateArgs(command.Flags().Args()), r.Command)
			assert.NotEqual(t, string(r.Act), act.Describe(r.Act).Title, "%s is in the catalogue of acts", r.Act)
		}
	}
	assert.Len(t, offered, 15)
}

func TestProblemsOfOneKindSayOnceWhatIsTheSame(t *testing.T) {
	t.Parallel()
	since := time.Date(2026, 3, 4, 5, 6, 0, 0, time.Local)
	closed := since.Add(time.Hour)
	list := []wire.Problem{
		{ProblemDetail: wire.DetailOf(problem.NearMiss, "mira (r1): same name, Mira"), Name: "CN=Mira", Since: since, Times: 3, Remedies: []remedy.Remedy{{Title: "Link with mira (r1)", When: "It is the same person.", Command: "kambrel link e1 r1"}}},
		{ProblemDetail: wire.DetailOf(problem.CloudUnreachable, "refused"), About: about.Thing{Type: about.Cloud}, Since: since, Times: 1},
		{ProblemDetail: wire.DetailOf(problem.NearMiss, "eli (r2): same name, Eli"), Name: "CN=Eli", Since: since, Times: 1, Remedies: make([]remedy.Remedy, 6)},
	}
	var out bytes.Buffer
	printProblems(&out, list)
	text := out.String()
	assert.Equal(t, 1, strings.Count(text, problem.Describe(problem.NearMiss).Remedy))
	assert.Less(t, strings.Index(text, "CN=Eli"), strings.Index(text, "The cloud cannot be reached"), "those of one kind stand together")
	for _, line := range []string{
		"  CN=Mira\n    mira (r1): same name, Mira\n    since 2026-03-04 05:06, met by 3 runs\n    > kambrel link e1 r1   Link with mira (r1). It is the same person.\n",
		"  cloud\n    refused\n    since 2026-03-04 05:06\n", "      and 2 more\n",
	} {
		assert.Contains(t, text, line)
	}
	out.Reset()
	list[0].Closed, list[0].Closing, list[0].Remedies = &closed, "the cause is gone", nil
	printProblems(&out, list[:1])
	assert.Contains(t, out.String(), "from 2026-03-04 05:06 to 2026-03-04 06:06: the cause is gone")
	assert.NotContains(t, out.String(), problem.Describe(problem.NearMiss).Remedy, "what is over needs none")

	// What all of one kind share is said once.
	out.Reset()
	suffix := func(login string) wire.Problem {
		met := problem.Of(problem.LoginSuffix, problem.Facts{Value: login, Domains: []string{"halvard.example", "brisling.example"}})
		return wire.Problem{ProblemDetail: wire.DetailOf(met.Code, met.Detail), Facts: met.Facts, Name: "CN=" + login, Since: since, Times: 1}
	}
	printProblems(&out, []wire.Problem{suffix("a@x.example"), suffix("b@x.example")})
	assert.Contains(t, out.String(), "  All 2: verified are halvard.example, brisling.example\n  All 2: since 2026-03-04 05:06\n  CN=a@x.example\n    a@x.example ends in x.example\n  CN=b@x.example\n    b@x.example ends in x.example\n\n")
}

func TestActsShowWhatWasBeforeAndAfter(t *testing.T) {
	t.Parallel()
	at := time.Date(2026, 3, 4, 5, 6, 0, 0, time.Local)
	acts := wire.Page[wire.Act]{Total: 3, Items: []wire.Act{
		{At: at, By: "ingrid", Kind: act.Grant, Name: "halvard-1", Before: json.RawMessage(`{"directories":["halvard"]}`), After: json.RawMessage(`{"directories":["` + strings.Repeat("x", 300) + `"]}`), Result: act.Done},
		{At: at, By: "odd", Kind: act.SignIn, About: about.Thing{Type: about.Operator}, Before: json.RawMessage(`{}`), Result: act.Refused, Note: "a note"},
	}}
	url := answering(t, map[string]any{"/acts": acts})
	out, code := run("acts", "--service", url, "--token", "secret")
	assert.Zero(t, code)
	assert.Contains(t, out, "2026-03-04 05:06  ingrid  grant-directories: halvard-1\n    before  {\"directories\":[\"halvard\"]}\n    after   {\"directories\":[\"xxx")
	assert.Contains(t, out, "…")
	assert.Contains(t, out, "2026-03-04 05:06  odd  sign-in (refused): operator\n    a note\n1 older: give --limit\n")
	out, code = run("acts", "--service", url, "--token", "secret", "-o", "json")
	assert.Zero(t, code)
	assert.Contains(t, out, strings.Repeat("x", 300), "all of it for programs")
}
