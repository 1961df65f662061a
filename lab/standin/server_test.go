package standin

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/scimfilter"
	"kambrel.example/kambrel/protocol/scim"
)

// cloud is a stand-in on loopback with a client.
type cloud struct {
	t    *testing.T
	base string
}

const token = "test-token"

func start(t *testing.T, dir string) (*cloud, func()) {
	t.Helper()
	server, err := New(Options{Token: token, Domains: []string{"halvard.example"}, Dir: dir})
	require.NoError(t, err)
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	ended := make(chan error, 1)
	go func() { ended <- server.Serve(listener) }()
	stop := func() {
		require.NoError(t, server.Close())
		require.NoError(t, <-ended)
	}
	return &cloud{t, "http://" + listener.Addr().String()}, stop
}

type reply struct {
	status int
	header http.Header
	body   map[string]any
}

func (c *cloud) do(method, path, body string, headers ...string) reply {
	c.t.Helper()
	request, err := http.NewRequest(method, c.base+path, strings.NewReader(body))
	require.NoError(c.t, err)
	request.Header.Set("Authorization", "Bearer "+token)
	for i := 0; i+1 < len(headers); i += 2 {
		request.Header.Set(headers[i], headers[i+1])
	}
	response, err := http.DefaultClient.Do(request)
	require.NoError(c.t, err)
	defer response.Body.Close()
	text, err := io.ReadAll(response.Body)
	require.NoError(c.t, err)
	out := reply{status: response.StatusCode, header: response.Header}
	if len(bytes.TrimSpace(text)) > 0 {
		require.NoError(c.t, json.Unmarshal(text, &out.body), string(text))
	}
	return out
}

func (c *cloud) add(login string, more string) string {
	c.t.Helper()
	r := c.do("POST", "/scim/v2/Users", `{"schemas":["`+scim.UserURN+`"],"userName":"`+login+`"`+more+`}`)
	require.Equal(c.t, 201, r.status, r.body)
	return r.body["id"].(string)
}

func (c *cloud) logins(query string) []string {
	c.t.Helper()
	r := c.do("GET", "/scim/v2/Users?"+query, "")
	require.Equal(c.t, 200, r.status, r.body)
	var out []string
	list, _ := r.body["Resources"].([]any)
	for _, item := range list {
		out = append(out, strings.TrimSuffix(item.(map[string]any)["userName"].(string), "@halvard.example"))
	}
	return out
}

func TestCreateAndRead(t *testing.T) {
	c, stop := start(t, "")
	defer stop()
	r := c.do("POST", "/scim/v2/Users", `{"schemas":["`+scim.UserURN+`"],"USERNAME":"Ada@halvard.example","externalId":"k1","name":{"givenName":"Ada"},
	  "emails":[{"value":"ada@halvard.example","type":"work","primary":true}],"id":"mine","`+scim.EnterpriseURN+`":{"department":"Deck"}}`)
	require.Equal(t, 201, r.status, r.body)
	id := r.body["id"].(string)
	assert.NotEqual(t, "mine", id, "the service gives ids (RFC 7643 section 3.1)")
	assert.Equal(t, true, r.body["active"])
	assert.Equal(t, r.header.Get("ETag"), r.body["meta"].(map[string]any)["version"])
	assert.Contains(t, r.header.Get("Location"), "/Users/"+id)
	assert.Equal(t, scim.MediaType, r.header.Get("Content-Type"))
	assert.ElementsMatch(t, []any{scim.UserURN, scim.EnterpriseURN}, r.body["schemas"])
	again := c.do("GET", "/scim/v2/Users/"+id, "")
	assert.Equal(t, r.body, again.body)
	assert.Equal(t, 304, c.do("GET", "/scim/v2/Users/"+id, "", "If-None-Match", r.header.Get("ETag")).status)
	assert.Equal(t, 404, c.do("GET", "/scim/v2/Users/none", "").status)
	assert.Equal(t, 204, c.do("DELETE", "/scim/v2/Users/"+id, "").status)
	assert.Equal(t, 404, c.do("GET", "/scim/v2/Users/"+id, "").status)
	c.add("ada@halvard.example", "") // the login is free again
}

