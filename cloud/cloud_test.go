package cloud

import (
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/change"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/lab/standin"
	"kambrel.example/kambrel/protocol/scim"
)

const token = "cloud-token"

// startCloud runs the stand-in in this process and returns its base URL.
func startCloud(t *testing.T, options ...standin.Options) string {
	t.Helper()
	o := standin.Options{Token: token}
	if len(options) > 0 {
		o = options[0]
		if o.TokenFile == "" {
			o.Token = token
		}
	}
	o.Domains = []string{"halvard.example"}
	server, err := standin.New(o)
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

// counting stands before a cloud and counts requests by path.
type counting struct {
	*httptest.Server
	requests map[string]int
}

func startCounting(t *testing.T, base string) *counting {
	t.Helper()
	target, err := url.Parse(base)
	require.NoError(t, err)
	l := &counting{requests: map[string]int{}}
	proxy := httputil.NewSingleHostReverseProxy(target)
	l.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		l.requests[r.Method+" "+strings.TrimPrefix(r.URL.Path, "/scim/v2")]++
		proxy.ServeHTTP(w, r)
	}))
	t.Cleanup(l.Close)
	return l
}

func newClient(t *testing.T, base string) *Client {
	t.Helper()
	c, err := New(base+"/scim/v2", FixedToken(token))
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
	return Write{Kind: entry.User, Resource: entry.Resource{"userName": fmt.Sprintf("crew%d@halvard.example", n), "externalId": fmt.Sprintf("key-%d", n), scim.EnterpriseURN: map[string]any{"department": "Deck"}}}
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
	return Write{Kind: entry.User, ID: r.ID(), Version: version, Resource: r, Diffs: []change.Diff{{Target: "title", After: title}}}
}

