package person

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestNobodyLosesALinkAndNobodyIsTwoPeople decides about random people and
// checks what must hold of any decision, in whatever order they come.
func TestNobodyLosesALinkAndNobodyIsTwoPeople(t *testing.T) {
	t.Parallel()
	type name struct {
		directory string
		id        byte
	}
	for seed := range uint64(3000) {
		random := rand.New(rand.NewPCG(seed, 1))
		var members []Member
		for n := range byte(1 + random.IntN(6)) {
			m := member(n+1, []string{"a", "b", "c"}[random.IntN(3)])
			for range 1 + random.IntN(2) {
				if key := fmt.Sprintf("%s=%d", []string{"n", "m"}[random.IntN(2)], random.IntN(3)); !slices.Contains(m.Keys, key) {
					m.Keys = append(m.Keys, key)
				}
			}
			if random.IntN(3) == 0 {
				m.ResourceID = fmt.Sprintf("r%d", n)
			}
			m.Inside = random.IntN(4) > 0
			m.Left = m.ResourceID != "" && !m.Inside && random.IntN(2) == 0
			members = append(members, m)
		}
		outcomes := Decide(slices.Clone(members))
		require.Len(t, outcomes, len(members), "seed %d", seed)
		of := map[name]Outcome{}
		for _, o := range outcomes {
			of[name{o.Directory, o.ID[15]}] = o
		}
		require.Len(t, of, len(members), "seed %d: each once", seed)
		givers := map[name]bool{}
		people := map[name][]string{} // directories of whoever is one with a lead
		for _, o := range outcomes {
			if o.Lead != nil {
				lead := of[name{o.Lead.Directory, o.Lead.ID[15]}]
				require.Nil(t, lead.Lead, "seed %d: who leads follows nobody", seed)
				require.Nil(t, lead.Problem, "seed %d: who leads is well", seed)
				require.True(t, lead.Inside && o.Inside, "seed %d: only who is there", seed)
				require.Empty(t, o.ResourceID, "seed %d: a link is never given up for another", seed)
				require.NotEmpty(t, o.Rule, "seed %d: it is told why they are one", seed)
				at := name{lead.Directory, lead.ID[15]}
				if people[at] == nil {
					people[at] = []string{lead.Directory}
				}
				require.NotContains(t, people[at], o.Directory, "seed %d: two entries of one directory are two people", seed)
				people[at] = append(people[at], o.Directory)
			}
			if o.From != nil {
				from := name{o.From.Directory, o.From.ID[15]}
				require.False(t, givers[from], "seed %d: a link goes to one", seed)
				givers[from] = true
				giver := of[from]
				require.False(t, giver.Inside, "seed %d: only who is out of scope gives a link", seed)
				require.NotEmpty(t, giver.ResourceID)
				require.Empty(t, o.ResourceID, "seed %d: who has a link takes none", seed)
				require.Nil(t, o.Lead)
				require.Nil(t, o.Problem)
			}
			if !o.Inside {
				require.True(t, o.Lead == nil && o.From == nil && o.Problem == nil, "seed %d: who is out of scope is only asked for the link", seed)
			}
		}
		random.Shuffle(len(members), func(i, j int) { members[i], members[j] = members[j], members[i] })
		again := Decide(members)
		assert.Equal(t, told(outcomes), told(again), "seed %d: whatever the order in which they come", seed)
		if t.Failed() {
			return
		}
	}
}