func TestRefusalsBearTheirSCIMType(t *testing.T) {
	c, stop := start(t, "")
	defer stop()
	c.add("ada@halvard.example", `,"externalId":"k1","emails":[{"value":"ada@halvard.example"}]`)
	for name, refusal := range map[string]struct {
		body     string
		status   int
		scimType string
		detail   string
	}{
		"login taken, whatever its case": {`{"userName":"ADA@halvard.example"}`, 409, "uniqueness", "userName"},
		"address taken":                  {`{"userName":"b@halvard.example","emails":[{"value":"Ada@halvard.example"}]}`, 409, "uniqueness", "emails"},
		"link key taken":                 {`{"userName":"b@halvard.example","externalId":"k1"}`, 409, "uniqueness", "externalId"},
		"domain not verified":            {`{"userName":"b@corp.halvard.example"}`, 400, "invalidValue", "corp.halvard.example is not verified"},
		"login without a domain":         {`{"userName":"b"}`, 400, "invalidValue", "no login"},
		"login with a blank":             {`{"userName":"b c@halvard.example"}`, 400, "invalidValue", "no login"},
		"no login":                       {`{"displayName":"b"}`, 400, "invalidValue", "userName is required"},
		"malformed address":              {`{"userName":"b@halvard.example","emails":[{"value":"b"}]}`, 400, "invalidValue", "no address"},
		"two primary addresses":          {`{"userName":"b@halvard.example","emails":[{"value":"b@x.example","primary":true},{"value":"c@x.example","primary":true}]}`, 400, "invalidValue", "primary"},
		"unknown attribute":              {`{"userName":"b@halvard.example","shoeSize":"43"}`, 400, "invalidSyntax", "shoeSize"},
		"wrong type":                     {`{"userName":"b@halvard.example","active":"yes"}`, 400, "invalidValue", "active"},
		"too long":                       {`{"userName":"b@halvard.example","title":"` + strings.Repeat("x", 257) + `"}`, 400, "invalidValue", "title"},
		"no JSON":                        {`{`, 400, "invalidSyntax", "JSON"},
	} {
		r := c.do("POST", "/scim/v2/Users", refusal.body)
		assert.Equal(t, refusal.status, r.status, name)
		assert.Equal(t, refusal.scimType, r.body["scimType"], name)
		assert.Contains(t, r.body["detail"], refusal.detail, name)
		assert.Equal(t, []any{scim.ErrorURN}, r.body["schemas"], name)
		assert.Equal(t, fmt.Sprint(refusal.status), r.body["status"], name)
	}
	assert.Equal(t, []string{"ada"}, c.logins(""))
	assert.Equal(t, 404, c.do("GET", "/scim/v2/Ships", "").status)
	request, err := http.NewRequest("GET", c.base+"/scim/v2/Users", nil)
	require.NoError(t, err)
	response, err := http.DefaultClient.Do(request)
	require.NoError(t, err)
	defer response.Body.Close()
	assert.Equal(t, 401, response.StatusCode)
}

