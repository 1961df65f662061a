package sync_test

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/protocol/wire"
)

// TestRandomHistoriesOfTwoDirectories lets people come, go and change in two
// directories at random: whoever has been seen once keeps one account for ever,
// and has it as long as one of the entries is there.
func TestRandomHistoriesOfTwoDirectories(t *testing.T) {
	t.Parallel()
	w, d := worldtest.TwoDirectories(t)
	d.Guard.Removals = 1000
	w.Activate(d)
	const people, steps, edits = 8, 10, 6
	random := rand.New(rand.NewPCG(3, 5))
	// Which entries a number has, by directory.
	entries := map[string]map[int]string{"brisling": {}, "skerry": {}}
	login := func(directory string, n int) string { return fmt.Sprintf("%s%d@brisling.example", directory, n) }
	come := func(directory string, n int) string {
		values := map[string]string{"employeeNumber": fmt.Sprint(n), "mail": login(directory, n), "title": "Hand"}
		if directory == "skerry" {
			return w.InSkerry(fmt.Sprintf("Crew %d", n), values)
		}
		return w.Person(fmt.Sprintf("Crew %d", n), values)
	}
	accounts := map[int]string{} // the id of a number's account
	for step := range steps {
		for range edits {
			directory := []string{"brisling", "skerry"}[random.IntN(2)]
			n := random.IntN(people)
			dn, there := entries[directory][n]
			switch action := random.IntN(5); {
			case !there:
				entries[directory][n] = come(directory, n)
			case action < 2:
				require.NoError(t, w.LDAP.Del(ldap.NewDelRequest(dn, nil)))
				delete(entries[directory], n)
			case action == 2:
				w.Set(dn, "title", fmt.Sprintf("Title %d of %s", random.IntN(9), directory))
			case action == 3:
				w.Set(dn, "telephoneNumber", fmt.Sprint(random.IntN(100)))
			case directory == "brisling" && entries["brisling"][0] != "" && n > 0:
				w.Set(dn, "manager", entries["brisling"][0])
			}
		}
		run := w.Run(wire.NewRun{})
		require.Equal(t, progress.InStep, run.State, "step %d: %+v", step, run)

		active := map[string]string{} // login to id
		for _, u := range worldtest.Users(t, w.Address(), "active eq true") {
			active[fmt.Sprint(u["userName"])] = fmt.Sprint(u["id"])
		}
		expected := 0
		for n := range people {
			inBrisling, inSkerry := entries["brisling"][n] != "", entries["skerry"][n] != ""
			if !inBrisling && !inSkerry {
				continue
			}
			expected++
			name := login("skerry", n)
			if inBrisling {
				name = login("brisling", n) // the first directory's login
			}
			require.Contains(t, active, name, "step %d: number %d has an account", step, n)
			if id, seen := accounts[n]; seen {
				require.Equal(t, id, active[name], "step %d: number %d keeps the account", step, n)
			}
			accounts[n] = active[name]
		}
		require.Len(t, active, expected, "step %d: nobody has two", step)
	}
	assert.Zero(t, w.Run(wire.NewRun{Purpose: purpose.Forecast}).Counts.Changes, "the deltas have come to what everything at once would be")
	assert.Zero(t, w.Run(wire.NewRun{Purpose: purpose.Full}).Counts.Changes)
	assert.Len(t, worldtest.Users(t, w.Address(), ""), len(accounts), "no account beside those of the people")
}
