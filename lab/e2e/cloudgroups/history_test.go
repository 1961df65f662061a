package cloudgroups_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/protocol/wire"
)

// history is what a random history has made of the cloud and the directory.
type history struct {
	w      *worldtest.World
	random *rand.Rand
	people map[string]string // resource's id -> what the entry is called, "" of who has left
	in     map[string]bool   // who is among the people, and not among the leavers
	groups map[string]string // id -> name
	holds  map[string]map[string]bool
}

// step does one thing, in the cloud or in the directory.
func (h *history) step(n int) {
	t := h.w.T
	ids := func(m map[string]string) []string {
		out := []string{}
		for id := range m {
			out = append(out, id)
		}
		slices.Sort(out)
		return out
	}
	pick := func(list []string) string { return list[h.random.IntN(len(list))] }
	group, person := pick(ids(h.groups)), pick(ids(h.people))
	dn := func(name string) string { return "cn=" + name + "," + worldtest.CloudGroups }
	patch := func(operation map[string]any) {
		worldtest.Patch(t, h.w.Address(), "Groups/"+group, operation)
	}
	switch h.random.IntN(8) {
	case 0, 1: // a person more, or a group
		member := person
		if h.random.IntN(4) == 0 {
			if member = pick(ids(h.groups)); member == group {
				return
			}
		}
		patch(map[string]any{"op": "add", "path": "members", "value": []any{map[string]any{"value": member}}})
		h.holds[group][member] = true
	case 2:
		if len(h.holds[group]) > 0 {
			member := pick(slices.Collect(func(yield func(string) bool) {
				for id := range h.holds[group] {
					if !yield(id) {
						return
					}
				}
			}))
			patch(map[string]any{"op": "remove", "path": fmt.Sprintf("members[value eq %q]", member)})
			delete(h.holds[group], member)
		}
	case 3:
		h.groups[group] = fmt.Sprintf("Crew %d", n)
		patch(map[string]any{"op": "replace", "path": "displayName", "value": h.groups[group]})
	case 4: // somebody is renamed in the directory
		name := fmt.Sprintf("Hand %d", n)
		require.NoError(t, h.w.LDAP.ModifyDN(ldap.NewModifyDNRequest(h.nameOf(person), "cn="+name, true, "")))
		h.people[person] = name
	case 5: // somebody leaves, or comes back
		to := worldtest.Leavers
		if !h.in[person] {
			to = worldtest.People
		}
		require.NoError(t, h.w.LDAP.ModifyDN(ldap.NewModifyDNRequest(h.nameOf(person), "cn="+h.people[person], true, to)))
		h.in[person] = !h.in[person]
	case 6: // somebody changes a group in the directory
		kept := h.w.KeptGroups(worldtest.CloudGroups)
		if _, there := kept[h.groups[group]]; there {
			request := ldap.NewModifyRequest(dn(h.groups[group]), nil)
			request.Add("member", []string{h.nameOf(person)})
			if err := h.w.LDAP.Modify(request); err != nil && !ldap.IsErrorWithCode(err, ldap.LDAPResultAttributeOrValueExists) {
				require.NoError(t, err)
			}
		}
	case 7:
		kept := h.w.KeptGroups(worldtest.CloudGroups)
		if _, there := kept[h.groups[group]]; there {
			require.NoError(t, h.w.LDAP.ModifyDN(ldap.NewModifyDNRequest(dn(h.groups[group]), fmt.Sprintf("cn=Other %d", n), true, worldtest.Harbour)))
		}
	}
}

func (h *history) nameOf(person string) string {
	container := worldtest.People
	if !h.in[person] {
		container = worldtest.Leavers
	}
	return "cn=" + h.people[person] + "," + container
}

// want are the groups as the directory shall have them.
func (h *history) want() map[string][]string {
	out := map[string][]string{}
	for id, name := range h.groups {
		members := []string{}
		for member := range h.holds[id] {
			switch {
			case h.groups[member] != "":
				members = append(members, h.groups[member])
			case h.in[member]:
				members = append(members, h.people[member])
			}
		}
		if len(members) == 0 {
			members = []string{"Cloud Groups"}
		}
		slices.Sort(members)
		out[name] = members
	}
	return out
}

// TestARandomHistoryEndsAsItShould changes cloud and directory at random, with runs of what
// changed between, and compares each time what is there with what shall be.
func TestARandomHistoryEndsAsItShould(t *testing.T) {
	t.Parallel()
	w := worldtest.WithCloudGroups(t, worldtest.Options{})
	const seed = 1
	h := &history{w: w, random: rand.New(rand.NewPCG(seed, 3)), people: map[string]string{}, in: map[string]bool{}, groups: map[string]string{}, holds: map[string]map[string]bool{}}
	for _, name := range []string{"Anna", "Bo", "Cato"} {
		id := w.ID(name)
		h.people[id], h.in[id] = name, true
	}
	for _, name := range []string{"Crew A", "Crew B", "Crew C"} {
		id := w.CloudGroup(name)
		h.groups[id], h.holds[id] = name, map[string]bool{}
	}
	for round := range 15 {
		for i := range 4 {
			h.step(round*10 + i)
		}
		run := w.Run(wire.NewRun{})
		if run.State == progress.Problems { // names that are exchanged wait for one another
			run = w.Run(wire.NewRun{})
		}
		require.NotEqual(t, progress.Failed, run.State, "%+v", run.Failure)
		have := map[string][]string{}
		for name, group := range w.KeptGroups(worldtest.Base) {
			have[name] = group.Members
		}
		require.Equal(t, h.want(), have, "seed %d, round %d: %+v", seed, round, run.Counts)
	}
	full := w.Run(wire.NewRun{Purpose: purpose.Full})
	assert.Zero(t, full.Counts.Changes, "%+v", full.Counts)
}
