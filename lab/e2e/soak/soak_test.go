// Package soak_test lets an installation of two services and two agents live through a
// random history of edits and faults, and asks after each round whether the cloud is what
// the directory says. 'make soak' does so for an hour; the tests of every day for a moment.
package soak_test

import (
	"cmp"
	"context"
	"flag"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/client"
	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/protocol/wire"
)

var (
	lasting = flag.Duration("for", 20*time.Second, "how long rounds are begun")
	seed    = flag.Uint64("seed", 7, "of what is done in them; the same one does the same again")
	among   = flag.String("faults", "", "only those whose name fits this regular expression")
	keepIn  = flag.String("keep", "", "a folder for what is left when something was wrong: logs, the cloud's journal, the database as text")
)

const (
	people    = 150
	removals  = 25 // the guard's limit
	settlesIn = 3 * time.Minute
	// liveWithin is how long what changes in the cloud by itself may take to be put right.
	liveWithin = 40 * time.Second
)

// soak is the installation with what is known of it.
type soak struct {
	*worldtest.World
	random  *rand.Rand
	between *worldtest.Between
	second  *worldtest.SecondAgent
	client  *client.Client
	history history

	accounts map[string]string // the account of each entry that was in scope when it was last asked
	seen     map[string]bool   // accounts since all that was held was let through
	tally    tally

	// forgets: OpenLDAP that is killed forgets what was deleted just before, and tells
	// nobody; the next comparison of everything finds it.
	forgets bool
}

// tally is what the summary says.
type tally struct {
	rounds, edits, released int
	late                    int // groups that were put right live after everything was in step
	faults, runs            map[string]int
	settled, live           time.Duration // the longest
}

func TestSoak(t *testing.T) {
	t.Parallel()
	between := &worldtest.Between{}
	w := worldtest.NewWith(t, worldtest.LDIFPeople(people)+worldtest.TeamsLDIF, worldtest.Options{Raced: true, Database: true, Between: between})
	s := &soak{
		World: w, random: rand.New(rand.NewPCG(*seed, 1)), between: between, second: w.SecondAgent(), client: client.New(w.URL, w.Client.Token()),
		accounts: map[string]string{}, seen: map[string]bool{}, tally: tally{faults: map[string]int{}, runs: map[string]int{}},
	}
	s.startStandby()
	s.second.Configure("service: "+w.URL, "service: "+w.URL+","+s.SecondURL())
	s.second.Start()
	w.AgentKnows(w.URL, s.SecondURL())
	s.history.begin(s)
	d := worldtest.WithGroups()
	d.Schedule.Live = "on"
	d.Users.Leavers, d.Users.Grace, d.Groups.Grace = settings.Delete, "0s", "0s"
	off := &settings.Limit{Share: 100}
	d.Guard = settings.Guard{Removals: removals, Within: "1h", Members: off, Group: off, Values: off, Access: off, Logins: off}
	w.Activate(d)
	s.settle("the beginning")
	defer s.summary()
	t.Cleanup(s.keep)
	for began := time.Now(); time.Since(began) < *lasting || s.tally.rounds < 3; {
		s.round()
	}
	s.asOnAFreshDatabase(d)
}

// round edits the directory while something goes wrong.
func (s *soak) round() {
	s.tally.rounds++
	name := fmt.Sprintf("round %d (seed %d)", s.tally.rounds, *seed)
	s.edit(1 + s.random.IntN(5))
	heals := map[int]func(){}
	only := regexp.MustCompile(*among)
	for range 1 + s.random.IntN(2) {
		at := s.random.IntN(len(faults))
		if heals[at] != nil || !only.MatchString(faults[at].name) {
			continue
		}
		s.tally.faults[faults[at].name]++
		name += ", " + faults[at].name
		heals[at] = faults[at].strike(s)
		s.edit(1 + s.random.IntN(8))
	}
	s.rest(time.Duration(s.random.IntN(6000)) * time.Millisecond)
	for _, at := range slices.Backward(slices.Sorted(maps.Keys(heals))) {
		heals[at]()
	}
	healed := time.Now()
	s.settle(name)
	s.compare(name)
	s.T.Logf("%s: right again after %.1f s", name, time.Since(healed).Seconds())
	s.arrivesLive()
}

// rest lets time go by, which is what a fault is made of.
func (s *soak) rest(d time.Duration) { <-time.After(d) }

func (s *soak) edit(n int) {
	for range n {
		s.history.edit(s)
		s.tally.edits++
		s.rest(time.Duration(s.random.IntN(150)) * time.Millisecond)
	}
}