func readAll(t *testing.T, c *Client, watermark string) (map[string]entry.Resource, Reading) {
	t.Helper()
	found := map[string]entry.Resource{}
	reading, err := c.Read(t.Context(), entry.User, watermark, nil, func(page []entry.Resource) error {
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
	for name, options := range map[string]standin.Options{
		"with everything":          {},
		"without bulk":             {Without: []string{"bulk"}},
		"without etag":             {Without: []string{"etag"}},
		"without sort":             {Without: []string{"sort"}},
		"without filter":           {Without: []string{"filter"}},
		"with PUT only":            {Without: []string{"patch"}},
		"with PUT, no etag":        {Without: []string{"patch", "etag"}},
		"with small pages":         {PageSize: 7},
		"with cursors only":        {Paging: "cursor", PageSize: 7},
		"with cursors and indexes": {Paging: "both"},
		"with hardly anything":     {Without: []string{"bulk", "etag", "sort", "filter", "patch", "domains"}, PageSize: 4, Paging: "cursor"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			c := newClient(t, startCloud(t, options))
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

			key, err := c.Finder(entry.User).ByLinkKey(t.Context(), "key-5")
			require.NoError(t, err)
			assert.Equal(t, first[5].ID(), key.ID())
			none, err := c.Finder(entry.User).ByLinkKey(t.Context(), "key-none")
			require.NoError(t, err)
			assert.Nil(t, none)
			none, err = c.Get(t.Context(), entry.User, "no-such-id")
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
			{Kind: entry.User, Resource: entry.Resource{"userName": "x@other.example"}},
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
	l := startCounting(t, base)
	c := newClient(t, l.URL)
	_, err := c.Discover(t.Context())
	require.NoError(t, err)
	_, err = c.Catalogue(t.Context())
	require.NoError(t, err)
	for _, writes := range [][]Write{{newUser(1)}, newUsers(10, 12)} {
		faults(t, base, `{"rate":1,"kinds":["lost"]}`)
		answers := c.Write(t.Context(), writes)
		faults(t, base, `{}`)
		for i, answer := range answers {
			require.ErrorIs(t, answer.Err, ErrUnknownOutcome)
			found, err := c.Finder(entry.User).ByLinkKey(t.Context(), writes[i].Resource.ExternalID())
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
	wrong, err := New(base+"/scim/v2", FixedToken("wrong"))
	require.NoError(t, err)
	_, err = wrong.Discover(t.Context())
	assert.Equal(t, problem.CloudUnauthorized, problem.CodeOf(err))
	assert.NotContains(t, err.Error(), "wrong", "the token is not told")
	for _, address := range []string{"", "cloud", "ftp://127.0.0.1", "http://cloud.halvard.example/scim"} {
		_, err := New(address, FixedToken(token))
		assert.Equal(t, problem.BadInput, problem.CodeOf(err), address)
	}
	_, err = New(base, FixedToken(""))
	assert.Equal(t, problem.BadInput, problem.CodeOf(err))
}

func TestAPutKeepsWhatOthersHaveChanged(t *testing.T) {
	t.Parallel()
	c := newClient(t, startCloud(t, standin.Options{Without: []string{"patch", "etag"}}))
	made(t, c.Write(t.Context(), []Write{newUser(1)}))
	read, _ := readAll(t, c, "")
	stale, err := read["crew1@halvard.example"].Clone()
	require.NoError(t, err)
	other := Write{Kind: entry.User, ID: stale.ID(), Resource: stale, Diffs: []change.Diff{{Target: "nickName", After: "Skipper"}}}
	made(t, c.Write(t.Context(), []Write{other}))
	changed := made(t, c.Write(t.Context(), []Write{titled(stale, "Mate", "")}))
	assert.Equal(t, "Skipper", changed[0]["nickName"])
	assert.Equal(t, "Mate", changed[0]["title"])
}

func TestATokenIsReplacedWithoutAPause(t *testing.T) {
	t.Parallel()
	accepted, used := filepath.Join(t.TempDir(), "accepted"), filepath.Join(t.TempDir(), "used")
	write := func(file, text string, at time.Time) {
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
		require.NoError(t, os.Chtimes(file, at, at))
	}
	now := time.Now()
	write(accepted, "old-token\n", now)
	write(used, "old-token\n", now)
	base := startCloud(t, standin.Options{TokenFile: accepted})
	c, err := New(base+"/scim/v2", TokenFile(used))
	require.NoError(t, err)
	made(t, c.Write(t.Context(), []Write{newUser(1)}))
	write(accepted, "old-token\nnew-token\n", now.Add(time.Second))
	write(used, "new-token\n", now.Add(time.Second))
	made(t, c.Write(t.Context(), []Write{newUser(2)}))
	write(accepted, "new-token\n", now.Add(2*time.Second))
	made(t, c.Write(t.Context(), []Write{newUser(3)}))
	write(used, "wrong-token\n", now.Add(2*time.Second))
	c.Forget()
	_, err = c.Discover(t.Context())
	assert.Equal(t, problem.CloudUnauthorized, problem.CodeOf(err))
	assert.NotContains(t, fmt.Sprint(err, FixedToken("wrong-token")), "wrong-token")
}

func TestTheCatalogueHoldsWhatRulesCanSet(t *testing.T) {
	t.Parallel()
	c := newClient(t, startCloud(t))
	catalogue, err := c.Catalogue(t.Context())
	require.NoError(t, err)
	assert.Equal(t, []string{"halvard.example"}, catalogue.Domains)
	targets := map[string]Target{}
	for _, target := range catalogue.Targets {
		targets[target.Path] = target
		_, err := entry.ParsePath(target.Path)
		assert.NoError(t, err, target.Path)
	}
	assert.True(t, targets["userName"].Required && targets["userName"].Unique)
	assert.Equal(t, "boolean", targets["active"].Type)
	assert.True(t, targets[`emails[type eq "work"].value`].Unique)
	assert.Contains(t, targets, scim.EnterpriseURN+":department")
	assert.Contains(t, targets, standin.AccountURN+":homePort")
	without, err := newClient(t, startCloud(t, standin.Options{Without: []string{"domains"}})).Catalogue(t.Context())
	require.NoError(t, err)
	assert.Nil(t, without.Domains)
}

func TestProbeSaysWhichStepFails(t *testing.T) {
	t.Parallel()
	base := startCloud(t)
	last := func(url, token string) Step {
		c, err := New(url, FixedToken(token))
		require.NoError(t, err)
		steps := c.Probe(t.Context())
		return steps[len(steps)-1]
	}
	assert.Equal(t, Step{"read", "good", "0 users can be read", ""}, last(base+"/scim/v2", token))
	for want, step := range map[string]Step{
		"token": last(base+"/scim/v2", "wrong"), "connect": last("http://127.0.0.1:1/scim", token), "discovery": last(base+"/elsewhere", token),
	} {
		assert.Equal(t, want, step.Name)
		assert.Equal(t, "bad", step.Outcome)
		assert.NotEmpty(t, step.Advice)
	}
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

func TestMembersArePatchedOrPutAndKeptApart(t *testing.T) {
	t.Parallel()
	for name, options := range map[string]standin.Options{"patch": {}, "put only": {Without: []string{"patch"}}, "put without etag": {Without: []string{"patch", "etag"}}} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			c := newClient(t, startCloud(t, options))
			ctx := t.Context()
			var ids []string
			for i := range 3 {
				ids = append(ids, c.Write(ctx, []Write{{Kind: entry.User, Resource: entry.Resource{"userName": fmt.Sprintf("u%d@halvard.example", i)}}})[0].Resource.ID())
			}
			group := c.Write(ctx, []Write{{Kind: entry.Group, Resource: entry.Resource{"displayName": "Crew", "externalId": "g"}}})[0]
			require.NoError(t, group.Err)
			changed := func(diff change.Diff) entry.Resource {
				answer := c.Write(ctx, []Write{{Kind: entry.Group, ID: group.Resource.ID(), Resource: group.Resource, Diffs: []change.Diff{diff}}})[0]
				require.NoError(t, answer.Err)
				assert.NotContains(t, answer.Resource, "members")
				return answer.Resource
			}
			members := func() []string {
				got, found, err := c.Members(ctx, group.Resource.ID())
				require.NoError(t, err)
				require.True(t, found)
				return got
			}
			changed(change.Diff{Target: "members", Added: []change.Member{{Value: ids[0], Type: "User"}, {Value: ids[1], Type: "User"}}})
			assert.ElementsMatch(t, ids[:2], members())
			changed(change.Diff{Target: "members", Added: []change.Member{{Value: ids[2], Type: "User"}}, Removed: []change.Member{{Value: ids[0]}}})
			assert.ElementsMatch(t, ids[1:], members())
			renamed := changed(change.Diff{Target: "displayName", Before: "Crew", After: "Deck crew"})
			assert.Equal(t, "Deck crew", renamed["displayName"])
			assert.ElementsMatch(t, ids[1:], members(), "a change of the name keeps the members")
			deleted := c.Write(ctx, []Write{{Kind: entry.Group, ID: group.Resource.ID(), Delete: true, Resource: group.Resource}})[0]
			require.NoError(t, deleted.Err)
			_, found, err := c.Members(ctx, group.Resource.ID())
			require.NoError(t, err)
			assert.False(t, found)
		})
	}
}

func TestKindsThatACloudLacksAreTold(t *testing.T) {
	t.Parallel()
	c := newClient(t, startCloud(t, standin.Options{Without: []string{"contacts"}}))
	_, ok, err := c.Type(t.Context(), entry.Contact)
	require.NoError(t, err)
	assert.False(t, ok)
	catalogue, err := c.Catalogue(t.Context())
	require.NoError(t, err)
	assert.Equal(t, []string{"User", "Group"}, catalogue.Members)
	_, err = c.Read(t.Context(), entry.Contact, "", nil, func([]entry.Resource) error { return nil })
	assert.ErrorContains(t, err, "no resource type for a contact")
}

func TestElementsAreOfferedByTheTypesThatTheCloudNames(t *testing.T) {
	t.Parallel()
	catalogue, err := newClient(t, startCloud(t, standin.Options{})).Catalogue(t.Context())
	require.NoError(t, err)
	offered := func(kind entry.Kind) map[string]Target {
		targets := map[string]Target{}
		for _, target := range catalogue.Of(kind) {
			targets[target.Path] = target
		}
		return targets
	}
	people, groups := offered(entry.User), offered(entry.Group)
	for _, path := range []string{
		`phoneNumbers[type eq "mobile"].value`, `phoneNumbers[type eq "fax"].value`, // as the schema names them
		`emails[type eq "work"].value`, `emails[type eq "other"].value`, `addresses[type eq "home"].locality`, // the usual ones
		"roles", "entitlements", "emails", // as a whole
		"urn:ietf:params:scim:schemas:extension:enterprise:2.0:User:manager.value",
	} {
		assert.Contains(t, people, path)
	}
	assert.NotContains(t, people, `emails[type eq "mobile"].value`)
	assert.NotContains(t, people, `emails[type eq "work"].primary`, "Kambrel decides no preference among elements")
	assert.True(t, people[`emails[type eq "work"].value`].Unique, "an element of a unique list is unique")
	assert.Contains(t, groups, "members")
	for path := range groups {
		assert.NotContains(t, path, "members[", "members come as a whole: their type tells what they are")
	}
}
