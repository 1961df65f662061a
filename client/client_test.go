package client

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/protocol/wire"
)

func TestRefusalsKeepTheirCodeAndPlaces(t *testing.T) {
	t.Parallel()
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/api/v1/health" {
			http.Error(w, "proxy says no", http.StatusBadGateway)
			return
		}
		w.WriteHeader(http.StatusUnprocessableEntity)
		fmt.Fprint(w, `{"type":"urn:kambrel:problem:settings-invalid","title":"The settings have faults","errors":[{"location":"users.filter","message":"no end"}]}`)
	}))
	defer server.Close()
	c := New(server.URL+"/", "secret")
	_, err := c.Activate(t.Context(), wire.ActivateSettings{})
	var refusal *Error
	require.True(t, errors.As(err, &refusal))
	assert.Equal(t, problem.SettingsInvalid, refusal.Code())
	assert.Equal(t, "The settings have faults\n  users.filter: no end", err.Error())
	_, err = c.Health(t.Context())
	assert.ErrorContains(t, err, "502 Bad Gateway")
	_, err = New("http://127.0.0.1:1", "secret").Health(t.Context())
	assert.ErrorContains(t, err, "cannot be reached")
	assert.NotContains(t, err.Error(), "secret")
}

// TestWaitFollowsARunThroughABrokenStream ends the stream of events in the
// middle: the client listens again and misses nothing.
func TestWaitFollowsARunThroughABrokenStream(t *testing.T) {
	t.Parallel()
	var streams, reads atomic.Int32
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/api/v1/events" {
			n := streams.Add(1)
			fmt.Fprint(w, ": listening\n\n")
			w.(http.Flusher).Flush()
			if n == 1 {
				return // broken off at once
			}
			fmt.Fprint(w, "data: {\"kind\":\"run\",\"id\":8}\n\ndata: {\"kind\":\"run\",\"id\":7}\n\n")
			w.(http.Flusher).Flush()
			<-r.Context().Done()
			return
		}
		run := wire.Run{ID: 7, State: progress.Running}
		if reads.Add(1) >= 3 {
			run.State = progress.InStep
		}
		_ = json.NewEncoder(w).Encode(run)
	}))
	defer server.Close()
	seen := 0
	run, err := New(server.URL, "").Wait(t.Context(), 7, func(wire.Run) { seen++ })
	require.NoError(t, err)
	assert.Equal(t, progress.InStep, run.State)
	assert.Equal(t, 3, seen)
	assert.EqualValues(t, 2, streams.Load())
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, err = New(server.URL, "").Wait(ctx, 7, nil)
	assert.ErrorIs(t, err, context.Canceled)
}