// settle runs until everything is in step. What the guard holds is looked at, and let
// through.
func (s *soak) settle(round string) {
	began := time.Now()
	last := "nothing was answered"
	for time.Since(began) < settlesIn {
		s.StartDatabase() // it may have gone down over a full disk a moment after there was room
		run, err := s.run(wire.NewRun{Purpose: map[bool]purpose.Purpose{true: purpose.Full, false: purpose.Sync}[s.forgets]})
		switch {
		case err != nil:
			last = err.Error()
			s.rest(200 * time.Millisecond)
		case run.Counts.Held > 0:
			s.guarded(round)
			released, err := s.client.Release(s.T.Context(), run.ID)
			if err == nil {
				_, err = s.client.Wait(s.T.Context(), released.ID, nil)
			}
			if err != nil {
				last = err.Error()
				continue
			}
			s.tally.released++
			clear(s.seen)
		case run.State == progress.InStep:
			s.forgets = false
			s.tally.settled = max(s.tally.settled, time.Since(began))
			return
		default:
			last = fmt.Sprintf("run %d: %s, %+v, %+v", run.ID, run.State, run.Failure, run.Counts)
		}
	}
	s.T.Fatalf("%s: not in step after %s: %s\nproblems: %v", round, settlesIn, last, s.Problems())
}

// run asks for a run and waits for its end; both may fail while a service comes back.
func (s *soak) run(request wire.NewRun) (wire.Run, error) {
	ctx, cancel := context.WithTimeout(s.T.Context(), settlesIn)
	defer cancel()
	started, err := s.client.StartRun(ctx, request)
	if err != nil {
		return wire.Run{}, err
	}
	run, err := s.client.Wait(ctx, started.ID, nil)
	if err == nil {
		s.tally.runs[string(run.State)]++
	}
	return run, err
}

// guarded asks whether no more are gone than the guard lets go unasked.
func (s *soak) guarded(round string) {
	there := map[string]bool{}
	for _, user := range worldtest.Users(s.T, s.Address(), "") {
		there[fmt.Sprint(user["id"])] = true
	}
	gone := 0
	for id := range s.seen {
		if !there[id] {
			gone++
		}
	}
	require.LessOrEqual(s.T, gone, removals, "%s: more are gone than the guard lets go", round)
}

// compare asks whether the cloud is what the directory says: the same people and groups,
// none twice, and each with the account that it had.
func (s *soak) compare(round string) {
	s.guarded(round)
	want := s.history.wanted(s)
	users := worldtest.Users(s.T, s.Address(), "")
	have := map[string]string{}
	ids := map[string]string{}
	for _, user := range users {
		login := fmt.Sprint(user["userName"])
		require.NotContains(s.T, have, login, "%s: somebody is there twice", round)
		have[login], ids[login] = fmt.Sprint(user["title"]), fmt.Sprint(user["id"])
		s.seen[ids[login]] = true
	}
	require.Equal(s.T, want.titles, have, round)
	for entry, login := range want.logins {
		if before := s.accounts[entry]; before != "" && !s.history.left[entry] {
			require.Equal(s.T, before, ids[login], "%s: %s has another account than before", round, login)
		}
	}
	clear(s.accounts)
	for entry, login := range want.logins {
		s.accounts[entry] = ids[login]
	}
	clear(s.history.left)
	logins := map[string]string{}
	for login, id := range ids {
		logins[id] = login
	}
	// What a service had sent before it was killed may be done by the cloud after everything was
	// in step; the cloud's side is asked every ten seconds, and nobody needs to ask for a run.
	hangs := func() tied {
		return tied{managersOf(worldtest.Users(s.T, s.Address(), ""), logins), groupsOf(worldtest.Resources(s.T, s.Address(), "Groups"), logins)}
	}
	ties := tied{want.managers, want.groups}
	if have := hangs(); !reflect.DeepEqual(ties, have) {
		s.tally.late++
		s.T.Logf("%s: groups and managers are put right live", round)
		for deadline := time.Now().Add(liveWithin); !reflect.DeepEqual(ties, hangs()) && time.Now().Before(deadline); {
			s.rest(200 * time.Millisecond)
		}
	}
	require.Equal(s.T, ties, hangs(), round)
}

// tied is what ties resources together, by logins.
type tied struct {
	Managers map[string]string
	Groups   map[string][]string
}

// managersOf tells of everybody who has a manager whom that is; ids that lead nowhere stay.
func managersOf(users []map[string]any, logins map[string]string) map[string]string {
	have := map[string]string{}
	for _, user := range users {
		extension, _ := user[worldtest.ManagerTarget].(map[string]any)
		manager, _ := extension["manager"].(map[string]any)
		if id, ok := manager["value"].(string); ok {
			have[fmt.Sprint(user["userName"])] = cmp.Or(logins[id], id)
		}
	}
	return have
}

func groupsOf(groups map[string]map[string]any, logins map[string]string) map[string][]string {
	have := map[string][]string{}
	for name, group := range groups {
		have[name] = []string{}
		list, _ := group["members"].([]any)
		for _, m := range list {
			have[name] = append(have[name], logins[fmt.Sprint(m.(map[string]any)["value"])])
		}
		slices.Sort(have[name])
	}
	return have
}

