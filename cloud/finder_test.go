package cloud

import (
	"fmt"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/entry"
)

// TestManyLinkKeysAreAskedForAtOnce has services that answer a filter of many soundly, refuse
// it, heed none, or cut the list short: everybody is found, and where the answer is no good by
// asking for each.
func TestManyLinkKeysAreAskedForAtOnce(t *testing.T) {
	t.Parallel()
	keys := make([]string, 60)
	for i := range keys {
		keys[i] = fmt.Sprintf("key%02d", i)
	}
	made := func(filter string) []string { // those of even numbers
		var found []string
		for i := 0; i < len(keys); i += 2 {
			if strings.Contains(filter, `"`+keys[i]+`"`) {
				found = append(found, fmt.Sprintf(`{"id":"r%d","externalId":%q}`, i, keys[i]))
			}
		}
		return found
	}
	list := func(w http.ResponseWriter, total int, resources []string) {
		fmt.Fprintf(w, `{"totalResults":%d,"startIndex":1,"Resources":[%s]}`, total, strings.Join(resources, ","))
	}
	for name, c := range map[string]struct {
		answer func(w http.ResponseWriter, filter string, many bool)
		asks   int
	}{
		"sound": {func(w http.ResponseWriter, filter string, _ bool) { list(w, len(made(filter)), made(filter)) }, 3},
		"refuses several": {func(w http.ResponseWriter, filter string, many bool) {
			if many {
				w.WriteHeader(http.StatusBadRequest)
				return
			}
			list(w, len(made(filter)), made(filter))
		}, 61},
		"heeds no filter of several": {func(w http.ResponseWriter, filter string, many bool) {
			if many {
				list(w, 1, []string{`{"id":"other","externalId":"other"}`})
				return
			}
			list(w, len(made(filter)), made(filter))
		}, 61},
		"cut short": {func(w http.ResponseWriter, filter string, many bool) {
			if many {
				list(w, len(made(filter)), made(filter)[:1])
				return
			}
			list(w, len(made(filter)), made(filter))
		}, 61},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			asked := 0
			client := cloudOf(t, `{"filter":{"supported":true,"maxResults":100}}`, func(w http.ResponseWriter, r *http.Request) {
				asked++
				filter := r.URL.Query().Get("filter")
				assert.Less(t, len(r.URL.String()), 2000)
				c.answer(w, filter, strings.Contains(filter, " or "))
			})
			finder := client.Finder(entry.User)
			require.NoError(t, finder.LookAhead(t.Context(), keys))
			for i, key := range keys {
				found, err := finder.ByLinkKey(t.Context(), key)
				require.NoError(t, err)
				assert.Equal(t, i%2 == 0, found != nil, key)
			}
			assert.Equal(t, c.asks, asked)
		})
	}
}
