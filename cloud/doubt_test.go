package cloud

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/change"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/protocol/scim"
)

// cloudOf is a cloud of which one handler gives all answers but discovery.
func cloudOf(t *testing.T, config string, handler http.HandlerFunc) *Client {
	t.Helper()
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch {
		case strings.HasSuffix(r.URL.Path, "/ServiceProviderConfig"):
			fmt.Fprint(w, config)
		case strings.HasSuffix(r.URL.Path, "/ResourceTypes"), strings.HasSuffix(r.URL.Path, "/Schemas"):
			w.WriteHeader(http.StatusNotFound)
		default:
			handler(w, r)
		}
	}))
	t.Cleanup(server.Close)
	c, err := New(server.URL, FixedToken("secret"))
	require.NoError(t, err)
	return c
}

func TestPagesAreNotBelieved(t *testing.T) {
	t.Parallel()
	const config = `{"filter":{"supported":false,"maxResults":10}}`
	page := func(total, start int, ids ...int) string {
		resources := make([]string, len(ids))
		for i, id := range ids {
			resources[i] = fmt.Sprintf(`{"id":"r%d"}`, id)
		}
		return fmt.Sprintf(`{"totalResults":%d,"startIndex":%d,"Resources":[%s]}`, total, start, strings.Join(resources, ","))
	}
	for name, c := range map[string]struct {
		pages map[int]string // by startIndex
		says  string         // "" where it is believed
		found int
	}{
		"whole":                                {map[int]string{1: page(3, 1, 1, 2), 3: page(3, 3, 3)}, "", 3},
		"without saying where it begins":       {map[int]string{1: page(3, 0, 1, 2), 3: page(3, 0, 3)}, "", 3},
		"without counting":                     {map[int]string{1: page(0, 0, 1, 2), 3: page(0, 0, 3), 4: page(0, 0)}, "", 3},
		"the first page again":                 {map[int]string{1: page(4, 1, 1, 2), 3: page(4, 1, 1, 2)}, "from number 3 on was asked for", 0},
		"the first page again, silently":       {map[int]string{1: page(4, 0, 1, 2), 3: page(4, 0, 1, 2)}, "came before", 0},
		"the first page again, uncounted":      {map[int]string{1: page(0, 0, 1, 2), 3: page(0, 0, 1, 2)}, "came before", 0},
		"ends early":                           {map[int]string{1: page(5, 1, 1, 2), 3: page(5, 3)}, "2 of them came", 0},
		"one twice and another not at all":     {map[int]string{1: page(4, 1, 1, 2), 3: page(4, 3, 2, 3)}, "3 of them came", 0},
		"resources without an id":              {map[int]string{1: `{"totalResults":1,"Resources":[{"userName":"a"}]}`}, "has no id", 0},
		"names in other letters, all the same": {map[int]string{1: `{"TotalResults":1,"RESOURCES":[{"ID":"r1","Meta":{"LastModified":"x"}}]}`}, "", 1},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			client := cloudOf(t, config, func(w http.ResponseWriter, r *http.Request) {
				start, _ := strconv.Atoi(r.URL.Query().Get("startIndex"))
				fmt.Fprint(w, c.pages[start])
			})
			found := map[string]bool{}
			reading, err := client.Read(t.Context(), entry.User, "", nil, func(page []entry.Resource) error {
				for _, r := range page {
					found[r.ID()] = true
				}
				return nil
			})
			if c.says == "" {
				require.NoError(t, err)
				assert.True(t, reading.Complete)
				assert.Len(t, found, c.found)
				return
			}
			assert.Equal(t, problem.CloudListIncomplete, problem.CodeOf(err))
			assert.ErrorContains(t, err, c.says)
		})
	}
}

// TestAListThatIsNeitherFilteredNorSortedIsReadWhole has a service that ignores
// both: what it sends is no list of changes.
func TestAListThatIsNeitherFilteredNorSortedIsReadWhole(t *testing.T) {
	t.Parallel()
	client := cloudOf(t, `{"filter":{"supported":true,"maxResults":10},"sort":{"supported":true}}`, func(w http.ResponseWriter, r *http.Request) {
		fmt.Fprint(w, `{"totalResults":2,"Resources":[{"id":"new","meta":{"lastModified":"2026-03-02T00:00:00Z"}},{"id":"old","meta":{"lastModified":"2026-03-01T00:00:00Z"}}]}`)
	})
	reading, err := client.Read(t.Context(), entry.User, "2026-03-01T12:00:00Z", nil, func([]entry.Resource) error { return nil })
	require.NoError(t, err)
	assert.True(t, reading.Complete)
	// Nor is anybody taken for who has a value just since the service says so.
	found, err := client.Finder(entry.User).ByLinkKey(t.Context(), "key")
	require.NoError(t, err)
	assert.Nil(t, found)
}

