package cloud

import (
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/change"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/lab/standin"
)

// TestWithoutTheBulkThatWasPromisedNothingIsMadeBlindly refuses bulk, and names nobody who
// is made: the second one waits until the first was found.
func TestWithoutTheBulkThatWasPromisedNothingIsMadeBlindly(t *testing.T) {
	t.Parallel()
	base := startCloud(t, standin.Options{Habits: []string{"bulk-missing", "no-id", "no-location"}})
	c := newClient(t, base)
	answers := c.Write(t.Context(), newUsers(0, bulkAtLeast))
	require.ErrorIs(t, answers[0].Err, ErrMadeUnnamed)
	for _, answer := range answers[1:] {
		assert.ErrorIs(t, answer.Err, ErrNotSent)
	}
	can, err := c.Discover(t.Context())
	require.NoError(t, err)
	assert.Zero(t, can.BulkOperations)
	assert.Contains(t, can.Denied[FeatureBulk], "404")

	// A probe tells it, and lets the promise be tried again.
	var told []string
	for _, step := range c.Probe(t.Context()) {
		told = append(told, step.Name+" "+step.Outcome)
	}
	assert.Contains(t, told, "bulk doubtful")
	can, err = c.Discover(t.Context())
	require.NoError(t, err)
	assert.NotZero(t, can.BulkOperations)
}

// TestAPatchThatIsRefusedBecomesAPut sends what was promised once only.
func TestAPatchThatIsRefusedBecomesAPut(t *testing.T) {
	t.Parallel()
	c := newClient(t, startCloud(t, standin.Options{Habits: []string{"patch-missing"}}))
	user := made(t, c.Write(t.Context(), []Write{newUser(1)}))[0]
	changed := made(t, c.Write(t.Context(), []Write{titled(user, "Mate", "")}))[0]
	assert.Equal(t, "Mate", changed["title"])
	can, err := c.Discover(t.Context())
	require.NoError(t, err)
	assert.False(t, can.Patch)
	assert.Contains(t, can.Denied[FeaturePatch], "501")
}

// TestAWriteThatMayHaveBeenDoneIsNotRepeated answers a creation with 503, which a service
// may say after the work, with and without a time to come back.
func TestAWriteThatMayHaveBeenDoneIsNotRepeated(t *testing.T) {
	t.Parallel()
	for _, header := range []string{"", "1"} {
		var sent atomic.Int32
		server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Content-Type", "application/scim+json")
			if r.Method == http.MethodPost {
				sent.Add(1)
				w.Header().Set("Retry-After", header)
				w.WriteHeader(http.StatusServiceUnavailable)
				return
			}
			if strings.HasSuffix(r.URL.Path, "/ServiceProviderConfig") {
				_, _ = w.Write([]byte(capable))
				return
			}
			w.WriteHeader(http.StatusNotFound)
		}))
		t.Cleanup(server.Close)
		c, err := New(server.URL, FixedToken(token))
		require.NoError(t, err)
		answer := c.Write(t.Context(), []Write{newUser(1)})[0]
		require.ErrorIs(t, answer.Err, ErrUnknownOutcome, "Retry-After: %s", header)
		assert.EqualValues(t, 1, sent.Load(), "Retry-After: %s", header)
	}
}

func TestRetryAfterInSecondsAndAsADate(t *testing.T) {
	t.Parallel()
	now := time.Date(2026, 11, 26, 6, 0, 0, 0, time.UTC)
	at := func(after, date string) time.Duration {
		return retryAfter(http.Header{"Retry-After": {after}, "Date": {date}}, now)
	}
	later := now.Add(90 * time.Second).Format(http.TimeFormat)
	assert.Equal(t, 7*time.Second, at("7", ""))
	assert.Equal(t, 90*time.Second, at(later, ""))
	assert.Equal(t, 30*time.Second, at(later, now.Add(time.Minute).Format(http.TimeFormat)), "by the service's own clock")
	for _, text := range []string{"", "-5", "soon", now.Add(-time.Hour).Format(http.TimeFormat)} {
		assert.Zero(t, at(text, ""), text)
	}
}

// TestALongerPauseEndsTheRequest does not wait for an hour.
func TestALongerPauseEndsTheRequest(t *testing.T) {
	t.Parallel()
	c := answering(t, http.StatusTooManyRequests, "Retry-After: 3600", `{}`)
	_, err := c.Get(t.Context(), entry.User, "r1")
	assert.Equal(t, problem.CloudThrottled, problem.CodeOf(err))
	assert.ErrorContains(t, err, "no request before")
}

// TestAMemberIsAskedForByItself tells a list that is cut short from members that are gone,
// and knows when the service cannot tell.
func TestAMemberIsAskedForByItself(t *testing.T) {
	t.Parallel()
	c := newClient(t, startCloud(t, standin.Options{Habits: []string{"members-cut"}}))
	people := made(t, c.Write(t.Context(), newUsers(0, 7)))
	group := made(t, c.Write(t.Context(), []Write{{Kind: entry.Group, Resource: entry.Resource{"displayName": "Crew", "externalId": "crew"}}}))[0]
	var added []change.Member
	for _, person := range people[:6] {
		added = append(added, change.Member{Value: person.ID(), Type: "User"})
	}
	made(t, c.Write(t.Context(), []Write{{Kind: entry.Group, ID: group.ID(), Resource: group, Diffs: []change.Diff{{Target: "members", Added: added}}}}))
	listed, found, err := c.Members(t.Context(), group.ID())
	require.NoError(t, err)
	require.True(t, found)
	assert.Len(t, listed, 5)
	for i, want := range []bool{true, true, true, true, true, true, false} {
		has, known, err := c.HasMember(t.Context(), group.ID(), people[i].ID())
		require.NoError(t, err)
		assert.True(t, known)
		assert.Equal(t, want, has, "%d", i)
	}
	blind := newClient(t, startCloud(t, standin.Options{Without: []string{"filter"}}))
	_, known, err := blind.HasMember(t.Context(), group.ID(), people[0].ID())
	require.NoError(t, err)
	assert.False(t, known)
}
