package setup

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/cloud"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/service/store"
)

func TestTheTreeShowsMarksAndWhatLiesBelow(t *testing.T) {
	t.Parallel()
	c := func(dn string, users int) store.Container {
		parsed, err := entry.ParseDN(dn)
		require.NoError(t, err)
		return store.Container{DN: dn, Path: parsed.Path(), Users: users}
	}
	path := func(dn string) string { return c(dn, 0).Path }
	tree := treeOf([]store.Container{
		c("DC=x", 0), c("CN=System,DC=x", 0), c("CN=Policies,CN=System,DC=x", 0), c("CN=Users,DC=x", 2), c("OU=Fleet,DC=x", 1), c(`OU=a\,b,OU=Fleet,DC=x`, 3), c("OU=Galley,OU=Fleet,DC=x", 4), c("OU=Empty,DC=x", 0), c("OU=Elsewhere,DC=y", 9),
	}, path("DC=x"), map[string]string{path("OU=Fleet,DC=x"): "include", path("OU=Galley,OU=Fleet,DC=x"): "exclude"})
	type row struct {
		name, state string
		mixed       bool
		below       int
		parent      string
	}
	var got []row
	for _, node := range tree {
		parent := ""
		if node.Parent >= 0 {
			parent = tree[node.Parent].Name
		}
		got = append(got, row{node.Name, node.State, node.Mixed, node.Below.Users, parent})
	}
	assert.Equal(t, []row{
		{"DC=x", "", true, 10, ""}, {"Users", "", false, 2, "DC=x"}, {"Fleet", "include", true, 8, "DC=x"}, {"a,b", "include", false, 3, "Fleet"}, {"Galley", "exclude", false, 4, "Fleet"}, {"Empty", "", false, 0, "DC=x"},
	}, got, "bare containers of the controller itself are left out, empty organizational units are not")
}

func TestEveryCapabilityTellsWhatItMeans(t *testing.T) {
	t.Parallel()
	for _, can := range []cloud.Capabilities{{}, {Patch: true, Filter: true, Sort: true, ETag: true, BulkOperations: 10, BulkPayload: 1 << 20, Index: true, Cursor: true, Pages: "cursor", MaxResults: 7, ChangePassword: true, SignIn: []string{"Bearer token"}}} {
		for _, line := range capabilityTable(can) {
			assert.NotEmpty(t, line.Meaning, line.Name)
		}
	}
}