func TestBulkResultsAreMatchedByWhatTheyAreAbout(t *testing.T) {
	t.Parallel()
	type result = scim.BulkResult
	made := func(id, key string) json.RawMessage {
		return json.RawMessage(fmt.Sprintf(`{"id":%q,"externalId":%q}`, id, key))
	}
	writes := make([]Write, bulkAtLeast)
	for i := range writes {
		writes[i] = Write{Kind: entry.User, Resource: entry.Resource{"externalId": fmt.Sprint("key", i)}}
	}
	writes[7] = Write{Kind: entry.User, ID: "r7", Resource: entry.Resource{"id": "r7"}, Diffs: []change.Diff{{Target: "title", After: "Mate"}}}
	for name, c := range map[string]struct {
		results []result
		ids     []string // of the answers; "?" for not known
	}{
		"another order": {[]result{
			{Method: "POST", BulkID: "1", Status: "201", Response: made("b", "key1")}, {Method: "POST", BulkID: "0", Status: "201", Response: made("a", "key0")},
		}, []string{"a", "b", "?"}},
		"without bulkId, by link key": {[]result{
			{Method: "POST", Status: "201", Response: made("b", "key1")}, {Method: "POST", Status: "201", Response: made("a", "key0")},
		}, []string{"a", "b", "?"}},
		"a bulkId twice is nobody's": {[]result{
			{Method: "POST", BulkID: "0", Status: "201", Response: made("a", "key0")}, {Method: "POST", BulkID: "0", Status: "201", Response: made("b", "key1")},
		}, []string{"?", "?"}},
		"a result about another link key":           {[]result{{Method: "POST", BulkID: "0", Status: "201", Response: made("a", "key9")}}, []string{"?"}},
		"a bulkId that was not sent":                {[]result{{Method: "POST", BulkID: "99", Status: "201", Response: made("a", "key0")}}, []string{"?"}},
		"a change, by location":                     {[]result{{Method: "PATCH", Location: "https://c.example/Users/r7", Status: "200", Response: made("r7", "")}}, []string{"?", "?", "?", "?", "?", "?", "?", "r7"}},
		"a change of somebody else":                 {[]result{{Method: "PATCH", BulkID: "7", Location: "/Users/r8", Status: "200", Response: made("r8", "")}}, []string{"?", "?", "?", "?", "?", "?", "?", "?"}},
		"numbers for states, other letters":         {[]result{{Method: "post", BulkID: "0", Status: "201", Response: json.RawMessage(`{"ID":"a","ExternalID":"key0"}`)}}, []string{"a"}},
		"an id in the location alone is looked for": {[]result{{Method: "POST", BulkID: "0", Location: "/Users/a", Status: "201"}}, []string{"a"}},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			client := cloudOf(t, `{"patch":{"supported":true},"bulk":{"supported":true,"maxOperations":100},"filter":{"supported":true}}`, func(w http.ResponseWriter, r *http.Request) {
				switch {
				case strings.HasSuffix(r.URL.Path, "/Bulk"):
					text, _ := json.Marshal(scim.BulkResponse{Operations: c.results})
					fmt.Fprint(w, strings.ReplaceAll(string(text), `"status":"200"`, `"status":200`))
				case r.Method == http.MethodGet && strings.HasSuffix(r.URL.Path, "/Users/a"):
					fmt.Fprint(w, `{"id":"a","externalId":"key0"}`)
				default:
					w.WriteHeader(http.StatusNotFound)
				}
			})
			answers := client.Write(t.Context(), writes)
			for i, want := range c.ids {
				if want == "?" {
					assert.ErrorIs(t, answers[i].Err, ErrUnknownOutcome, "write %d", i)
				} else if assert.NoError(t, answers[i].Err) {
					assert.Equal(t, want, answers[i].Resource.ID())
				}
			}
		})
	}
}

func TestATokenFollowsNoRedirect(t *testing.T) {
	t.Parallel()
	followed := false
	thief := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { followed = true }))
	t.Cleanup(thief.Close)
	client := cloudOf(t, `{}`, func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, thief.URL+"/Users", http.StatusFound)
	})
	_, err := client.Get(t.Context(), entry.User, "r1")
	assert.ErrorContains(t, err, "redirect")
	assert.False(t, followed)
	for _, address := range []string{"http://127.evil.example/scim", "http://127.0.0.1.evil.example/scim", "http://cloud.example/scim"} {
		_, err := New(address, FixedToken("secret"))
		assert.ErrorContains(t, err, "https", address)
	}
	_, err = New("http://[::1]:1/scim", FixedToken("secret"))
	assert.NoError(t, err)
}

// TestAGroupReadInPartIsNotPut asks the code itself: only what was read with all
// members is put back.
func TestAGroupReadInPartIsNotPut(t *testing.T) {
	t.Parallel()
	put := ""
	client := cloudOf(t, `{}`, func(w http.ResponseWriter, r *http.Request) {
		switch {
		case r.Method == http.MethodPut:
			var body map[string]any
			_ = json.NewDecoder(r.Body).Decode(&body)
			text, _ := json.Marshal(body["members"])
			put = string(text)
			fmt.Fprint(w, `{"id":"g1"}`)
		case r.URL.Query().Get("attributes") == "members":
			fmt.Fprint(w, `{"id":"g1","members":[{"$ref":"../Users/u%201"},{"value":"u2"}]}`)
		default:
			fmt.Fprint(w, `{"id":"g1","displayName":"Crew"}`)
		}
	})
	change := Write{Kind: entry.Group, ID: "g1", Resource: entry.Resource{"id": "g1"}, Diffs: []change.Diff{{Target: "displayName", After: "Deck crew"}}}
	can, err := client.Discover(t.Context())
	require.NoError(t, err)
	assert.True(t, client.Write(t.Context(), []Write{change})[0].Err == nil)
	assert.JSONEq(t, `[{"value":"u 1"},{"value":"u2"}]`, put)
	_, err = client.request(t.Context(), can, change)
	assert.ErrorContains(t, err, "read in part")
}
