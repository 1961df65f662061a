package cloud

import (
	"context"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/lab/standin"
)

// TestWhatWasWrittenIsNotReadBack lists changes of which all are known but those that
// somebody else has made: a few are read one by one, many with their page, and all of
// them where the service does not say what they are known by.
func TestWhatWasWrittenIsNotReadBack(t *testing.T) {
	t.Parallel()
	base := startCloud(t, standin.Options{PageSize: 100})
	attributes := "kept"
	target, err := url.Parse(base)
	require.NoError(t, err)
	proxy := httputil.NewSingleHostReverseProxy(target)
	before := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if query := r.URL.Query(); query.Has("attributes") {
			switch attributes {
			case "refused":
				http.Error(w, `{"status":"400","detail":"unknown parameter"}`, http.StatusBadRequest)
				return
			case "without meta":
				query.Set("attributes", "userName")
				r.URL.RawQuery = query.Encode()
			case "broken":
				http.Error(w, `{"status":"403","schemas":["urn:ietf:params:scim:api:messages:2.0:Error"]`, http.StatusUnauthorized)
				return
			}
		}
		proxy.ServeHTTP(w, r)
	}))
	t.Cleanup(before.Close)
	c := newClient(t, before.URL)
	known := map[string]entry.Stamp{}
	written := made(t, c.Write(t.Context(), newUsers(0, 450)))
	for _, r := range written {
		known[r.ID()] = r.Stamp()
	}
	differing := func(_ context.Context, stamps []entry.Stamp) (others []string, err error) {
		for _, stamp := range stamps {
			assert.True(t, stamp.Whole())
			if known[stamp.ID] != stamp {
				others = append(others, stamp.ID)
			}
		}
		return others, nil
	}
	read := func() (map[string]any, Reading) {
		titles := map[string]any{}
		reading, err := c.Read(t.Context(), entry.User, written[0].LastModified(), differing, func(page []entry.Resource) error {
			for _, r := range page {
				titles[r.Login()] = r["title"]
			}
			return nil
		})
		require.NoError(t, err)
		return titles, reading
	}
	changed, newest, err := c.Changed(t.Context(), entry.User, written[0].LastModified(), differing)
	require.NoError(t, err)
	assert.False(t, changed, "nobody else has changed anything")
	assert.Equal(t, written[449].LastModified(), newest)
	changed, _, err = c.Changed(t.Context(), entry.User, "2099-01-01T00:00:00Z", differing)
	require.NoError(t, err)
	assert.False(t, changed, "nothing is listed at all")
	titles, reading := read()
	assert.Len(t, titles, 100, "the first page only")
	assert.False(t, reading.Complete)
	assert.Equal(t, written[449].LastModified(), reading.Watermark)

	edit := func(from, to int) {
		var writes []Write
		for _, r := range written[from:to] {
			writes = append(writes, titled(r, "by hand", ""))
		}
		made(t, c.Write(t.Context(), writes))
	}
	edit(300, 303)
	changed, _, err = c.Changed(t.Context(), entry.User, newest, differing)
	require.NoError(t, err)
	assert.True(t, changed)
	titles, reading = read()
	assert.Len(t, titles, 103, "and what somebody else has changed")
	assert.Equal(t, "by hand", titles[written[301].Login()])
	edit(200, 290)
	titles, reading = read()
	assert.Equal(t, "by hand", titles[written[301].Login()])
	assert.Equal(t, "by hand", titles[written[289].Login()], "many are read with their page")
	for _, attributes = range []string{"refused", "without meta"} {
		titles, again := read()
		assert.Len(t, titles, 450, attributes)
		assert.Equal(t, reading.Watermark, again.Watermark, attributes)
		_, _, err = c.Changed(t.Context(), entry.User, newest, differing)
		assert.ErrorIs(t, err, ErrNotTold, attributes)
	}
	attributes = "broken"
	_, err = c.Read(t.Context(), entry.User, written[0].LastModified(), differing, func([]entry.Resource) error { return nil })
	assert.Equal(t, problem.CloudUnauthorized, problem.CodeOf(err), "which is no word about attributes")
}
