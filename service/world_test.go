package service

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/cloud"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/lab/standin"
	protocol "kambrel.example/kambrel/protocol/orders"
	"kambrel.example/kambrel/service/orders/orderstest"
	"kambrel.example/kambrel/service/runs"
	"kambrel.example/kambrel/service/store"
)

// place is where worlds are made, one after the other: a service without its HTTP
// interface, a cloud, and an agent that speaks for directories in memory.
type place struct {
	*Service
	t        *testing.T
	scim     string
	events   <-chan store.Event
	database *pgx.Conn

	mu      sync.Mutex // guards entries
	entries map[string]map[entry.ID]entry.Entry
}

const placeToken = "a-token-of-the-test"

func newPlace(t *testing.T, dsn string) *place {
	s, err := store.Open(t.Context(), dsn)
	require.NoError(t, err)
	t.Cleanup(func() { _ = s.Close() })
	server, err := standin.New(standin.Options{Token: placeToken, Domains: []string{"x.example"}})
	require.NoError(t, err)
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	go func() { _ = server.Serve(listener) }()
	t.Cleanup(func() { _ = server.Close() })
	p := &place{t: t, scim: fmt.Sprintf("http://%s/scim/v2", listener.Addr())}
	there, err := cloud.New(p.scim, cloud.FixedToken(placeToken))
	require.NoError(t, err)
	p.Service = New(s, there, Options{Batch: 3, Runs: runs.Options{GonePause: time.Millisecond, CreationPatience: time.Millisecond}})
	p.database, err = pgx.Connect(t.Context(), dsn)
	require.NoError(t, err)
	t.Cleanup(func() { _ = p.database.Close(context.Background()) })
	require.NoError(t, p.Start(t.Context()))
	t.Cleanup(p.Stop)
	var stop func()
	p.events, stop = p.Events.Subscribe()
	t.Cleanup(stop)
	agent := store.Agent{ID: orderstest.Agent, Name: "one", Directories: []string{"halvard", "brisling"}, Granted: []string{"halvard", "brisling"}, Enrolled: time.Now()}
	require.NoError(t, s.Agents.Save(t.Context(), &agent))
	ctx, cancel := context.WithCancel(t.Context())
	var group sync.WaitGroup
	t.Cleanup(func() { cancel(); group.Wait() })
	for range 2 {
		group.Go(func() { p.serve(ctx, agent) })
	}
	return p
}

// serve answers orders from the entries in memory.
func (p *place) serve(ctx context.Context, agent store.Agent) {
	for ctx.Err() == nil {
		order, ok, err := p.Orders.Take(ctx, agent, protocol.LaneAny)
		if err != nil || !ok {
			continue
		}
		var answer []protocol.Line
		p.mu.Lock()
		for _, e := range p.entries[order.Directory] {
			if order.Fetch == nil || strings.EqualFold(e.DN, order.Fetch.Find) || e.ID.String() == order.Fetch.Find {
				answer = append(answer, protocol.Line{Entry: &e})
			}
		}
		p.mu.Unlock()
		answer = append(answer, protocol.Line{Done: &protocol.Done{Cookie: []byte("c"), Complete: order.Read != nil}})
		if err := p.Orders.Ingest(ctx, order.ID, agent, strings.NewReader(orderstest.Lines(answer...))); err != nil && ctx.Err() == nil {
			p.t.Errorf("order %d: %v", order.ID, err)
		}
	}
}

// request sends something to the cloud by hand.
func (p *place) request(method, path string, body any) map[string]any {
	text, err := json.Marshal(body)
	require.NoError(p.t, err)
	request, err := http.NewRequestWithContext(p.t.Context(), method, p.scim+path, bytes.NewReader(text))
	require.NoError(p.t, err)
	request.Header.Set("Authorization", "Bearer "+placeToken)
	request.Header.Set("Content-Type", "application/scim+json")
	response, err := http.DefaultClient.Do(request)
	require.NoError(p.t, err)
	defer response.Body.Close()
	out := map[string]any{}
	all, err := io.ReadAll(response.Body)
	require.NoError(p.t, err)
	_ = json.Unmarshal(all, &out) // a deletion answers nothing
	return out
}

func (p *place) resources(endpoint string) []map[string]any {
	list, _ := p.request("GET", endpoint+"?count=1000", nil)["Resources"].([]any)
	var out []map[string]any
	for _, one := range list {
		out = append(out, one.(map[string]any))
	}
	slices.SortFunc(out, func(a, b map[string]any) int {
		return strings.Compare(fmt.Sprint(a["userName"], a["displayName"], a["id"]), fmt.Sprint(b["userName"], b["displayName"], b["id"]))
	})
	return out
}

// world is one of many.
type world struct {
	*place
	random     *rand.Rand
	seed       uint64
	next       int
	document   settings.Document
	compared   int
	operations map[string]int
}

