// Package orderstest gives tests of the service a store, and an agent's orders and
// answers.
package orderstest

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/lab/servers/serverstest"
	protocol "kambrel.example/kambrel/protocol/orders"
	"kambrel.example/kambrel/service/store"
)

// Agent is the id of the agent that takes orders.
const Agent = "00000000-0000-4000-8000-00000000000a"

// Store opens a store in a PostgreSQL of its own that ends with the test.
func Store(t *testing.T) *store.Store {
	t.Helper()
	server, err := serverstest.New(t).StartPostgres(t.Context(), 0, true)
	require.NoError(t, err)
	dsn, err := server.Create(t.Context(), "kambrel")
	require.NoError(t, err)
	s, err := store.Open(t.Context(), dsn)
	require.NoError(t, err)
	t.Cleanup(func() { _ = s.Close() })
	return s
}

// Give makes an order to read halvard and lets Agent take it.
func Give(t *testing.T, s *store.Store) int64 {
	t.Helper()
	run, err := s.Runs.New(t.Context(), store.Run{Purpose: purpose.Sync, By: "test"}, false)
	require.NoError(t, err)
	order := store.Order{RunID: &run, Directory: "halvard", Request: protocol.Order{Directory: "halvard", Base: "DC=example", Read: &protocol.Read{Attributes: []string{"cn"}}}}
	require.NoError(t, s.Orders.Add(t.Context(), &order))
	_, ok, err := s.Orders.Take(t.Context(), Agent, []string{"halvard"}, protocol.LaneAny, time.Minute)
	require.NoError(t, err)
	require.True(t, ok)
	return order.ID
}

// Speaker is an agent that may speak for halvard.
func Speaker(id string) store.Agent {
	return store.Agent{ID: id, Name: id, Granted: []string{"halvard"}}
}

// ID is the id of the entry with a number.
func ID(n int) entry.ID {
	parsed, _ := entry.NewID(fmt.Sprintf("00000000-0000-4000-8000-%012d", n))
	return parsed
}

// Lines is an answer of the lines given, as it comes over the wire.
func Lines(all ...protocol.Line) string {
	var b strings.Builder
	for _, line := range all {
		text, _ := json.Marshal(line)
		b.Write(append(text, '\n'))
	}
	return b.String()
}

// Crew tells of the user with a number.
func Crew(n int) protocol.Line {
	return protocol.Line{Entry: &entry.Entry{ID: ID(n), Kind: entry.User, DN: fmt.Sprintf("CN=Crew %d,DC=example", n), Attributes: entry.Attributes{"cn": {fmt.Sprint(n)}}}}
}

// Done ends an answer.
func Done(cookie string, complete bool) protocol.Line {
	return protocol.Line{Done: &protocol.Done{Cookie: []byte(cookie), Complete: complete}}
}
