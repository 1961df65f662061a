package cloud

import (
	"context"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/change"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/problem"
)

// capable is a service provider's configuration, so that other answers are asked for.
const capable = `{"patch":{"supported":true},"bulk":{"supported":true,"maxOperations":100,"maxPayloadSize":1048576},"filter":{"supported":true,"maxResults":200},"etag":{"supported":true}}`

// answering says the same to every question but that for its configuration.
func answering(t testing.TB, status int, header, answer string) *Client {
	t.Helper()
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/scim+json")
		if strings.HasSuffix(r.URL.Path, "/ServiceProviderConfig") {
			_, _ = w.Write([]byte(capable))
			return
		}
		if name, value, ok := strings.Cut(header, ": "); ok {
			w.Header().Set(name, value)
		}
		w.WriteHeader(status)
		_, _ = w.Write([]byte(answer))
	}))
	t.Cleanup(server.Close)
	c, err := New(server.URL, FixedToken(token))
	require.NoError(t, err)
	return c
}

// ask makes every kind of request once.
func ask(ctx context.Context, c *Client) []error {
	var errs []error
	keep := func(err error) { errs = append(errs, err) }
	_, err := c.Catalogue(ctx)
	keep(err)
	_, err = c.Read(ctx, entry.User, "", nil, func([]entry.Resource) error { return nil })
	keep(err)
	_, err = c.Finder(entry.User).ByLinkKey(ctx, "k")
	keep(err)
	_, err = c.Finder(entry.User).Having(ctx, "userName", `a"b`)
	keep(err)
	_, err = c.Get(ctx, entry.User, "r1")
	keep(err)
	update := Write{Kind: entry.User, ID: "r1", Resource: entry.Resource{"id": "r1"}, Diffs: []change.Diff{{Target: "title", After: "Mate"}}}
	for _, writes := range [][]Write{{update}, {{Kind: entry.User, Resource: entry.Resource{"userName": "a@halvard.example"}}}, {{Kind: entry.User, ID: "r1", Delete: true}}, {update, update, update, update, update, update}} {
		for _, answer := range c.Write(ctx, writes) {
			keep(answer.Err)
		}
	}
	return errs
}

// TestAnswersThatAreNoneAreRefused: what no SCIM service says is an error at
// once, which tells what was asked, and is never taken for an empty cloud.
func TestAnswersThatAreNoneAreRefused(t *testing.T) {
	t.Parallel()
	for name, answer := range map[string]string{
		"a page of a proxy":    "<html>Sign in</html>",
		"another kind of JSON": `[1,2,3]`,
		"a number":             `17`,
		"a resource of texts":  `{"totalResults":1,"itemsPerPage":1,"startIndex":1,"Resources":["r1"]}`,
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			c := answering(t, http.StatusOK, "", answer)
			_, err := c.Read(t.Context(), entry.User, "", nil, func(page []entry.Resource) error {
				assert.Empty(t, page, "nothing of it is kept")
				return nil
			})
			require.Error(t, err)
			assert.NotContains(t, err.Error(), token)
			_, err = c.Catalogue(t.Context())
			assert.Error(t, err)
		})
	}
	_, err := answering(t, http.StatusOK, "", "<html>Sign in</html>").Get(t.Context(), entry.User, "r1")
	assert.Equal(t, problem.CloudRefused, problem.CodeOf(err))
	assert.ErrorContains(t, err, "is not SCIM")
}

