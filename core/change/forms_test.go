package change

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/entry"
)

func TestWhatTheCloudWritesItsOwnWayIsMeant(t *testing.T) {
	t.Parallel()
	var r entry.Resource
	require.NoError(t, json.Unmarshal([]byte(`{"userName":"ada@halvard.example","title":"Chief","phoneNumbers":[{"value":"+47 1"},{"value":"+47 2"}]}`), &r))
	login, title, phone, nick := entry.MustPath("userName"), entry.MustPath("title"), entry.MustPath(`phoneNumbers[type eq "work"].value`), entry.MustPath("nickName")
	forms := Forms{}
	for _, d := range []Diff{{Target: "userName", After: "Ada@Halvard.example"}, {Target: "title", After: "Chief Officer"}, {Target: phone.String(), After: "+47 1"}, {Target: "nickName", After: "Skipper"}} {
		form, other := FormOf(r, d)
		require.True(t, other, d.Target)
		forms[d.Target] = form
	}
	_, other := FormOf(r, Diff{Target: "title", After: "Chief"})
	assert.False(t, other, "it is kept as it was sent")

	assert.True(t, forms.Means(login, r, "Ada@Halvard.example"))
	assert.False(t, Forms(nil).Means(login, r, "Ada@Halvard.example"))
	assert.False(t, forms.Means(title, r, "Chief Engineer"), "another value is sent")
	assert.True(t, forms.Means(nick, r, "Skipper"), "what the cloud leaves out is not sent again")
	assert.True(t, forms.Means(phone, r, "+47 1"))
	assert.Equal(t, "+47 1", forms.Stale(phone, r, "+47 3"))
	assert.Empty(t, forms.Stale(phone, r, "+47 1"))

	r["title"] = "Mate"
	assert.False(t, forms.Means(title, r, "Chief Officer"), "somebody has changed it in the cloud")
	r["phoneNumbers"] = []any{map[string]any{"value": "+47 2"}}
	assert.False(t, forms.Means(phone, r, "+47 1"), "somebody has removed it in the cloud")
	assert.Empty(t, forms.Stale(phone, r, "+47 3"))
}
