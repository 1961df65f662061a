package orders

import (
	"context"
	"io"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/problem"
	protocol "kambrel.example/kambrel/protocol/orders"
	"kambrel.example/kambrel/service/events"
	"kambrel.example/kambrel/service/orders/orderstest"
	"kambrel.example/kambrel/service/store"
)

const agentTwo = "00000000-0000-4000-8000-00000000000b"

// bench is a desk, with one order that an agent has taken.
type bench struct {
	*Orders
	store *store.Store
	t     *testing.T
	order int64
}

func newBench(t *testing.T) *bench {
	t.Helper()
	s := orderstest.Store(t)
	now := time.Now()
	for id, name := range map[string]string{orderstest.Agent: "one", agentTwo: "two"} {
		agent := orderstest.Speaker(id)
		agent.Name, agent.PublicKey, agent.Directories, agent.Enrolled, agent.LastContact = name, "{}", agent.Granted, now, &now
		require.NoError(t, s.Agents.Save(t.Context(), &agent))
	}
	return &bench{Orders: New(s, &events.Hub{}, 30*time.Second, 30*time.Second), store: s, t: t}
}

// give makes an order and lets the agent take it.
func (b *bench) give() {
	b.t.Helper()
	b.order = orderstest.Give(b.t, b.store)
}

func (b *bench) state() store.Order {
	b.t.Helper()
	order, err := b.store.Orders.Get(b.t.Context(), b.order)
	require.NoError(b.t, err)
	return order
}

func TestIngest(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	ctx := t.Context()
	people := func() int {
		counts, err := b.store.Entries.CountPeople(ctx)
		require.NoError(t, err)
		return counts["halvard"]
	}
	cookie := func() string {
		state, err := b.store.Entries.StateOf(ctx, "halvard")
		require.NoError(t, err)
		return string(state.Cookie)
	}

	b.give()
	require.NoError(t, b.Ingest(ctx, b.order, orderstest.Speaker(orderstest.Agent), strings.NewReader(orderstest.Lines(orderstest.Crew(1), orderstest.Crew(2), orderstest.Crew(3), orderstest.Done("c1", true)))))
	assert.Equal(t, "done", b.state().State)
	assert.Equal(t, store.OrderCounts{Read: 3, Changed: 3}, b.state().Counts)
	assert.Equal(t, "c1", cookie())
	err := b.Ingest(ctx, b.order, orderstest.Speaker(orderstest.Agent), strings.NewReader(orderstest.Lines(orderstest.Done("c2", false))))
	assert.Equal(t, problem.OrderLost, problem.CodeOf(err), "an order that has ended takes no second answer")

	// What is deleted is told, and what is merely not mentioned stays.
	b.give()
	gone := orderstest.ID(3)
	require.NoError(t, b.Ingest(ctx, b.order, orderstest.Speaker(orderstest.Agent), strings.NewReader(orderstest.Lines(protocol.Line{Gone: &gone}, orderstest.Done("c2", false)))))
	assert.Equal(t, 2, people())

	// Of an order that was withdrawn meanwhile nothing is stored any more.
	b.give()
	order := b.state()
	require.NoError(t, b.store.Orders.Withdraw(ctx, *order.RunID))
	var many []protocol.Line
	for n := range 1200 {
		many = append(many, orderstest.Crew(100+n))
	}
	i := &ingestion{orders: b.Orders, order: order, agent: orderstest.Speaker(orderstest.Agent)}
	i.taker = newReadTaker(i)
	err = i.stream(ctx, strings.NewReader(orderstest.Lines(many...)))
	assert.Equal(t, problem.OrderLost, problem.CodeOf(err))
	assert.Equal(t, 2, people())

	// A complete answer names the rest as present.
	b.give()
	require.NoError(t, b.Ingest(ctx, b.order, orderstest.Speaker(orderstest.Agent), strings.NewReader(orderstest.Lines(protocol.Line{Present: []entry.ID{orderstest.ID(1)}}, protocol.Line{Alive: true}, orderstest.Crew(4), orderstest.Done("c3", true)))))
	assert.Equal(t, 2, people(), "2 is gone, 4 is new")
	assert.Equal(t, store.OrderCounts{Read: 1, Changed: 1, Gone: 1}, b.state().Counts)

	// After a restart only what follows counts as seen.
	b.give()
	require.NoError(t, b.Ingest(ctx, b.order, orderstest.Speaker(orderstest.Agent), strings.NewReader(orderstest.Lines(protocol.Line{Present: []entry.ID{orderstest.ID(1)}}, protocol.Line{Restart: true}, orderstest.Crew(4), orderstest.Done("c4", true)))))
	assert.Equal(t, 1, people())

	// A failure of the directory ends the order and forgets nothing.
	b.give()
	require.NoError(t, b.Ingest(ctx, b.order, orderstest.Speaker(orderstest.Agent), strings.NewReader(orderstest.Lines(orderstest.Crew(5), protocol.Line{Failed: &protocol.Failure{Code: string(problem.DirectoryRefused), Detail: "busy"}}))))
	assert.Equal(t, "failed", b.state().State)
	assert.Equal(t, "agent "+orderstest.Agent+": busy", b.state().FailureDetail)
	assert.Equal(t, "c4", cookie(), "the cookie is only kept with all that it covers")
}

