package engine

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/cloud"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/lab/labtest"
	"kambrel.example/kambrel/store"
	"kambrel.example/kambrel/wire"
)

const (
	agentOne = "00000000-0000-4000-8000-00000000000a"
	agentTwo = "00000000-0000-4000-8000-00000000000b"
)

// bench is an engine without a cloud, with one order that agentOne has taken.
type bench struct {
	*Engine
	t     *testing.T
	order int64
}

func newBench(t *testing.T) *bench {
	t.Helper()
	server, err := labtest.New(t).StartPostgres(t.Context(), 0, true)
	require.NoError(t, err)
	dsn, err := server.Create(t.Context(), "kambrel")
	require.NoError(t, err)
	s, err := store.Open(t.Context(), dsn)
	require.NoError(t, err)
	t.Cleanup(func() { _ = s.Close() })
	away, err := cloud.New("http://127.0.0.1:1", cloud.FixedToken("none")) // nobody answers there
	require.NoError(t, err)
	return &bench{Engine: New(s, away, Options{}), t: t}
}

// give makes an order and lets agentOne take it.
func (b *bench) give() {
	b.t.Helper()
	run, err := b.store.NewRun(b.t.Context(), store.Run{Run: wire.Run{Kind: "delta", By: "test"}}, false)
	require.NoError(b.t, err)
	order := store.Order{RunID: &run, Directory: "halvard", Request: wire.Order{Directory: "halvard", Base: "DC=example", Attributes: []string{"cn"}}}
	require.NoError(b.t, b.store.AddOrder(b.t.Context(), &order))
	_, ok, err := b.store.TakeOrder(b.t.Context(), agentOne, []string{"halvard"}, time.Minute)
	require.NoError(b.t, err)
	require.True(b.t, ok)
	b.order = order.ID
}

func (b *bench) state() store.Order {
	b.t.Helper()
	order, err := b.store.Order(b.t.Context(), b.order)
	require.NoError(b.t, err)
	return order
}

func id(n int) entry.ID {
	parsed, _ := entry.NewID(fmt.Sprintf("00000000-0000-4000-8000-%012d", n))
	return parsed
}

func lines(all ...wire.Line) string {
	var b strings.Builder
	for _, line := range all {
		text, _ := json.Marshal(line)
		b.Write(append(text, '\n'))
	}
	return b.String()
}

func crew(n int) wire.Line {
	return wire.Line{Entry: &entry.Entry{ID: id(n), Kind: entry.User, DN: fmt.Sprintf("CN=Crew %d,DC=example", n), Attributes: entry.Attributes{"cn": {fmt.Sprint(n)}}}}
}

func done(cookie string, complete bool) wire.Line {
	return wire.Line{Done: &wire.ReadDone{Cookie: []byte(cookie), Complete: complete}}
}

// speaker is an agent that may speak for the directory.
func speaker(id string) store.Agent {
	return store.Agent{ID: id, Name: id, Granted: []string{"halvard"}}
}

func TestIngest(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	ctx := t.Context()
	people := func() int {
		counts, err := b.store.PeopleCounts(ctx)
		require.NoError(t, err)
		return counts["halvard"]
	}
	cookie := func() string {
		state, err := b.store.DirectoryStateOf(ctx, "halvard")
		require.NoError(t, err)
		return string(state.Cookie)
	}

	b.give()
	require.NoError(t, b.Ingest(ctx, b.order, speaker(agentOne), strings.NewReader(lines(crew(1), crew(2), crew(3), done("c1", true)))))
	assert.Equal(t, "done", b.state().State)
	assert.Equal(t, store.OrderCounts{Read: 3, Changed: 3}, b.state().Counts)
	assert.Equal(t, "c1", cookie())
	err := b.Ingest(ctx, b.order, speaker(agentOne), strings.NewReader(lines(done("c2", false))))
	assert.Equal(t, problem.OrderLost, problem.CodeOf(err), "an order that has ended takes no second answer")

	// What is deleted is told, and what is merely not mentioned stays.
	b.give()
	gone := id(3)
	require.NoError(t, b.Ingest(ctx, b.order, speaker(agentOne), strings.NewReader(lines(wire.Line{Gone: &gone}, done("c2", false)))))
	assert.Equal(t, 2, people())

	// A complete answer names the rest as present.
	b.give()
	require.NoError(t, b.Ingest(ctx, b.order, speaker(agentOne), strings.NewReader(lines(wire.Line{Present: []entry.ID{id(1)}}, wire.Line{Alive: true}, crew(4), done("c3", true)))))
	assert.Equal(t, 2, people(), "2 is gone, 4 is new")
	assert.Equal(t, store.OrderCounts{Read: 1, Changed: 1, Gone: 1}, b.state().Counts)

	// After a restart only what follows counts as seen.
	b.give()
	require.NoError(t, b.Ingest(ctx, b.order, speaker(agentOne), strings.NewReader(lines(wire.Line{Present: []entry.ID{id(1)}}, wire.Line{Restart: true}, crew(4), done("c4", true)))))
	assert.Equal(t, 1, people())

	// A failure of the directory ends the order and forgets nothing.
	b.give()
	require.NoError(t, b.Ingest(ctx, b.order, speaker(agentOne), strings.NewReader(lines(crew(5), wire.Line{Failed: &wire.Failure{Code: string(problem.DirectoryRefused), Detail: "busy"}}))))
	assert.Equal(t, "failed", b.state().State)
	assert.Equal(t, "busy", b.state().FailureDetail)
	assert.Equal(t, "c4", cookie(), "the cookie is only kept with all that it covers")
}

