package store

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/lab/servers/serverstest"
)

// TestLoginDomainsOfVeryManyAreEstimated counts a few exactly, and of very many looks at a part.
func TestLoginDomainsOfVeryManyAreEstimated(t *testing.T) {
	t.Parallel()
	server, err := serverstest.New(t).StartPostgres(t.Context(), 0, true)
	require.NoError(t, err)
	s := open(t, server)
	add := func(from, to int) {
		_, err := s.exec(t.Context(), `INSERT INTO resources (id, attributes, digest, keys, active, search)
			SELECT n::text, jsonb_build_object('userName', 'crew' || n || CASE WHEN n % 4 = 0 THEN '@Second.example' WHEN n % 1000 = 1 THEN '' ELSE '@first.example' END), '', '{}', n % 2 = 0, ''
			FROM generate_series(?::int, ?::int) n`, from, to)
		require.NoError(t, err)
		_, err = s.exec(t.Context(), `ANALYZE resources`)
		require.NoError(t, err)
	}
	add(1, 2000)
	domains, looked, of, err := s.Resources.LoginDomains(t.Context())
	require.NoError(t, err)
	assert.Equal(t, []LoginDomain{{Name: "", People: 2}, {Name: "first.example", People: 1498, Active: 500}, {Name: "second.example", People: 500, Active: 500}}, domains)
	assert.Equal(t, []int{2000, 2000}, []int{looked, of})

	add(2001, 3*manyPeople)
	domains, looked, of, err = s.Resources.LoginDomains(t.Context())
	require.NoError(t, err)
	assert.InDelta(t, manyPeople, looked, manyPeople/4)
	assert.InDelta(t, 3*manyPeople, of, 3*manyPeople/4)
	for _, d := range domains {
		switch d.Name {
		case "first.example":
			assert.InDelta(t, 0.75, float64(d.People)/float64(of), 0.02)
		case "second.example":
			assert.InDelta(t, 0.25, float64(d.People)/float64(of), 0.02)
			assert.Equal(t, d.People, d.Active)
		}
	}
}
