package cloud

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/change"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/plan"
	"kambrel.example/kambrel/core/rules"
	"kambrel.example/kambrel/lab/standin"
	"kambrel.example/kambrel/protocol/scim"
)

// owned are the targets that the rules of the random walk own, one of each kind.
var owned = []string{
	"title", "name.givenName", "displayName",
	`emails[type eq "work"].value`, `emails[type eq "home"].value`,
	`phoneNumbers[type eq "work"].value`, `phoneNumbers[type eq "mobile"].value`,
	`addresses[type eq "work"].streetAddress`, `addresses[type eq "work"].locality`, `addresses[type eq "home"].locality`,
	scim.EnterpriseURN + ":department", scim.EnterpriseURN + ":employeeNumber", standin.AccountURN + ":guest",
}

// others is what people do in the cloud beside Kambrel.
func others(random *rand.Rand, id string) Write {
	targets := []string{"nickName", `phoneNumbers[type eq "pager"].value`, `addresses[type eq "work"].postalCode`, scim.EnterpriseURN + ":costCenter", "name.middleName"}
	target := targets[random.IntN(len(targets))]
	return Write{Kind: entry.User, ID: id, Diffs: []change.Diff{{Target: target, After: fmt.Sprintf("own %d", random.IntN(5))}}}
}

// TestPatchesBringTheResourceThereAndTouchNothingElse lets rules and people
// change one resource in turns: after each write it is as the rules want it,
// and what they do not own is as it was.
func TestPatchesBringTheResourceThereAndTouchNothingElse(t *testing.T) {
	t.Parallel()
	c := newClient(t, startCloud(t))
	send := func(w Write) entry.Resource {
		t.Helper()
		answers := c.Write(t.Context(), []Write{w})
		require.NoError(t, answers[0].Err, "%+v", w.Diffs)
		return answers[0].Resource
	}
	notOwned := func(r entry.Resource) map[string]any {
		out := map[string]any{}
		for _, target := range []string{"nickName", `phoneNumbers[type eq "pager"].value`, `addresses[type eq "work"].postalCode`, scim.EnterpriseURN + ":costCenter", "name.middleName"} {
			out[target] = entry.MustPath(target).Get(r)
		}
		return out
	}
	for seed := range uint64(12) {
		random := rand.New(rand.NewPCG(seed, 7))
		resource := send(Write{Kind: entry.User, Resource: entry.Resource{"userName": fmt.Sprintf("walk%d@halvard.example", seed)}})
		for step := range 25 {
			if random.IntN(3) == 0 {
				w := others(random, resource.ID())
				w.Resource = resource
				resource = send(w)
			}
			desired := rules.Desired{}
			for _, target := range owned {
				value := rules.Value{Path: entry.MustPath(target)}
				switch {
				case random.IntN(3) == 0: // nothing
				case target == standin.AccountURN+":guest":
					value.Value = random.IntN(2) == 0
				case entry.MustPath(target).Key() == "emails.value":
					value.Value = fmt.Sprintf("walk%d.%d.%d@halvard.example", seed, step, len(desired.Values))
				default:
					value.Value = fmt.Sprintf("v%d", random.IntN(3))
				}
				desired.Values = append(desired.Values, value)
			}
			before := notOwned(resource)
			decision := plan.Compare(resource, desired, nil)
			if len(decision.Diffs) == 0 {
				continue
			}
			resource = send(Write{Kind: entry.User, ID: resource.ID(), Resource: resource, Version: resource.Version(), Diffs: decision.Diffs})
			again := plan.Compare(resource, desired, nil)
			require.Empty(t, again.Diffs, "seed %d, step %d: in step after one write", seed, step)
			require.Equal(t, before, notOwned(resource), "seed %d, step %d: what has no rule is never touched", seed, step)
			for _, list := range []string{"emails", "phoneNumbers", "addresses"} {
				types := []string{}
				elements, _ := resource[list].([]any)
				for _, element := range elements {
					kind := fmt.Sprint(element.(map[string]any)["type"])
					assert.False(t, slices.Contains(types, kind), "seed %d, step %d: two %s of type %s", seed, step, list, kind)
					types = append(types, kind)
					assert.Greater(t, len(element.(map[string]any)), 1, "seed %d, step %d: an element of %s that is empty", seed, step, list)
				}
			}
			// The mirror advances as the cloud does.
			mirrored, err := c.Get(t.Context(), entry.User, resource.ID())
			require.NoError(t, err)
			require.Equal(t, mirrored, resource)
		}
	}
}