// arrivesLive asks how long a change takes that nobody asks for.
func (s *soak) arrivesLive() {
	dn, login, title := s.history.anybody(s)
	s.Set(dn, "title", title)
	s.tally.live = max(s.tally.live, s.Arrives(login, title))
}

// asOnAFreshDatabase makes another installation of the same directory, with nothing behind
// it, and compares what both have made in their clouds.
func (s *soak) asOnAFreshDatabase(d settings.Document) {
	out, err := exec.Command("/usr/sbin/slapcat", "-f", filepath.Join(s.Lab.Dir, "openldap", "slapd.conf"), "-o", "ldif-wrap=no").Output()
	require.NoError(s.T, err)
	var ldif strings.Builder
	made := []string{worldtest.Base, worldtest.People, worldtest.Leavers, s.Directory.ReaderDN, parentOf(s.Directory.ReaderDN)}
	for one := range strings.SplitSeq(string(out), "\n\n") {
		dn, _, _ := strings.Cut(strings.TrimPrefix(strings.TrimSpace(one), "dn: "), "\n")
		if dn != "" && !slices.Contains(made, dn) {
			ldif.WriteString(strings.TrimSpace(one) + "\n\n")
		}
	}
	fresh := worldtest.NewWith(s.T, ldif.String(), worldtest.Options{})
	d.Schedule.Live = "off"
	fresh.Activate(d)
	run := fresh.Run(wire.NewRun{})
	require.Equal(s.T, progress.InStep, run.State, "%+v", run)
	assert.Equal(s.T, whole(fresh), whole(s.World), "all that was done and went wrong is as one run on a fresh database")
	full, err := s.run(wire.NewRun{Purpose: purpose.Full})
	require.NoError(s.T, err)
	assert.Equal(s.T, progress.InStep, full.State)
	assert.Zero(s.T, full.Counts.Changes, "%+v", full.Counts)
}

// whole is all that a cloud has, without what it has of itself: ids are told by what they
// name, and link keys stay with who took over somebody's account.
func whole(w *worldtest.World) map[string]any {
	out := map[string]any{}
	logins := map[string]string{}
	users := worldtest.Users(w.T, w.Address(), "")
	for _, user := range users {
		logins[fmt.Sprint(user["id"])] = fmt.Sprint(user["userName"])
	}
	managers := managersOf(users, logins)
	for _, user := range users {
		for _, own := range []string{"id", "meta", "externalId"} {
			delete(user, own)
		}
		if extension, ok := user[worldtest.ManagerTarget].(map[string]any); ok {
			if delete(extension, "manager"); managers[fmt.Sprint(user["userName"])] != "" { // an empty one is none
				extension["manager"] = managers[fmt.Sprint(user["userName"])]
			}
		}
		out[fmt.Sprint(user["userName"])] = user
	}
	for name, members := range groupsOf(worldtest.Resources(w.T, w.Address(), "Groups"), logins) {
		out["group "+name] = members
	}
	return out
}

// keep keeps what somebody needs who looks for a fault; the database first, which goes on.
func (s *soak) keep() {
	if !s.T.Failed() || *keepIn == "" {
		return
	}
	s.must(os.MkdirAll(*keepIn, 0o700))
	s.StartDatabase()
	s.must(os.WriteFile(filepath.Join(*keepIn, "database.sql"), []byte(s.Dump()), 0o600))
	out, err := exec.Command("cp", "-r", s.Lab.Dir, *keepIn).CombinedOutput()
	require.NoError(s.T, err, "%s", out)
}

func (s *soak) summary() {
	var b strings.Builder
	fmt.Fprintf(&b, "seed %d: %d rounds, %d edits; the guard held and was let through %d times\n", *seed, s.tally.rounds, s.tally.edits, s.tally.released)
	if s.tally.late > 0 {
		fmt.Fprintf(&b, "%d times the cloud did late what a service had sent before it was killed, and that was put right live\n", s.tally.late)
	}
	fmt.Fprintf(&b, "in step again after %.1f s at most, and live within %.1f s at most after that\n", s.tally.settled.Seconds(), s.tally.live.Seconds())
	for _, counted := range []struct {
		of string
		by map[string]int
	}{{"faults", s.tally.faults}, {"runs asked for", s.tally.runs}} {
		fmt.Fprintf(&b, "%s:\n", counted.of)
		for _, name := range slices.Sorted(maps.Keys(counted.by)) {
			fmt.Fprintf(&b, "  %4d %s\n", counted.by[name], name)
		}
	}
	s.T.Log(b.String())
	if file := os.Getenv("SOAK_SUMMARY"); file != "" {
		assert.NoError(s.T, os.WriteFile(file, []byte(b.String()), 0o600))
	}
}