func TestPatch(t *testing.T) {
	c, stop := start(t, "")
	defer stop()
	id := c.add("ada@halvard.example", `,"title":"Mate","nickName":"A","emails":[{"value":"a@x.example","type":"home"}]`)
	patch := func(operations string, headers ...string) reply {
		return c.do("PATCH", "/scim/v2/Users/"+id, `{"schemas":["`+scim.PatchOpURN+`"],"Operations":[`+operations+`]}`, headers...)
	}
	r := patch(`{"op":"replace","path":"title","value":"Master"},{"op":"remove","path":"nickName"},{"op":"Add","path":"name.givenName","value":"Ada"},
	  {"op":"add","path":"emails","value":[{"type":"work","value":"a@halvard.example"}]},{"op":"add","path":"` + scim.EnterpriseURN + `:department","value":"Deck"}`)
	require.Equal(t, 200, r.status, r.body)
	assert.Equal(t, "Master", r.body["title"])
	assert.NotContains(t, r.body, "nickName")
	assert.Len(t, r.body["emails"], 2)
	assert.Equal(t, map[string]any{"department": "Deck"}, r.body[scim.EnterpriseURN])
	r = patch(`{"op":"replace","path":"emails[type eq \"work\"].value","value":"b@halvard.example"},{"op":"remove","path":"emails[type eq \"home\"]"},{"op":"replace","value":{"active":false}}`)
	require.Equal(t, 200, r.status, r.body)
	assert.Equal(t, []any{map[string]any{"type": "work", "value": "b@halvard.example"}}, r.body["emails"])
	assert.Equal(t, false, r.body["active"])
	before := r.header.Get("ETag")
	for name, refusal := range map[string][3]string{
		"no such element":       {`{"op":"replace","path":"emails[type eq \"fax\"].value","value":"x@y.example"}`, "400", "noTarget"},
		"no such attribute":     {`{"op":"replace","path":"shoeSize","value":"1"}`, "400", "invalidPath"},
		"broken filter":         {`{"op":"remove","path":"emails[type eq]"}`, "400", "invalidFilter"},
		"required attribute":    {`{"op":"remove","path":"userName"}`, "400", "mutability"},
		"unknown operation":     {`{"op":"increase","path":"title","value":"x"}`, "400", "invalidSyntax"},
		"half good is not done": {`{"op":"replace","path":"title","value":"Cook"},{"op":"replace","path":"userName","value":"x@other.example"}`, "400", "invalidValue"},
	} {
		r := patch(refusal[0])
		assert.Equal(t, refusal[1], fmt.Sprint(r.status), name)
		assert.Equal(t, refusal[2], r.body["scimType"], name)
	}
	r = c.do("GET", "/scim/v2/Users/"+id, "")
	assert.Equal(t, before, r.header.Get("ETag"), "a refused PATCH changes nothing")
	assert.Equal(t, "Master", r.body["title"])
	assert.Equal(t, 412, patch(`{"op":"remove","path":"title"}`, "If-Match", `W/"1"`).status)
	assert.Equal(t, 200, patch(`{"op":"remove","path":"title"}`, "If-Match", before).status)
}

func TestListFiltersSortsAndPages(t *testing.T) {
	c, stop := start(t, "")
	defer stop()
	c.add("ada@halvard.example", `,"title":"Mate","emails":[{"type":"work","value":"ada@x.example"}]`)
	jon := c.add("jon@halvard.example", `,"title":"Cook","active":false,"externalId":"k-jon"`)
	c.add("mira@halvard.example", `,"`+scim.EnterpriseURN+`":{"department":"Crewing"}`)
	middle := c.do("GET", "/scim/v2/Users/"+jon, "").body["meta"].(map[string]any)["lastModified"].(string)
	for filter, want := range map[string][]string{
		`userName eq "ADA@halvard.example"`:                        {"ada"},
		`userName sw "j" or title pr`:                              {"ada", "jon"},
		`title ne "Mate"`:                                          {"jon", "mira"},
		`active eq false`:                                          {"jon"},
		`not (active eq true)`:                                     {"jon"},
		`emails[type eq "work" and value co "x.example"]`:          {"ada"},
		`emails.value ew "x.example"`:                              {"ada"},
		scim.EnterpriseURN + `:department eq "crewing"`:            {"mira"},
		`externalId eq "k-jon"`:                                    {"jon"},
		`externalId pr`:                                            {"jon"},
		`meta.lastModified ge "` + middle + `"`:                    {"jon", "mira"},
		`meta.lastModified gt "` + middle + `"`:                    {"mira"},
		`meta.lastModified ge "` + middle + `" and active eq true`: {"mira"},
		`title eq "x" and (userName pr or active eq true)`:         nil,
	} {
		assert.ElementsMatch(t, want, c.logins("filter="+url.QueryEscape(filter)), filter)
	}
	for _, bad := range []string{`userName`, `userName eq`, `userName xx "a"`, `(userName pr`, `userName eq "a" and`, `not userName pr`, `userName eq {}`} {
		r := c.do("GET", "/scim/v2/Users?filter="+url.QueryEscape(bad), "")
		assert.Equal(t, 400, r.status, bad)
		assert.Equal(t, "invalidFilter", r.body["scimType"], bad)
	}
	assert.Equal(t, []string{"jon"}, c.logins("startIndex=2&count=1"))
	r := c.do("GET", "/scim/v2/Users?count=0", "")
	assert.Equal(t, 3.0, r.body["totalResults"])
	assert.NotContains(t, r.body, "Resources")
	c.do("PATCH", "/scim/v2/Users/"+jon, `{"schemas":["`+scim.PatchOpURN+`"],"Operations":[{"op":"remove","path":"title"}]}`)
	assert.Equal(t, []string{"ada", "mira", "jon"}, c.logins("sortBy=meta.lastModified"))
	assert.Equal(t, []string{"ada", "jon", "mira"}, c.logins(""))
	r = c.do("GET", "/scim/v2/Users?attributes=title&count=1", "")
	assert.NotContains(t, r.body["Resources"].([]any)[0], "userName")
}

