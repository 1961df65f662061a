package cloud

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/plan"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/scim"
	"kambrel.example/kambrel/standin"
)

const token = "cloud-token"

// startCloud runs the stand-in in this process and returns its base URL.
func startCloud(t *testing.T) string {
	t.Helper()
	server, err := standin.New(standin.Options{Token: token, Domains: []string{"halvard.example"}})
	require.NoError(t, err)
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	ended := make(chan error, 1)
	go func() { ended <- server.Serve(listener) }()
	t.Cleanup(func() {
		require.NoError(t, server.Close())
		require.NoError(t, <-ended)
	})
	return "http://" + listener.Addr().String()
}

// lesser stands before a cloud and takes features away, as the configuration
// is edited; it counts requests by path.
type lesser struct {
	*httptest.Server
	requests map[string]int
}

func startLesser(t *testing.T, base string, edit func(*scim.ServiceProviderConfig)) *lesser {
	t.Helper()
	target, err := url.Parse(base)
	require.NoError(t, err)
	l := &lesser{requests: map[string]int{}}
	proxy := httputil.NewSingleHostReverseProxy(target)
	proxy.ModifyResponse = func(response *http.Response) error {
		if !strings.HasSuffix(response.Request.URL.Path, "/ServiceProviderConfig") {
			return nil
		}
		var config scim.ServiceProviderConfig
		if err := json.NewDecoder(response.Body).Decode(&config); err != nil {
			return err
		}
		edit(&config)
		text, err := json.Marshal(config)
		response.Body, response.ContentLength = io.NopCloser(bytes.NewReader(text)), int64(len(text))
		response.Header.Set("Content-Length", fmt.Sprint(len(text)))
		return err
	}
	l.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		l.requests[r.Method+" "+strings.TrimPrefix(r.URL.Path, "/scim/v2")]++
		proxy.ServeHTTP(w, r)
	}))
	t.Cleanup(l.Close)
	return l
}

func newClient(t *testing.T, base string) *Client {
	t.Helper()
	c, err := New(base+"/scim/v2", token)
	require.NoError(t, err)
	return c
}

func faults(t *testing.T, base, body string) {
	t.Helper()
	request, err := http.NewRequest(http.MethodPost, base+"/standin/faults", strings.NewReader(body))
	require.NoError(t, err)
	request.Header.Set("Authorization", "Bearer "+token)
	response, err := http.DefaultClient.Do(request)
	require.NoError(t, err)
	defer response.Body.Close()
	require.Equal(t, 200, response.StatusCode)
}

func newUser(n int) Write {
	return Write{Resource: entry.Resource{"userName": fmt.Sprintf("crew%d@halvard.example", n), "externalId": fmt.Sprintf("key-%d", n), scim.EnterpriseURN: map[string]any{"department": "Deck"}}}
}

func newUsers(from, n int) []Write {
	writes := make([]Write, n)
	for i := range writes {
		writes[i] = newUser(from + i)
	}
	return writes
}

func made(t *testing.T, answers []Answer) []entry.Resource {
	t.Helper()
	resources := make([]entry.Resource, len(answers))
	for i, answer := range answers {
		require.NoError(t, answer.Err)
		resources[i] = answer.Resource
	}
	return resources
}

func titled(r entry.Resource, title, version string) Write {
	return Write{ID: r.ID(), Version: version, Operations: []plan.PatchOperation{{Op: "replace", Path: "title", Value: title}}}
}

func readAll(t *testing.T, c *Client, watermark string) (map[string]entry.Resource, Reading) {
	t.Helper()
	found := map[string]entry.Resource{}
	reading, err := c.ReadUsers(t.Context(), watermark, func(page []entry.Resource) error {
		for _, r := range page {
			found[r.Login()] = r
		}
		return nil
	})
	require.NoError(t, err)
	return found, reading
}

// TestWithEveryService holds what must be true whatever a service can do.
func TestWithEveryService(t *testing.T) {
	t.Parallel()
	for name, edit := range map[string]func(*scim.ServiceProviderConfig){
		"with everything": func(*scim.ServiceProviderConfig) {},
		"without bulk":    func(c *scim.ServiceProviderConfig) { c.Bulk.Supported.Supported = false },
		"without etag":    func(c *scim.ServiceProviderConfig) { c.ETag.Supported = false },
		"without sort":    func(c *scim.ServiceProviderConfig) { c.Sort.Supported = false },
		"with small pages and small bulk": func(c *scim.ServiceProviderConfig) {
			c.Filter.MaxResults, c.Bulk.MaxOperations, c.Bulk.MaxPayloadSize = 7, 9, 3000
		},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			c := newClient(t, startLesser(t, startCloud(t), edit).URL)
			first := made(t, c.Write(t.Context(), newUsers(0, 30)))
			found, reading := readAll(t, c, "")
			assert.Len(t, found, 30)
			assert.True(t, reading.Complete)
			assert.Equal(t, "Deck", entry.MustPath(scim.EnterpriseURN+":department").Get(found["crew3@halvard.example"]))

			made(t, c.Write(t.Context(), []Write{titled(first[3], "Mate", first[3].Version()), newUser(100)}))
			changed, next := readAll(t, c, reading.Watermark)
			assert.Equal(t, "Mate", changed["crew3@halvard.example"]["title"])
			assert.Contains(t, changed, "crew100@halvard.example")
			if !next.Complete {
				assert.LessOrEqual(t, len(changed), 3, "only what changed since is sent")
			}
			assert.Greater(t, next.Watermark, reading.Watermark)

			many := make([]Write, 25)
			for i := range many {
				many[i] = titled(first[i], "Cook", "")
			}
			made(t, c.Write(t.Context(), many))
			changed, _ = readAll(t, c, next.Watermark)
			cooks := 0
			for _, r := range changed {
				if r["title"] == "Cook" {
					cooks++
				}
			}
			assert.Equal(t, 25, cooks, "more changes than a page holds are all seen")

			key, err := c.ByLinkKey(t.Context(), "key-5")
			require.NoError(t, err)
			assert.Equal(t, first[5].ID(), key.ID())
			none, err := c.ByLinkKey(t.Context(), "key-none")
			require.NoError(t, err)
			assert.Nil(t, none)
			none, err = c.Get(t.Context(), "no-such-id")
			require.NoError(t, err)
			assert.Nil(t, none)
		})
	}
}