func TestAnAnswerThatBreaksOffGivesTheOrderBack(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	for name, answer := range map[string]io.Reader{
		"no last line":      strings.NewReader(lines(crew(1))),
		"nothing at all":    strings.NewReader(""),
		"no JSON":           strings.NewReader("{\"entry\":\n"),
		"an unreadable id":  strings.NewReader(`{"gone":"seven"}` + "\n"),
		"a connection lost": io.MultiReader(strings.NewReader(lines(crew(1), crew(2))), brokenReader{}),
	} {
		b.give()
		err := b.Ingest(t.Context(), b.order, speaker(agentOne), answer)
		assert.Equal(t, problem.AgentMessageMalformed, problem.CodeOf(err), name)
		assert.Equal(t, "waiting", b.state().State, "%s: another agent may take it", name)
		_, ok, err := b.store.TakeOrder(t.Context(), agentTwo, []string{"halvard"}, time.Minute)
		require.NoError(t, err)
		assert.True(t, ok)
		err = b.Ingest(t.Context(), b.order, speaker(agentOne), strings.NewReader(lines(done("c", true))))
		assert.Equal(t, problem.OrderLost, problem.CodeOf(err), "%s: it is no longer the first agent's", name)
		require.NoError(t, b.Ingest(t.Context(), b.order, speaker(agentTwo), strings.NewReader(lines(crew(1), done("c", true)))))
	}
}

type brokenReader struct{}

func (brokenReader) Read([]byte) (int, error) { return 0, io.ErrUnexpectedEOF }

func TestAnOrderIsWaitedForAndARetiredAgentIsTold(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	agent := store.Agent{ID: agentOne, Name: "one", PublicKey: "{}", Directories: []string{"halvard"}, Granted: []string{"halvard"}, Enrolled: time.Now()}
	require.NoError(t, b.store.SaveAgent(t.Context(), &agent))
	ctx, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer cancel()
	_, ok, err := b.TakeOrder(ctx, agent)
	require.NoError(t, err)
	assert.False(t, ok, "there is none")
	_, err = b.store.RetireAgent(t.Context(), agent.ID)
	require.NoError(t, err)
	_, _, err = b.TakeOrder(t.Context(), agent)
	assert.Equal(t, problem.SignInRefused, problem.CodeOf(err))
}

func TestTheHubNeverWaitsAndKeepsTheLastEvent(t *testing.T) {
	t.Parallel()
	var h hub
	slow, stop := h.subscribe()
	for i := range 100 {
		h.broadcast(wire.Event{Kind: "run", ID: int64(i)})
	}
	var last wire.Event
	for len(slow) > 0 {
		last = <-slow
	}
	assert.Equal(t, int64(99), last.ID)
	stop()
	h.broadcast(wire.Event{Kind: "run"})
	assert.Empty(t, slow)
}

func TestCoversIgnoresCase(t *testing.T) {
	t.Parallel()
	assert.True(t, covers([]string{"Mail", "cn"}, []string{"mail"}))
	assert.False(t, covers([]string{"mail"}, []string{"mail", "title"}))
	assert.True(t, covers(nil, nil))
}

// TestAnswersOfAgentsThatAreNone: what is no message is refused with the line
// that it stands on, and the order goes to another agent.
func TestAnswersOfAgentsThatAreNone(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	good := `{"entry":{"id":"00000000-0000-4000-8000-000000000001","kind":"user","dn":"CN=A,DC=example","attributes":{"cn":["A"]}}}`
	for _, c := range []struct{ name, answer, says string }{
		{"no JSON", good + "\n<html>\n", "line 2"},
		{"another kind", good + "\n" + `{"entry":[]}` + "\n", "line 2"},
		{"an id that is none", `{"gone":"x"}` + "\n", "line 1"},
		{"a name that is none", `{"entry":{"id":"00000000-0000-4000-8000-000000000002","kind":"user","dn":"no name","attributes":{}}}` + "\n" + `{"done":{"cookie":"Yw=="}}` + "\n", "no name"},
		{"no end", good + "\n", "broke off"},
		{"nothing", "", "broke off"},
		{"a line without end", good + "\n" + strings.Repeat("x", longestLine+1), "longer than 64 MB"},
	} {
		t.Run(c.name, func(t *testing.T) {
			b.give()
			err := b.Ingest(t.Context(), b.order, speaker(agentOne), strings.NewReader(c.answer))
			require.Error(t, err)
			assert.Contains(t, err.Error(), c.says)
			assert.Equal(t, "waiting", b.state().State, "another agent may answer it")
			require.NoError(t, b.store.EndOrder(t.Context(), b.order, "", "", store.OrderCounts{}))
		})
	}
}