func (p *place) world(seed uint64) *world {
	for _, endpoint := range []string{"/Users", "/Groups", "/Contacts"} {
		for _, one := range p.resources(endpoint) {
			p.request("DELETE", fmt.Sprintf("%s/%v", endpoint, one["id"]), nil)
		}
	}
	_, err := p.database.Exec(p.t.Context(), `TRUNCATE entries, container_counts, resources, loose_resources, links, links_aside, claims, dirty, dirty_members, dirty_references, memberships, resource_members, pointers,
		followers, person_keys, problems, decisions, changes, runs, orders, directory_states, cloud_state, former_names, settings_revisions, settings_draft CASCADE`)
	require.NoError(p.t, err)
	w := &world{place: p, random: rand.New(rand.NewPCG(seed, 9)), seed: seed, operations: map[string]int{}}
	p.mu.Lock()
	p.entries = map[string]map[entry.ID]entry.Entry{}
	for directory, base := range directoryBases {
		p.entries[directory] = map[entry.ID]entry.Entry{}
		for i, name := range []string{"", "OU=In,", "OU=Out,"} {
			at := orderstest.ID(900_000 + 10*len(directory) + i)
			p.entries[directory][at] = entry.Entry{ID: at, Directory: directory, Kind: entry.Container, DN: name + base}
		}
	}
	p.mu.Unlock()
	return w
}

func (w *world) one(of ...string) string { return of[w.random.IntN(len(of))] }
func (w *world) may(percent int) bool    { return w.random.IntN(100) < percent }

// live lets time pass in the world, and compares after each turn.
func (w *world) live() {
	w.settle()
	for range 3 + w.random.IntN(6) {
		w.grow()
	}
	for range w.random.IntN(4) {
		w.cloudGrows()
	}
	for range 1 + w.random.IntN(2) { // what was
		w.run(store.Run{Purpose: purpose.Sync, By: "test"})
		for range 1 + w.random.IntN(4) {
			w.turn()
		}
	}
	w.compare()
}

var directoryBases = map[string]string{"halvard": "DC=example", "brisling": "dc=brisling,dc=example"}

// settle activates random settings.
func (w *world) settle() {
	d := settings.Default(settings.Directory{Name: "halvard", Dialect: entry.AD, Base: directoryBases["halvard"], Containers: settings.Containers{Include: []string{"OU=In,DC=example"}}})
	if both := len(w.document.Directories) > 1; both || len(w.document.Directories) == 0 && w.may(40) {
		d = settings.Default(d.Directories[0], settings.Directory{Name: "brisling", Dialect: entry.Standard, Base: directoryBases["brisling"], Containers: settings.Containers{Include: []string{"ou=In,dc=brisling,dc=example"}}})
		if w.may(70) {
			d.Users.Person = []settings.PersonRule{{Name: "same number", Formula: "first([entry.employeeID, entry.employeeNumber])"}}
		}
	}
	d.Users.Leavers = settings.Policy(w.one("suspend", "suspend", "delete", "keep"))
	d.Users.Filter = w.one("", "", "(!(title=Guest))")
	if w.may(20) {
		d.Users.Match = d.Users.Match[:1]
	}
	if w.may(30) {
		for i := range d.Users.Rules {
			if d.Users.Rules[i].Target == "title" {
				d.Users.Rules[i].Formula, d.Users.Rules[i].From = `entry.title + "!"`, ""
			}
		}
	}
	d.Guard = settings.Guard{Removals: w.random.IntN(3), Share: 10}
	d.Schedule = settings.Schedule{Every: "off"}
	w.document = d
	revision := store.Revision{Document: d, By: "test"}
	require.NoError(w.t, w.Setup.Activate(w.t.Context(), &revision, 0, false))
}

// grow adds somebody to a directory.
func (w *world) grow() {
	w.next++
	directory := w.document.Directories[w.random.IntN(len(w.document.Directories))].Name
	w.put(directory, orderstest.ID(w.next), w.somebody(directory, w.next))
}

func (w *world) somebody(directory string, n int) entry.Entry {
	name := w.one("Ada Lind", "Bo Skar", "Cai Holm", "Dag Vik", "Eli Strand", "Finn Moe")
	given, family, _ := strings.Cut(name, " ")
	short := strings.ToLower(given)
	container := w.one("In", "In", "In", "Out")
	e := entry.Entry{ID: orderstest.ID(n), Directory: directory, Kind: entry.User, Attributes: entry.Attributes{
		"cn": {name}, "displayName": {name}, "givenName": {given}, "sn": {family}, "title": {w.one("Mate", "Cook", "Guest")}, "mail": {short + "@x.example"},
	}}
	switch {
	case w.may(15):
		e.Kind = entry.Group
		e.Attributes = entry.Attributes{"cn": {w.one("Crew", "Deck")}, "displayName": {w.one("Crew", "Deck")}, "groupType": {"-2147483640"}}
		for _, member := range w.known(directory) {
			if w.may(40) {
				e.Attributes["member"] = append(e.Attributes["member"], member.DN)
			}
		}
	case directory == "halvard":
		e.Attributes["userPrincipalName"] = []string{short + w.one("@x.example", "@x.example", "@x.example", "@late.example")}
		e.Attributes["employeeID"] = []string{w.one("1", "2", "3", "")}
		e.Attributes["userAccountControl"] = []string{w.one("512", "512", "514")}
	default:
		e.Attributes["uid"], e.Attributes["employeeNumber"] = []string{short}, []string{w.one("1", "2", "3", "")}
	}
	if w.may(20) {
		delete(e.Attributes, "mail")
	}
	if others := w.known(directory); e.Kind == entry.User && len(others) > 0 && w.may(40) {
		e.Attributes["manager"] = []string{others[w.random.IntN(len(others))].DN}
	}
	e.DN = fmt.Sprintf("CN=%s %d,OU=%s,%s", e.Name(), n, container, directoryBases[directory])
	for attribute, values := range e.Attributes {
		if e.Attributes[attribute] = slices.DeleteFunc(values, func(v string) bool { return v == "" }); len(e.Attributes[attribute]) == 0 {
			delete(e.Attributes, attribute)
		}
	}
	return e
}

