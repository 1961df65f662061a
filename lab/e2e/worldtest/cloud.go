package worldtest

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/protocol/scim"
)

// SCIM makes a request to the cloud as anybody with its token could.
func SCIM(t *testing.T, c CloudAddress, method, path string, body any) (int, map[string]any) {
	t.Helper()
	status, answer, err := TrySCIM(t.Context(), c, method, path, body)
	require.NoError(t, err)
	return status, answer
}

// TrySCIM is the same of a cloud that may be away.
func TrySCIM(ctx context.Context, c CloudAddress, method, path string, body any) (status int, answer map[string]any, err error) {
	var reader io.Reader
	if body != nil {
		text, err := json.Marshal(body)
		if err != nil {
			return 0, nil, err
		}
		reader = bytes.NewReader(text)
	}
	request, err := http.NewRequestWithContext(ctx, method, path, reader)
	if err != nil {
		return 0, nil, err
	}
	request.Header.Set("Authorization", "Bearer "+c.Token)
	request.Header.Set("Content-Type", "application/scim+json")
	response, err := http.DefaultClient.Do(request)
	if err != nil {
		return 0, nil, err
	}
	defer response.Body.Close()
	text, err := io.ReadAll(response.Body)
	if err == nil && len(text) > 0 {
		if err = json.Unmarshal(text, &answer); err != nil {
			err = fmt.Errorf("%w: %s", err, text)
		}
	}
	return response.StatusCode, answer, err
}

// CloudFaults lets the stand-in go wrong on purpose, and right again with none.
func (w *World) CloudFaults(faults map[string]any) {
	w.T.Helper()
	if faults == nil {
		faults = map[string]any{}
	}
	status, answer := SCIM(w.T, w.Address(), "POST", w.Cloud.Control+"/faults", faults)
	require.Equal(w.T, http.StatusOK, status, answer)
}

// PatchRequest is the body of a PATCH (RFC 7644 section 3.5.2).
func PatchRequest(operations ...any) map[string]any {
	return map[string]any{"schemas": []string{scim.PatchOpURN}, "Operations": operations}
}

// Patch changes a resource in the cloud, such as "Groups/7", as somebody does by hand.
func Patch(t *testing.T, c CloudAddress, resource string, operations ...any) {
	t.Helper()
	status, answer := SCIM(t, c, "PATCH", c.URL+"/"+resource, PatchRequest(operations...))
	require.Less(t, status, 300, answer)
}

// Operation is one of those.
func Operation(op, path string, value any) map[string]any {
	operation := map[string]any{"op": op, "path": path}
	if value != nil {
		operation["value"] = value
	}
	return operation
}

type CloudAddress struct{ URL, control, Token string }

func (w *World) Address() CloudAddress {
	return CloudAddress{w.Cloud.URL, w.Cloud.Control, w.Cloud.Token}
}

// Users lists users of the cloud that a filter keeps.
func Users(t *testing.T, c CloudAddress, filter string) []map[string]any {
	t.Helper()
	var out []map[string]any
	for start := 1; ; {
		query := url.Values{"startIndex": {fmt.Sprint(start)}}
		if filter != "" {
			query.Set("filter", filter)
		}
		status, page := SCIM(t, c, "GET", c.URL+"/Users?"+query.Encode(), nil)
		require.Equal(t, 200, status, page)
		list, _ := page["Resources"].([]any)
		for _, item := range list {
			out = append(out, item.(map[string]any))
		}
		start += len(list)
		if len(list) == 0 || start > int(page["totalResults"].(float64)) {
			return out
		}
	}
}

func User(t *testing.T, c CloudAddress, login string) map[string]any {
	t.Helper()
	found := Users(t, c, fmt.Sprintf("userName eq %q", login))
	if len(found) == 0 {
		return nil
	}
	return found[0]
}

func (w *World) User(login string) map[string]any {
	w.T.Helper()
	return User(w.T, w.Address(), login)
}

// ByHand sets an attribute of a user in the cloud as somebody does there.
func (w *World) ByHand(login, attribute string, value any) {
	w.T.Helper()
	Patch(w.T, w.Address(), fmt.Sprint("Users/", w.User(login)["id"]), Operation("replace", attribute, value))
}

// Arrives waits until a user has a title, and tells how long that took.
func (w *World) Arrives(login, title string) time.Duration {
	w.T.Helper()
	began := time.Now()
	require.Eventually(w.T, func() bool {
		user := w.User(login)
		return user != nil && user["title"] == title
	}, 30*time.Second, 10*time.Millisecond, "%s becomes %s", login, title)
	return time.Since(began)
}

// Resources lists what the cloud has of one type.
func Resources(t *testing.T, c CloudAddress, endpoint string) map[string]map[string]any {
	t.Helper()
	status, page := SCIM(t, c, "GET", c.URL+"/"+endpoint+"?count=1000", nil)
	require.Equal(t, 200, status, page)
	out := map[string]map[string]any{}
	list, _ := page["Resources"].([]any)
	for _, item := range list {
		resource := item.(map[string]any)
		out[fmt.Sprint(resource["displayName"])] = resource
	}
	return out
}

// Members names the members of a group in the cloud by login or display name.
func Members(t *testing.T, c CloudAddress, group string) []string {
	t.Helper()
	names := map[any]string{}
	for _, u := range Users(t, c, "") {
		names[u["id"]] = strings.TrimSuffix(fmt.Sprint(u["userName"]), "@brisling.example")
	}
	groups := Resources(t, c, "Groups")
	for name, g := range groups {
		names[g["id"]] = name
	}
	require.Contains(t, groups, group)
	out := []string{}
	list, _ := groups[group]["members"].([]any)
	for _, m := range list {
		out = append(out, names[m.(map[string]any)["value"]])
	}
	slices.Sort(out)
	return out
}

func (w *World) Manager(login string) any {
	extension, _ := w.User(login + "@brisling.example")[ManagerTarget].(map[string]any)
	manager, _ := extension["manager"].(map[string]any)
	return manager["value"]
}

// InCloud makes a user in the cloud, as somebody did before Kambrel came.
func (w *World) InCloud(login string, more map[string]any) string {
	w.T.Helper()
	body := map[string]any{"userName": login + "@brisling.example"}
	for name, value := range more {
		body[name] = value
	}
	status, made := SCIM(w.T, w.Address(), "POST", w.Cloud.URL+"/Users", body)
	require.Equal(w.T, 201, status, made)
	return fmt.Sprint(made["id"])
}