// TestAnAnswerBringsWhatWasAskedAlone answers each kind of order with the lines of
// every other: a probe or a repair never brings entries, and only a read tells who
// is there and who is gone.
func TestAnAnswerBringsWhatWasAskedAlone(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	ctx := t.Context()
	gone := orderstest.ID(1)
	lines := map[string]protocol.Line{
		"entry": orderstest.Crew(1), "gone": {Gone: &gone}, "present": {Present: []entry.ID{gone}}, "restart": {Restart: true},
		"verdict": {Verdict: &protocol.Verdict{Step: "bind"}}, "repaired": {Repaired: &protocol.Repaired{Number: 1}}, "nothing": {},
		"a schema": {Schema: entry.Schema{"cn": {}}}, "a check": {Check: protocol.CheckBegins}, // nobody has asked
		"a password": {Password: &protocol.PasswordDone{}}, "a mark": {Digest: &protocol.Digested{ID: gone, Mark: "1"}},
		"a digest": {Digest: &protocol.Digested{ID: gone, Mark: "1", Sealed: []byte(`"x"`)}}, "no reason": {Password: &protocol.PasswordDone{Reason: "made up"}},
		"a group":  {Group: &protocol.GroupWritten{Number: 1}},
		"somebody": {SignedIn: &protocol.SignedIn{Entry: gone, Login: "ada"}}, "somebody else": {SignedIn: &protocol.SignedIn{Entry: orderstest.ID(2), Login: "bo"}},
	}
	asked := map[protocol.Kind]protocol.Order{
		protocol.KindRead: {Read: &protocol.Read{}}, protocol.KindFetch: {Fetch: &protocol.Fetch{}}, protocol.KindProbe: {Probe: &protocol.Probe{}}, protocol.KindRepair: {Repair: &protocol.Repair{}},
		protocol.KindSearch: {Search: &protocol.Search{Most: 10}}, protocol.KindPassword: {Password: &protocol.Password{Event: "token"}},
		protocol.KindDigest: {Digest: &protocol.Digest{}}, protocol.KindGroups: {Groups: &protocol.Groups{Changes: []protocol.GroupChange{{Number: 1}}}},
		protocol.KindSignIn: {SignIn: &protocol.SignIn{Entry: &gone}},
	}
	brings := map[protocol.Kind][]string{
		protocol.KindRead: {"entry", "gone", "present", "restart"}, protocol.KindFetch: {"entry"}, protocol.KindProbe: {"verdict"}, protocol.KindRepair: {"repaired"},
		protocol.KindSearch: {"present"}, protocol.KindPassword: {"a password"}, protocol.KindDigest: {"a mark"}, protocol.KindGroups: {"a group"},
		protocol.KindSignIn: {"somebody"},
	}
	require.Len(t, takers, len(brings), "each kind is tried")
	for kind, request := range asked {
		for name, line := range lines {
			request.Directory, request.Base = "halvard", "DC=example"
			order := store.Order{Directory: "halvard", Request: request}
			require.NoError(t, b.store.Orders.Add(ctx, &order))
			lane := protocol.LaneAny
			if kind == protocol.KindPassword || kind == protocol.KindSignIn {
				lane = protocol.LanePasswords
			}
			_, ok, err := b.store.Orders.Take(ctx, orderstest.Agent, []string{"halvard"}, lane, time.Minute)
			require.NoError(t, err)
			require.True(t, ok)
			err = b.Ingest(ctx, order.ID, orderstest.Speaker(orderstest.Agent), strings.NewReader(orderstest.Lines(line, orderstest.Done("", false))))
			if slices.Contains(brings[kind], name) {
				assert.NoError(t, err, "%s answered with %s", kind, name)
				kept, err := b.store.Orders.Get(ctx, order.ID)
				require.NoError(t, err)
				assert.Equal(t, kind.Erases(), kept.Request.Kind() == "", "what was asked by a %s is forgotten when it has ended", kind)
				continue
			}
			assert.Equal(t, problem.AgentMessageMalformed, problem.CodeOf(err), "%s answered with %s", kind, name)
			require.NoError(t, b.store.Orders.End(ctx, order.ID, "cancelled", "", store.OrderCounts{}))
			require.NoError(t, b.store.Agents.Heal(ctx, orderstest.Agent, "halvard"))
		}
	}
	assert.Error(t, b.store.Orders.Add(ctx, &store.Order{Directory: "halvard"}), "an order asks for something")
}

