package setup_test

import (
	"net/http"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/protocol/wire"
)

// TestLoginDomainsTellWhoUsesAndWaits has two people whose login would end in a domain that is
// not verified: the domain says how it is, they wait, and come with the run after it was.
func TestLoginDomainsTellWhoUsesAndWaits(t *testing.T) {
	t.Parallel()
	const corp = "corp.brisling.example"
	w := worldtest.NewWith(t, worldtest.LDIFPeople(5), worldtest.Options{Cloud: []string{"--claimed-domains", corp}})
	w.Activate(worldtest.Document())
	w.Person("Ada Vik", map[string]string{"mail": "ada@" + corp})
	w.Person("Eli Nes", map[string]string{"mail": "eli@Corp.Brisling.example"})
	w.InCloud("guest", nil)
	run := w.Run(wire.NewRun{})
	require.Nil(t, run.Failure)
	require.Equal(t, 5, run.Counts.Done)

	of := func(name string) (wire.LoginDomains, wire.LoginDomain) {
		domains, err := w.Client.Domains(t.Context())
		require.NoError(t, err)
		for _, one := range domains.Items {
			if one.Name == name {
				return domains, one
			}
		}
		return domains, wire.LoginDomain{}
	}
	all, home := of("brisling.example")
	assert.Equal(t, "cloud", all.From)
	assert.Len(t, all.Items, 2)
	assert.Equal(t, wire.LoginDomain{Name: "brisling.example", SignOn: "password", Verified: wire.DomainVerified, People: 6, Active: 6, Linked: 5}, home)
	_, waits := of(corp)
	assert.Equal(t, wire.DomainUnverified, waits.Verified)
	assert.Equal(t, 2, waits.Waiting)
	assert.Contains(t, waits.Verification, "Publish the TXT record")
	w.Says([]string{"domain", "list"}, "brisling.example", "yes", corp, "NO", "2 wait for "+corp)
	w.Says([]string{"domain", "show", corp}, "verified  NO, says the cloud", "To verify it, the cloud says: Publish the TXT record", "'kambrel problems list --code login-suffix-not-verified'")
	w.Refuses([]string{"domain", "show", "nowhere.example"}, "the cloud does not list it; there are brisling.example, "+corp)
	do, shows := w.Console()
	do("look at the domains", chromedp.Navigate(w.URL+"/domains"), shows("p[role=status]", "2 entries wait for a domain that is not verified"), shows("td", "Publish the TXT record"),
		shows("td", "a password of the cloud's own: 5"))

	status, answer := worldtest.SCIM(t, w.Address(), "POST", w.Cloud.Control+"/domains/"+corp+"/verify", nil)
	require.Equal(t, http.StatusNoContent, status, answer)
	w.InStep(2)
	_, came := of(corp)
	assert.Equal(t, wire.LoginDomain{Name: corp, SignOn: "password", Verified: wire.DomainVerified, People: 2, Active: 2, Linked: 2}, came)
	do("nobody waits any more", shows("p[role=status]", "Nobody waits for a domain"))

	// A cloud that is away does not keep one from looking at the rest.
	require.NoError(t, w.Cloud.Process.Stop())
	require.NoError(t, w.Service.Stop())
	w.StartService()
	away, one := of(corp)
	assert.Contains(t, away.Away, "the cloud does not answer")
	assert.Equal(t, 8, away.Of)
	assert.Equal(t, wire.LoginDomain{Name: corp, SignOn: "password", Verified: wire.DomainUnknown, People: 2, Active: 2, Linked: 2}, one)
}
