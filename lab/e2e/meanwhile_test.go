package e2e

import (
	"bytes"
	"io"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"sync"
	"testing"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/protocol/wire"
)

// between lets something happen in the cloud after a run has decided what to
// write and before the first write arrives, as another administrator's work does.
type between struct {
	mu  sync.Mutex
	act func()
	// answers takes a request in the cloud's place; true says that it has.
	answers func(http.ResponseWriter, *http.Request) bool
}

func (b *between) start(t *testing.T, address string) string {
	target, err := url.Parse(address)
	require.NoError(t, err)
	onward := httputil.NewSingleHostReverseProxy(&url.URL{Scheme: target.Scheme, Host: target.Host})
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method != http.MethodGet {
			b.mu.Lock()
			if b.act != nil {
				b.act()
				b.act = nil
			}
			b.mu.Unlock()
		}
		b.mu.Lock()
		answers := b.answers
		b.mu.Unlock()
		if answers == nil || !answers(w, r) {
			onward.ServeHTTP(w, r)
		}
	}))
	t.Cleanup(server.Close)
	return server.URL + target.Path
}

func (b *between) happens(act func()) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.act = act
}

func (b *between) takes(answers func(http.ResponseWriter, *http.Request) bool) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.answers = answers
}

// TestWhatHappensInTheCloudMeanwhileIsMet changes the cloud between plan and
// write: each run ends in step, with nobody lost and nobody twice.
func TestWhatHappensInTheCloudMeanwhileIsMet(t *testing.T) {
	t.Parallel()
	b := &between{}
	w := newWorldWith(t, teamsLDIF, options{between: b})
	w.activate(withGroups())
	ada, bo := w.person("Ada Brekke", map[string]string{"title": "Mate"}), w.person("Bo Ravn", nil)
	watch := w.group("Watch", ada, bo)
	require.Equal(t, progress.InStep, w.run(wire.NewRun{}).State)
	id := func(login string) string {
		found := users(t, w.address(), `userName eq "`+login+`@brisling.example"`)
		require.Len(t, found, 1, "%s is there, and once", login)
		return found[0]["id"].(string)
	}
	remove := func(login string) func() {
		gone := id(login)
		return func() {
			status, _ := scim(t, w.address(), "DELETE", w.cloud.URL+"/Users/"+gone, nil)
			assert.Equal(t, 204, status)
		}
	}
	ends := func(act func()) wire.Run {
		t.Helper()
		b.happens(act)
		run := w.run(wire.NewRun{})
		assert.Equal(t, progress.InStep, run.State, "%+v", run)
		b.mu.Lock()
		assert.Nil(t, b.act, "it happened")
		b.mu.Unlock()
		return run
	}

	// Whom the run was about to change is deleted: made again, with the
	// membership.
	w.set(ada, "title", "Master")
	before := id("ada.brekke")
	ends(remove("ada.brekke"))
	assert.NotEqual(t, before, id("ada.brekke"))
	assert.Equal(t, "Master", w.user("ada.brekke@brisling.example")["title"])
	assert.Equal(t, []string{"ada.brekke", "bo.ravn"}, members(t, w.address(), "Watch"))
	w.inStep(0)

	// Somebody else edits the same person: the rules' values win, what has no
	// rule stays.
	w.set(ada, "title", "Pilot")
	ends(func() {
		status, _ := scim(t, w.address(), "PATCH", w.cloud.URL+"/Users/"+id("ada.brekke"), map[string]any{"schemas": []string{"urn:ietf:params:scim:api:messages:2.0:PatchOp"},
			"Operations": []any{map[string]any{"op": "replace", "path": "title", "value": "Purser"}, map[string]any{"op": "add", "path": "nickName", "value": "A"}}})
		assert.Equal(t, 200, status)
	})
	assert.Equal(t, "Pilot", w.user("ada.brekke@brisling.example")["title"])
	assert.Equal(t, "A", w.user("ada.brekke@brisling.example")["nickName"])
	w.inStep(0)

	// Somebody makes the account by hand while the run is about to: it is adopted.
	w.person("Cai Dahl", map[string]string{"title": "Cook"})
	var byHand string
	ends(func() { byHand = w.inCloud("cai.dahl", nil) })
	assert.Equal(t, byHand, id("cai.dahl"))
	assert.Equal(t, "Cook", w.user("cai.dahl@brisling.example")["title"])
	w.inStep(0)

	// Who was about to become a member is deleted: made again, and a member.
	w.member(watch, true, "cn=Cai Dahl,"+people)
	ends(remove("cai.dahl"))
	assert.NotEqual(t, byHand, id("cai.dahl"))
	assert.Equal(t, []string{"ada.brekke", "bo.ravn", "cai.dahl"}, members(t, w.address(), "Watch"))
	w.inStep(0)

	// Who was about to be suspended is deleted: nothing is left to do.
	require.NoError(t, w.ldap.Del(ldap.NewDelRequest(bo, nil)))
	ends(remove("bo.ravn"))
	assert.Empty(t, users(t, w.address(), `userName eq "bo.ravn@brisling.example"`))
	w.inStep(0)
}

// TestWhatTheCloudRefusesIsNamedAndHoldsNobodyElse has a person whom the cloud
// refuses, a group that holds the person, and somebody who refers to the person.
func TestWhatTheCloudRefusesIsNamedAndHoldsNobodyElse(t *testing.T) {
	t.Parallel()
	w := newWorld(t, teamsLDIF)
	w.activate(withGroups())
	long := make([]byte, 2000)
	for i := range long {
		long[i] = 'x'
	}
	ada, bo := w.person("Ada Brekke", nil), w.person("Bo Ravn", map[string]string{"title": string(long)})
	w.set(ada, "manager", bo)
	w.group("Watch", ada, bo)
	run := w.run(wire.NewRun{})
	assert.Equal(t, progress.Problems, run.State, "%+v", run)
	assert.Equal(t, map[string]string{bo: string(problem.ValueRefused)}, w.problems())
	out, _, _ := w.kambrel("why", bo)
	assert.Contains(t, out, "title is longer than", "the cloud's own words")
	assert.Equal(t, []string{"ada.brekke"}, members(t, w.address(), "Watch"), "the member is left out, the others arrive")
	assert.Nil(t, w.manager("ada.brekke"))
	out, _, _ = w.kambrel("show", "Watch")
	assert.Contains(t, out, "Bo Ravn")
	assert.Contains(t, out, "it has no resource in the cloud", "who is left out is named")

	// It is tried again with each run, is counted once, and ends with its cause.
	again := w.run(wire.NewRun{})
	assert.Equal(t, 1, again.Counts.Problems)
	w.set(bo, "title", "Mate")
	run = w.run(wire.NewRun{})
	assert.Equal(t, progress.InStep, run.State, "%+v", run)
	assert.Empty(t, w.problems())
	assert.Equal(t, []string{"ada.brekke", "bo.ravn"}, members(t, w.address(), "Watch"))
	assert.Equal(t, w.user("bo.ravn@brisling.example")["id"], w.manager("ada.brekke"))
	w.inStep(0)
}

// bodyOf reads the body of a request and leaves it to be read again.
func bodyOf(r *http.Request) string {
	text, _ := io.ReadAll(r.Body)
	r.Body = io.NopCloser(bytes.NewReader(text))
	return string(text)
}