// known are the entries of a directory in their order.
func (w *world) known(directory string) []entry.Entry {
	w.mu.Lock()
	defer w.mu.Unlock()
	var out []entry.Entry
	for _, e := range w.entries[directory] {
		if e.Kind != entry.Container {
			out = append(out, e)
		}
	}
	slices.SortFunc(out, func(a, b entry.Entry) int { return a.Ref().Compare(b.Ref()) })
	return out
}

func (w *world) put(directory string, at entry.ID, e entry.Entry) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.entries[directory][at] = e
}

// cloudGrows adds somebody to the cloud by hand.
func (w *world) cloudGrows() {
	name := w.one("Ada Lind", "Bo Skar", "Cai Holm", "Dag Vik", "Gro Berg")
	given, family, _ := strings.Cut(name, " ")
	body := map[string]any{
		"schemas": []string{"urn:ietf:params:scim:schemas:core:2.0:User"}, "userName": w.one(strings.ToLower(given), "old."+strings.ToLower(given)) + "@x.example",
		"name": map[string]any{"givenName": given, "familyName": family}, "displayName": name, "active": true,
	}
	if w.may(40) {
		body["emails"] = []any{map[string]any{"type": "work", "value": strings.ToLower(given) + "@x.example"}}
	}
	if w.may(15) {
		body["roles"] = []any{map[string]any{"type": "administrative", "value": "directory-administrator"}}
	}
	w.request("POST", "/Users", body)
}

// turn lets something happen in a directory, in the cloud or in the settings.
func (w *world) turn() {
	directory := w.document.Directories[w.random.IntN(len(w.document.Directories))].Name
	known := w.known(directory)
	switch what := w.random.IntN(10); {
	case what < 2 || len(known) == 0:
		w.grow()
	case what < 3: // moved, out of scope or back into it
		e := known[w.random.IntN(len(known))]
		e.DN = strings.NewReplacer("OU=In,", "OU=Out,", "OU=Out,", "OU=In,").Replace(e.DN)
		w.put(directory, e.ID, e)
	case what < 5: // changed or renamed
		old := known[w.random.IntN(len(known))]
		again := w.somebody(directory, w.next)
		if again.Kind != old.Kind {
			return
		}
		again.ID = old.ID
		if w.may(50) {
			again.DN = old.DN
		}
		w.put(directory, old.ID, again)
	case what < 6: // deleted
		w.mu.Lock()
		delete(w.entries[directory], known[w.random.IntN(len(known))].ID)
		w.mu.Unlock()
	case what < 7: // deleted and made again
		old := known[w.random.IntN(len(known))]
		w.mu.Lock()
		delete(w.entries[directory], old.ID)
		w.mu.Unlock()
		if w.next++; w.may(70) {
			w.put(directory, orderstest.ID(w.next), w.again(old))
		}
	case what < 9: // the cloud
		people := w.resources("/Users")
		if len(people) == 0 || w.may(40) {
			w.cloudGrows()
			return
		}
		person := fmt.Sprintf("/Users/%v", people[w.random.IntN(len(people))]["id"])
		if w.may(30) {
			w.request("DELETE", person, nil)
			return
		}
		w.request("PATCH", person, map[string]any{"schemas": []string{"urn:ietf:params:scim:api:messages:2.0:PatchOp"}, "Operations": []any{
			map[string]any{"op": "replace", "path": "title", "value": w.one("Mate", "By hand")},
		}})
	default:
		w.settle()
	}
}

func (w *world) again(old entry.Entry) entry.Entry {
	old.ID = orderstest.ID(w.next)
	return old
}

// run asks for a run and waits for its end.
func (w *world) run(run store.Run) store.Run {
	number, err := w.Jobs.Request(w.t.Context(), run)
	require.NoError(w.t, err)
	return w.wait(number)
}

func (w *world) wait(number int64) store.Run {
	for {
		run, err := w.Store.Runs.Get(w.t.Context(), number)
		require.NoError(w.t, err)
		if run.State.Ended() {
			require.NotEqual(w.t, progress.Failed, run.State, "world %d, run %d: %s %s", w.seed, number, run.FailureCode, run.FailureDetail)
			return run
		}
		select {
		case <-w.events:
		case <-time.After(time.Second):
		}
	}
}