func TestAnAnswerThatBreaksOffGivesTheOrderBack(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	for name, answer := range map[string]io.Reader{
		"no last line":      strings.NewReader(orderstest.Lines(orderstest.Crew(1))),
		"nothing at all":    strings.NewReader(""),
		"half a line":       strings.NewReader(`{"gone":"sev`),
		"a connection lost": io.MultiReader(strings.NewReader(orderstest.Lines(orderstest.Crew(1), orderstest.Crew(2))), brokenReader{}),
	} {
		b.give()
		err := b.Ingest(t.Context(), b.order, orderstest.Speaker(orderstest.Agent), answer)
		assert.Equal(t, problem.AgentMessageMalformed, problem.CodeOf(err), name)
		assert.Equal(t, "waiting", b.state().State, "%s: another agent may take it", name)
		_, ok, err := b.store.Orders.Take(t.Context(), agentTwo, []string{"halvard"}, protocol.LaneAny, time.Minute)
		require.NoError(t, err)
		assert.True(t, ok)
		err = b.Ingest(t.Context(), b.order, orderstest.Speaker(orderstest.Agent), strings.NewReader(orderstest.Lines(orderstest.Done("c", true))))
		assert.Equal(t, problem.OrderLost, problem.CodeOf(err), "%s: it is no longer the first agent's", name)
		require.NoError(t, b.Ingest(t.Context(), b.order, orderstest.Speaker(agentTwo), strings.NewReader(orderstest.Lines(orderstest.Crew(1), orderstest.Done("c", true)))))
		one, err := b.store.Agents.Get(t.Context(), orderstest.Agent)
		require.NoError(t, err)
		assert.Empty(t, one.Faults, "%s says nothing about the agent", name)
	}

	// It is not asked for without end.
	b.give()
	for range store.MostTaken - 1 {
		require.Error(t, b.Ingest(t.Context(), b.order, orderstest.Speaker(orderstest.Agent), strings.NewReader("")))
		_, ok, err := b.store.Orders.Take(t.Context(), orderstest.Agent, []string{"halvard"}, protocol.LaneAny, time.Minute)
		require.NoError(t, err)
		require.True(t, ok)
	}
	require.Error(t, b.Ingest(t.Context(), b.order, orderstest.Speaker(orderstest.Agent), strings.NewReader("")))
	_, ok, err := b.store.Orders.Take(t.Context(), agentTwo, []string{"halvard"}, protocol.LaneAny, time.Minute)
	require.NoError(t, err)
	assert.False(t, ok)
	_, err = b.Await(t.Context(), b.state(), time.Minute, func(store.Order) error { return nil })
	require.ErrorContains(t, err, "the answer broke off")
	assert.Equal(t, "failed", b.state().State)
}