func TestBulk(t *testing.T) {
	c, stop := start(t, "")
	defer stop()
	r := c.do("POST", "/scim/v2/Bulk", `{"schemas":["`+scim.BulkRequestURN+`"],"Operations":[
	  {"method":"POST","path":"/Users","bulkId":"a","data":{"userName":"ada@halvard.example"}},
	  {"method":"POST","path":"/Users","bulkId":"b","data":{"userName":"ada@halvard.example"}},
	  {"method":"PATCH","path":"/Users/bulkId:a","data":{"schemas":["`+scim.PatchOpURN+`"],"Operations":[{"op":"add","path":"title","value":"Mate"}]}}]}`)
	require.Equal(t, 200, r.status, r.body)
	var statuses []any
	for _, operation := range r.body["Operations"].([]any) {
		statuses = append(statuses, operation.(map[string]any)["status"])
	}
	assert.Equal(t, []any{"201", "409", "200"}, statuses)
	assert.Equal(t, []string{"ada"}, c.logins(url.PathEscape("filter=")+"&filter="+url.QueryEscape(`title eq "mate"`)))
	many := strings.Repeat(`{"method":"DELETE","path":"/Users/x"},`, 1001)
	r = c.do("POST", "/scim/v2/Bulk", `{"schemas":["x"],"Operations":[`+strings.TrimSuffix(many, ",")+`]}`)
	assert.Equal(t, 413, r.status)
	assert.Equal(t, "tooMany", r.body["scimType"])
}

func TestDiscoveryShowsExtensions(t *testing.T) {
	c, stop := start(t, "")
	defer stop()
	assert.Equal(t, true, c.do("GET", "/scim/v2/ServiceProviderConfig", "").body["bulk"].(map[string]any)["supported"])
	assert.Equal(t, 6.0, c.do("GET", "/scim/v2/ResourceTypes", "").body["totalResults"])
	assert.Equal(t, "Account", c.do("GET", "/scim/v2/Schemas/"+AccountURN, "").body["name"])
	assert.Equal(t, 404, c.do("GET", "/scim/v2/Schemas/none", "").status)
	id := c.add("ada@halvard.example", `,"`+AccountURN+`":{"homePort":"Northquay","badges":["1","2"]}`)
	assert.Equal(t, map[string]any{"homePort": "Northquay", "badges": []any{"1", "2"}}, c.do("GET", "/scim/v2/Users/"+id, "").body[AccountURN])
}

func TestTheJournalBringsEverythingBack(t *testing.T) {
	dir := t.TempDir()
	c, stop := start(t, dir)
	ada := c.add("ada@halvard.example", "")
	jon := c.add("jon@halvard.example", "")
	c.do("PATCH", "/scim/v2/Users/"+ada, `{"schemas":["`+scim.PatchOpURN+`"],"Operations":[{"op":"add","path":"title","value":"Mate"}]}`)
	c.do("DELETE", "/scim/v2/Users/"+jon, "")
	before := c.do("GET", "/scim/v2/Users/"+ada, "").body
	stop()
	c, stop = start(t, dir)
	defer stop()
	assert.Equal(t, before, c.do("GET", "/scim/v2/Users/"+ada, "").body)
	assert.Equal(t, []string{"ada"}, c.logins(""))
	assert.Equal(t, 409, c.do("POST", "/scim/v2/Users", `{"userName":"ada@halvard.example"}`).status)
}

func TestFaultsAreSwitchedByARequest(t *testing.T) {
	c, stop := start(t, "")
	defer stop()
	require.Equal(t, 200, c.do("POST", "/standin/faults", `{"rate":1,"kinds":["throttle"]}`).status)
	r := c.do("GET", "/scim/v2/Users", "")
	assert.Equal(t, 429, r.status)
	assert.Equal(t, "1", r.header.Get("Retry-After"))
	require.Equal(t, 200, c.do("POST", "/standin/faults", `{"rate":1,"kinds":["lost"]}`).status)
	request, err := http.NewRequest("POST", c.base+"/scim/v2/Users", strings.NewReader(`{"userName":"ada@halvard.example"}`))
	require.NoError(t, err)
	request.Header.Set("Authorization", "Bearer "+token)
	_, err = http.DefaultClient.Do(request)
	require.Error(t, err, "the answer is lost")
	require.Equal(t, 200, c.do("POST", "/standin/faults", `{}`).status)
	assert.Equal(t, []string{"ada"}, c.logins(""), "but the work is done")
	assert.Equal(t, 400, c.do("POST", "/standin/faults", `{"rate":1,"kinds":["fire"]}`).status)
}

