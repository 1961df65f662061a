package store

import (
	"context"
	"errors"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/entry"
)

// holdersByIndex looks for a batch of keys among many resources: what PostgreSQL guesses of
// them made it compare all with all, which took a run at 100,000 people past every time-out.
func holdersByIndex(t *testing.T, s *Store) {
	ctx, stop := context.WithTimeout(t.Context(), 30*time.Second)
	defer stop()
	const people, batch = 30_000, 500
	_, err := s.Facts.exec(ctx, fmt.Sprintf(`INSERT INTO resources (id, kind, attributes, digest, search, active, keys)
		SELECT 'r' || i, 'user', jsonb_build_object('id', 'r' || i, 'userName', 'crew' || i), '', '', true, ARRAY['userName=crew' || i, 'externalId=x' || i, 'emails.value=crew' || i] FROM generate_series(1, %d) i`, people))
	require.NoError(t, err)
	_, err = s.Facts.exec(ctx, `ANALYZE resources`)
	require.NoError(t, err)
	keys := make([]string, batch)
	for i := range keys {
		keys[i] = fmt.Sprintf("userName=crew%d", i*7+1)
	}
	began := time.Now()
	found, err := s.Facts.Holders(ctx, keys)
	require.NoError(t, err)
	assert.Len(t, found, batch)
	assert.Less(t, time.Since(began), 2*time.Second)
}

// namedTwice marks an entry of which two changes in one batch came to nothing, as with two of
// a large group's: PostgreSQL refuses to write one row twice.
func namedTwice(t *testing.T, s *Store) {
	ctx := t.Context()
	a := somebody(1, "CN=A,OU=Fleet,DC=example")
	_, err := s.Entries.Store(ctx, halvard, []*entry.Entry{a})
	require.NoError(t, err)
	s.clean(t)
	ref := entry.Ref{Directory: halvard.Directory, ID: a.ID}
	require.NoError(t, s.Dirty.Set(ctx, []entry.Ref{ref, ref}, DirtyNow, true))
	assert.Equal(t, 1, s.dirtyCount(t))
}

// newMembers keeps the members of a large group as the results of a batch are kept, by index:
// without hash joins all of them were gone through for each of them.
func newMembers(t *testing.T, s *Store) {
	ctx, stop := context.WithTimeout(t.Context(), 60*time.Second)
	defer stop()
	members := make([]string, 50_000)
	for i := range members {
		members[i] = fmt.Sprintf("3f2a9d60-crew-%d", i)
	}
	began := time.Now()
	for _, now := range [][]string{members, members, members[2:]} {
		require.NoError(t, s.Tx(ctx, func(tx *Store) error {
			return errors.Join(tx.ByIndex(ctx), tx.Resources.SetMembers(ctx, "group", now, true))
		}))
	}
	assert.Less(t, time.Since(began), 15*time.Second)
	left, err := s.Resources.MemberIDs(ctx, "group")
	require.NoError(t, err)
	assert.Len(t, left, len(members)-2)
	require.NoError(t, s.Resources.SetMembers(ctx, "group", members[:1], false))
	left, err = s.Resources.MemberIDs(ctx, "group")
	require.NoError(t, err)
	assert.Len(t, left, len(members)-1, "a list that may be cut short takes nobody away")
}