// TestAnswersThatBreakOffAreAskedForAgain: half of an answer may be whole the
// next time.
func TestAnswersThatBreakOffAreAskedForAgain(t *testing.T) {
	t.Parallel()
	for name, half := range map[string]string{"half of an answer": `{"id":"r1","userN`, "nothing": ""} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			asked := 0
			server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				w.Header().Set("Content-Type", "application/scim+json")
				answer := `{"id":"r1","userName":"a@halvard.example"}`
				switch {
				case strings.HasSuffix(r.URL.Path, "/ServiceProviderConfig"):
					answer = capable
				case strings.HasSuffix(r.URL.Path, "/ResourceTypes"):
					answer = `{"totalResults":1,"Resources":[{"name":"User","endpoint":"/Users","schema":"urn:ietf:params:scim:schemas:core:2.0:User"}]}`
				case strings.HasSuffix(r.URL.Path, "/Schemas"):
					answer = `{"totalResults":0,"Resources":[]}`
				default:
					if asked++; asked == 1 {
						answer = half
					}
				}
				_, _ = w.Write([]byte(answer))
			}))
			t.Cleanup(server.Close)
			c, err := New(server.URL, FixedToken(token))
			require.NoError(t, err)
			resource, err := c.Get(t.Context(), entry.User, "r1")
			require.NoError(t, err)
			assert.Equal(t, "a@halvard.example", resource.Login())
			assert.Equal(t, 2, asked)
		})
	}
}

func TestRefusalsKeepTheCloudsWords(t *testing.T) {
	t.Parallel()
	ctx := t.Context()
	for _, c := range []struct {
		name   string
		status int
		answer string
		words  string
		code   problem.Code // of a failure that ends the run
	}{
		{"a SCIM error", 400, `{"schemas":["urn:ietf:params:scim:api:messages:2.0:Error"],"scimType":"invalidValue","status":"400","detail":"title is too long"}`, "title is too long", ""},
		{"no words at all", 409, ``, "409", ""},
		{"words of something else", 403, `<h1>no</h1>`, "403", ""},
		{"signed out", 401, `{"detail":"the token has ended"}`, "401", problem.CloudUnauthorized},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			client := answering(t, c.status, "", c.answer)
			answers := client.Write(ctx, []Write{{Kind: entry.User, ID: "r1", Resource: entry.Resource{"id": "r1"}, Diffs: []change.Diff{{Target: "title", After: "Mate"}}}})
			require.Error(t, answers[0].Err)
			assert.Contains(t, answers[0].Err.Error(), c.words)
			assert.Equal(t, c.code, problem.CodeOf(answers[0].Err), answers[0].Err)
		})
	}
}

// FuzzAnswers lets the cloud say anything: nothing panics, and every request
// comes to an end.
func FuzzAnswers(f *testing.F) {
	f.Add(200, "", `{"totalResults":1,"itemsPerPage":1,"startIndex":1,"Resources":[{"id":"r1","userName":"a@halvard.example"}]}`)
	f.Add(200, "", `{"Resources":[{"schema":"x","name":"User","endpoint":"/Users","schemaExtensions":[{"schema":""}]}]}`)
	f.Add(200, "", `{"Operations":[{"method":"POST","bulkId":"9","status":"201"},{"status":{"code":"x"}}]}`)
	f.Add(200, "", `{"totalResults":1000000,"itemsPerPage":0,"Resources":[]}`)
	f.Add(200, "", `{"id":7,"meta":"x","emails":{"value":[]}}`)
	f.Add(201, "Location: ::::", `{}`)
	f.Add(429, "Retry-After: -1", ``)
	f.Add(503, "Retry-After: 0", `{"detail":3}`)
	f.Add(404, "", `{"status":404}`)
	f.Add(304, "ETag: W/", `null`)
	f.Fuzz(func(t *testing.T, status int, header, answer string) {
		if status < 200 || status > 599 || strings.ContainsAny(header, "\r\n") {
			return
		}
		ctx, cancel := context.WithTimeout(t.Context(), 400*time.Millisecond)
		defer cancel()
		c := answering(t, status, header, answer)
		done := make(chan []error, 1)
		go func() { done <- ask(ctx, c) }()
		select {
		case errs := <-done:
			for _, err := range errs {
				if err != nil && strings.Contains(err.Error(), token) {
					t.Errorf("the token is told: %v", err)
				}
			}
		case <-time.After(20 * time.Second):
			t.Fatal("a request does not end with its context")
		}
	})
}