func FuzzParseFilter(f *testing.F) {
	f.Add(`emails[type eq "work"] and not (a.b ge 1 or c pr)`)
	f.Fuzz(func(t *testing.T, text string) {
		if e, err := scimfilter.Parse(text); err == nil {
			e.Matches(map[string]any{"emails": []any{map[string]any{"type": "work"}}, "a": "b"})
		}
	})
}

func TestGroupsHoldWhatExistsAndLoseWhatIsDeleted(t *testing.T) {
	dir := t.TempDir()
	c, stop := start(t, dir)
	ada, jon := c.add("ada@halvard.example", ""), c.add("jon@halvard.example", "")
	r := c.do("POST", "/scim/v2/Contacts", `{"displayName":"Pilot","emails":[{"value":"pilot@harbour.example","type":"work"}]}`)
	require.Equal(t, 201, r.status, r.body)
	pilot := r.body["id"].(string)
	group := c.do("POST", "/scim/v2/Groups", `{"displayName":"Crew","members":[{"value":"`+ada+`"}]}`)
	require.Equal(t, 201, group.status, group.body)
	id := group.body["id"].(string)
	patch := func(operations string) reply {
		return c.do("PATCH", "/scim/v2/Groups/"+id, `{"schemas":["`+scim.PatchOpURN+`"],"Operations":[`+operations+`]}`)
	}
	members := func() []any {
		var ids []any
		list, _ := c.do("GET", "/scim/v2/Groups/"+id, "").body["members"].([]any)
		for _, m := range list {
			ids = append(ids, m.(map[string]any)["value"])
		}
		return ids
	}
	assert.Equal(t, 200, patch(`{"op":"add","path":"members","value":[{"value":"`+jon+`"},{"value":"`+pilot+`"},{"value":"`+ada+`"}]}`).status)
	assert.Equal(t, []any{ada, jon, pilot}, members(), "who is a member already is not added twice")
	assert.Equal(t, 400, patch(`{"op":"add","path":"members","value":[{"value":"nobody"}]}`).status)
	assert.Equal(t, 400, patch(`{"op":"add","path":"members","value":[{"value":"`+id+`"}]}`).status)
	assert.Equal(t, 200, patch(`{"op":"remove","path":"members[value eq \"`+ada+`\"]"},{"op":"replace","path":"displayName","value":"Deck crew"}`).status)
	assert.Equal(t, 204, c.do("DELETE", "/scim/v2/Users/"+jon, "").status)
	assert.Equal(t, []any{pilot}, members())
	assert.NotContains(t, c.do("GET", "/scim/v2/Groups/"+id+"?excludedAttributes=members", "").body, "members")
	stop()
	c, stop = start(t, dir)
	defer stop()
	assert.Equal(t, []any{pilot}, members(), "the journal holds members")
	assert.Equal(t, "Contact", c.do("GET", "/scim/v2/Groups/"+id, "").body["members"].([]any)[0].(map[string]any)["type"])
	assert.Equal(t, 1.0, c.do("GET", "/scim/v2/Groups?filter="+url.QueryEscape(`members.value eq "`+pilot+`"`), "").body["totalResults"])
}

func TestContactsNeedAnAddressThatNobodyHas(t *testing.T) {
	c, stop := start(t, "")
	defer stop()
	c.add("ada@halvard.example", `,"emails":[{"value":"ada@halvard.example","type":"work"}]`)
	add := func(emails string) reply {
		return c.do("POST", "/scim/v2/Contacts", `{"displayName":"Pilot"`+emails+`}`)
	}
	assert.Equal(t, 400, add("").status)
	r := add(`,"emails":[{"value":"ADA@halvard.example","type":"work"}]`)
	assert.Equal(t, 409, r.status)
	assert.Equal(t, "uniqueness", r.body["scimType"])
}