type brokenReader struct{}

func (brokenReader) Read([]byte) (int, error) { return 0, io.ErrUnexpectedEOF }

func TestAnOrderIsWaitedForAndARetiredAgentIsTold(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	agent := orderstest.Speaker(orderstest.Agent)
	ctx, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer cancel()
	_, ok, err := b.Take(ctx, agent, protocol.LaneAny)
	require.NoError(t, err)
	assert.False(t, ok, "there is none")
	_, err = b.store.Agents.Retire(t.Context(), agent.ID)
	require.NoError(t, err)
	_, _, err = b.Take(t.Context(), agent, protocol.LaneAny)
	assert.Equal(t, problem.AgentRetired, problem.CodeOf(err))
}

// TestAnswersOfAgentsThatAreNone: what is no message is refused with the line
// that it stands on, and the order goes to another agent; the one that cannot be read
// gets no more where another is well.
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
			err := b.Ingest(t.Context(), b.order, orderstest.Speaker(orderstest.Agent), strings.NewReader(c.answer))
			require.Error(t, err)
			assert.Contains(t, err.Error(), c.says)
			assert.Equal(t, "waiting", b.state().State, "another agent may answer it")
			one, err := b.store.Agents.Get(t.Context(), orderstest.Agent)
			require.NoError(t, err)
			assert.Equal(t, c.says != "broke off", len(one.Faults) == 1, "%+v", one.Faults)
			_, mine, err := b.store.Orders.Take(t.Context(), orderstest.Agent, []string{"halvard"}, protocol.LaneAny, time.Minute)
			require.NoError(t, err)
			assert.Equal(t, c.says == "broke off", mine)
			_, theirs, err := b.store.Orders.Take(t.Context(), agentTwo, []string{"halvard"}, protocol.LaneAny, time.Minute)
			require.NoError(t, err)
			assert.Equal(t, !mine, theirs)
			// Started anew, it has a new chance.
			_, err = b.store.Agents.Hello(t.Context(), store.Agent{ID: orderstest.Agent, Directories: []string{"halvard"}})
			require.NoError(t, err)
			require.NoError(t, b.store.Orders.End(t.Context(), b.order, "", "", store.OrderCounts{}))
		})
	}
}

// TestAGroupOutsideOfItsDirectoryIsNotBelieved has an agent say that it wrote a group
// elsewhere, and one that nobody asked for.
func TestAGroupOutsideOfItsDirectoryIsNotBelieved(t *testing.T) {
	t.Parallel()
	for code, line := range map[problem.Code]protocol.GroupWritten{problem.EntryOutsideBase: {Number: 1, DN: "CN=X,DC=other"}, problem.AgentMessageMalformed: {Number: 2}} {
		t.Run(string(code), func(t *testing.T) {
			b := newBench(t) // of its own: an agent that was not understood gets no more orders
			order := store.Order{Directory: "halvard", Request: protocol.Order{Directory: "halvard", Base: "DC=example", Groups: &protocol.Groups{Changes: []protocol.GroupChange{{Number: 1}}}}}
			require.NoError(t, b.store.Orders.Add(t.Context(), &order))
			_, ok, err := b.store.Orders.Take(t.Context(), orderstest.Agent, []string{"halvard"}, protocol.LaneAny, time.Minute)
			require.NoError(t, err)
			require.True(t, ok)
			err = b.Ingest(t.Context(), order.ID, orderstest.Speaker(orderstest.Agent), strings.NewReader(orderstest.Lines(protocol.Line{Group: &line}, orderstest.Done("", false))))
			assert.Equal(t, code, problem.CodeOf(err), "%v", err)
		})
	}
}
