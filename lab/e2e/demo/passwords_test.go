package demo_test

import (
	"fmt"
	"strings"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/lab/demo"
	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/lab/servers"
)

// passwords tells of somebody who sets a password in the cloud: too short for the domain's
// policy at first, then good; and of an administrator's password, which nobody sets.
func (d *running) passwords() {
	d.t.Helper()
	out, status := d.kambrel("passwords", "state")
	require.Zero(d.t, status, out)
	assert.Contains(d.t, out, "Open: Passwords reach halvard and brisling at once")
	me := strings.TrimSuffix(d.endpoints.Cloud.People, "/me")
	ask := func(login, password string) (done bool, code string) {
		status, said := worldtest.SCIM(d.t, d.cloud(), "POST", me+"/standin/passwords", worldtest.Asked{Login: login, Act: "reset", New: password})
		require.Equal(d.t, 200, status, said)
		code, _ = said["code"].(string)
		return said["done"] == true, code
	}
	binds := func(login, password string) bool {
		directory := d.endpoints.Directories[0]
		server := &servers.LDAPServer{URL: directory.URL, CAFile: directory.CA, AdminDN: login, AdminPassword: password}
		conn, err := server.Dial()
		if err == nil {
			_ = conn.Close()
		}
		return err == nil
	}
	signsIn := func(password string) bool {
		status, _ := worldtest.SCIM(d.t, d.cloud(), "POST", me+"/me/session", map[string]string{"login": demo.SelfService, "password": password})
		return status == 204
	}
	const good = "Gannet-Rock-66"
	for password, want := range map[string]string{"ab1": "too-short", "alllowercase": "not-complex"} {
		done, code := ask(demo.SelfService, password)
		assert.False(d.t, done)
		if entry.Dialect(d.endpoints.Directories[0].Dialect) == entry.AD {
			assert.Equal(d.t, want, code)
		}
	}
	require.True(d.t, signsIn(demo.Password))
	done, code := ask(demo.SelfService, good)
	require.True(d.t, done, code)
	if entry.Dialect(d.endpoints.Directories[0].Dialect) == entry.AD {
		assert.True(d.t, binds(demo.SelfService, good))
		assert.False(d.t, binds(demo.SelfService, demo.Password))
	}
	// By the digest of the password that the directory has now, and not by the one before.
	require.Eventually(d.t, func() bool {
		state, err := d.client.PasswordsState(d.t.Context())
		return err == nil && len(state.Digests) == 2 && state.Digests[0].Due == 0 && state.Digests[0].Have > 200 && signsIn(good)
	}, time.Minute, 200*time.Millisecond)
	assert.False(d.t, signsIn(demo.Password))
	out, _ = d.kambrel("passwords", "events")
	assert.Contains(d.t, out, "Siv Tollaksen")
	assert.Contains(d.t, out, "too-short: the directory's policy asks for a longer password")

	out, status = d.kambrel("passwords", "try", "aksel.tangvald@brisling.example")
	assert.Zero(d.t, status, "of two agents the one is asked that serves the directory: %s", out)
	out, status = d.kambrel("passwords", "try", "ada.brekke@halvard.example")
	assert.Zero(d.t, status, out)
	assert.Contains(d.t, out, "neither protected nor disabled")
	if entry.Dialect(d.endpoints.Directories[0].Dialect) == entry.AD {
		ingrid := fmt.Sprintf("CN=Ingrid Vaagen,OU=IT,OU=Shore Office,%s", d.base())
		d.modify(ingrid, map[string]string{"adminCount": "1"})
		_, code = ask("ingrid.vaagen@halvard.example", good)
		assert.Equal(d.t, "protected", code, "whom the domain protects the agent leaves alone")
	}
}