func TestRefusalsAreToldOneByOne(t *testing.T) {
	t.Parallel()
	base := startCloud(t)
	c := newClient(t, base)
	first := made(t, c.Write(t.Context(), newUsers(0, 2)))
	for _, size := range []int{1, 20} { // singly and in bulk
		writes := append([]Write{
			newUser(0), titled(first[1], "Mate", `W/"99"`), titled(entry.Resource{"id": "gone"}, "Mate", ""),
			{Resource: entry.Resource{"userName": "x@other.example"}},
		}, newUsers(1000*size, size-1)...)
		answers := c.Write(t.Context(), writes)
		for i, want := range []struct {
			status   int
			scimType string
		}{{409, "uniqueness"}, {412, ""}, {404, ""}, {400, "invalidValue"}} {
			var refusal *Refusal
			require.True(t, errors.As(answers[i].Err, &refusal), "%v", answers[i].Err)
			assert.Equal(t, want.status, refusal.Status)
			assert.Equal(t, want.scimType, refusal.ScimType)
			assert.NotEmpty(t, refusal.Detail)
		}
		made(t, answers[4:])
	}
}

func TestThrottlingIsWaitedOut(t *testing.T) {
	t.Parallel()
	base := startCloud(t)
	c := newClient(t, base)
	_, err := c.Discover(t.Context())
	require.NoError(t, err)
	faults(t, base, `{"perSecond":3}`)
	began := time.Now()
	for i := range 5 {
		made(t, c.Write(t.Context(), []Write{newUser(i)}))
	}
	assert.Greater(t, time.Since(began), 500*time.Millisecond, "the cloud's Retry-After is kept")
	faults(t, base, `{}`)
	found, _ := readAll(t, c, "")
	assert.Len(t, found, 5)
}

// TestALostAnswerIsNeverSentAgainBlindly: the work was done, and a second
// creation would be a second account.
func TestALostAnswerIsNeverSentAgainBlindly(t *testing.T) {
	t.Parallel()
	base := startCloud(t)
	l := startLesser(t, base, func(*scim.ServiceProviderConfig) {})
	c := newClient(t, l.URL)
	_, err := c.Discover(t.Context())
	require.NoError(t, err)
	for _, writes := range [][]Write{{newUser(1)}, newUsers(10, 12)} {
		faults(t, base, `{"rate":1,"kinds":["lost"]}`)
		answers := c.Write(t.Context(), writes)
		faults(t, base, `{}`)
		for i, answer := range answers {
			require.ErrorIs(t, answer.Err, ErrUnknownOutcome)
			found, err := c.ByLinkKey(t.Context(), writes[i].Resource.ExternalID())
			require.NoError(t, err)
			assert.NotNil(t, found, "it was done all the same")
		}
	}
	assert.Equal(t, 1, l.requests["POST /Users"])
	assert.Equal(t, 1, l.requests["POST /Bulk"])
}

func TestWhatConcernsTheWholeCloudHasACode(t *testing.T) {
	t.Parallel()
	base := startCloud(t)
	wrong, err := New(base+"/scim/v2", "wrong")
	require.NoError(t, err)
	_, err = wrong.Discover(t.Context())
	assert.Equal(t, problem.CloudUnauthorized, problem.CodeOf(err))
	assert.NotContains(t, err.Error(), "wrong", "the token is not told")
	for _, address := range []string{"", "cloud", "ftp://127.0.0.1", "http://cloud.halvard.example/scim"} {
		_, err := New(address, token)
		assert.Equal(t, problem.BadInput, problem.CodeOf(err), address)
	}
	_, err = New(base, "")
	assert.Equal(t, problem.BadInput, problem.CodeOf(err))
	without := newClient(t, startLesser(t, base, func(c *scim.ServiceProviderConfig) { c.Patch.Supported = false }).URL)
	_, err = without.Discover(t.Context())
	assert.ErrorContains(t, err, "PATCH")
}

func TestReadingSurvivesAnUnsteadyCloud(t *testing.T) {
	t.Parallel()
	base := startCloud(t)
	c := newClient(t, base)
	made(t, c.Write(t.Context(), newUsers(0, 40)))
	faults(t, base, `{"rate":0.4,"seed":3,"kinds":["error","reset","lost"]}`)
	found, _ := readAll(t, c, "")
	assert.Len(t, found, 40)
}
