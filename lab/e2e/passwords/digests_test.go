package passwords_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/cookiejar"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/lab/servers/serverstest"
	"kambrel.example/kambrel/protocol/wire"
)

// TestPeopleSignInToTheCloudWithTheDirectorysPassword follows digests: the first round, a
// password that is changed in the directory, a pause, somebody who leaves, and a stored form
// of which none can be made.
func TestPeopleSignInToTheCloudWithTheDirectorysPassword(t *testing.T) {
	t.Parallel()
	w := worldtest.WithPasswords(t, worldtest.Options{})
	digests := func(have, due, faulty int) (found wire.DigestState) {
		t.Helper()
		require.Eventually(t, func() bool {
			state, err := w.Client.PasswordsState(t.Context())
			require.NoError(t, err)
			found = state.Digests[0]
			return found.Have == have && found.Due == due && found.Faulty == faulty && found.LastRound != nil
		}, 30*time.Second, 50*time.Millisecond, "%d have one, %d are due, of %d none can be made: %+v", have, due, faulty, &found)
		return found
	}
	set := func(name, password string) {
		t.Helper()
		_, err := w.LDAP.PasswordModify(ldap.NewPasswordModifyRequest("cn="+name+","+worldtest.People, "", password))
		require.NoError(t, err)
	}
	digests(3, 0, 0)
	require.Equal(t, 204, w.SignsIn("anna", worldtest.OldPassword))
	require.Equal(t, 401, w.SignsIn("anna", "Gannet-Rock-66"))

	// Set in the directory by whoever; the end of a run is a sign.
	set("Anna", "Gannet-Rock-66")
	w.InStep(0)
	require.Eventually(t, func() bool { return w.SignsIn("anna", "Gannet-Rock-66") == 204 }, 20*time.Second, 50*time.Millisecond)
	assert.Equal(t, 401, w.SignsIn("anna", worldtest.OldPassword))

	// Paused, nothing goes; resumed, it goes on.
	w.Says([]string{"passwords", "digests", "pause", "brisling"}, "Paused.")
	w.Refuses([]string{"passwords", "digests", "pause", "skerry"}, "not switched on")
	set("Bo", "Puffin-Isle-77")
	w.InStep(0)
	out, _, _ := w.Kambrel("passwords", "state")
	assert.Contains(t, out, "paused by administrator")
	assert.Equal(t, 204, w.SignsIn("bo", worldtest.OldPassword))
	w.Says([]string{"passwords", "digests", "resume", "brisling"})
	require.Eventually(t, func() bool { return w.SignsIn("bo", "Puffin-Isle-77") == 204 }, 20*time.Second, 50*time.Millisecond)
	w.Says([]string{"acts"}, "pause-digests: brisling", "resume-digests: brisling")

	// Who leaves has none any more, is signed out everywhere, and stays so when they return.
	jar, err := cookiejar.New(nil)
	require.NoError(t, err)
	signedIn := func(method, body string) int {
		t.Helper()
		request, err := http.NewRequestWithContext(t.Context(), method, w.Cloud.Base+"/me/session", strings.NewReader(body))
		require.NoError(t, err)
		request.Header.Set("Content-Type", "application/json")
		answer, err := (&http.Client{Jar: jar}).Do(request)
		require.NoError(t, err)
		require.NoError(t, answer.Body.Close())
		return answer.StatusCode
	}
	require.Equal(t, 204, signedIn("POST", `{"login": "bo@brisling.example", "password": "Puffin-Isle-77"}`))
	require.Equal(t, 200, signedIn("GET", ""))
	id := fmt.Sprint(w.User("bo@brisling.example")["id"])
	require.NoError(t, w.LDAP.ModifyDN(ldap.NewModifyDNRequest("cn=Bo,"+worldtest.People, "cn=Bo", true, worldtest.Leavers)))
	w.InStep(1)
	assert.Equal(t, 401, signedIn("GET", ""))
	w.Says([]string{"leavers", "return", "bo@brisling.example", "--yes"})
	assert.Equal(t, true, w.User("bo@brisling.example")["active"])
	assert.Equal(t, 401, signedIn("GET", ""), "the old session is over")
	w.Says([]string{"pins", "lift", "bo@brisling.example", "--yes"})
	digests(2, 0, 0)
	require.Eventually(t, func() bool {
		var kept struct {
			Digests map[string]struct{ Digest string }
		}
		text, err := os.ReadFile(filepath.Join(w.Lab.Dir, "cloud", "passwords.json"))
		return err == nil && json.Unmarshal(text, &kept) == nil && len(kept.Digests) == 3 && kept.Digests[id].Digest == ""
	}, 20*time.Second, 50*time.Millisecond)

	// What is stored in a form with parameters of its own is told, and the old digest goes.
	w.Set("cn=Cato,"+worldtest.People, "userPassword", "{CRYPT}$6$saltsalt$notahash")
	w.InStep(0)
	digests(1, 0, 1)
	assert.Equal(t, 401, w.SignsIn("cato", worldtest.OldPassword))
	w.Says([]string{"passwords", "state"}, "of 1 there is none ({CRYPT}: stored in a form of which no digest can be made)")

	// Switched off, the cloud has none; that another cloud, with which the service was started by
	// a slip, has none says nothing.
	other, err := serverstest.New(t).StartCloud(t.Context(), w.Programs.Lab, 0, []string{"brisling.example"})
	require.NoError(t, err)
	its, token := w.SCIMURL, w.TokenFile
	w.Reaches(other.URL, other.TokenFile)
	d := worldtest.PasswordDocument()
	d.Directories[0].Features = nil
	w.Activate(d)
	require.Eventually(t, func() bool { return strings.Contains(w.LogOf("service"), other.URL+" knows 0") }, 20*time.Second, 50*time.Millisecond)
	assert.Equal(t, 204, w.SignsIn("anna", "Gannet-Rock-66"))
	w.Reaches(its, token)
	require.Eventually(t, func() bool { return w.SignsIn("anna", "Gannet-Rock-66") == 401 }, 20*time.Second, 50*time.Millisecond)
	w.Says([]string{"passwords", "state"}, "Off: No directory takes passwords")
}
