package demo_test

import (
	"html"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/lab/demo"
	"kambrel.example/kambrel/protocol/wire"
)

var hidden = regexp.MustCompile(`(?:name="(\w+)" value="([^"]*)"|action="([^"]*)")`)

// tickets signs Ada in to the cloud with a ticket of the domain controller, as a browser on her desk
// does: curl with --negotiate.
func (d *running) tickets() {
	d.t.Helper()
	const domain, login = "halvard.example", "ada.brekke@halvard.example"
	service, err := url.Parse(d.endpoints.Console)
	require.NoError(d.t, err)
	known := d.endpoints.SignInHost + ":" + service.Port() // as desks know it
	environment := append(os.Environ(), "KRB5_CONFIG="+d.endpoints.Kerberos, "KRB5CCNAME="+filepath.Join(d.work, "tickets"))
	kinit := exec.Command("kinit", "ada.brekke")
	kinit.Env, kinit.Stdin = environment, strings.NewReader(demo.Password+"\n")
	out, err := kinit.CombinedOutput()
	require.NoError(d.t, err, string(out))
	jar := filepath.Join(d.work, "cookies")
	curl := func(arguments ...string) string {
		d.t.Helper()
		command := exec.Command("curl", append([]string{"-s", "--negotiate", "-u", ":", "-c", jar, "-b", jar, "--connect-to", known + ":" + service.Host}, arguments...)...)
		command.Env = environment
		out, err := command.CombinedOutput()
		require.NoError(d.t, err, string(out))
		return string(out)
	}
	// there goes from the cloud to the service, and returns what that shows.
	there := func(address string) string {
		d.t.Helper()
		location := curl("-o", "/dev/null", "-w", "%{redirect_url}", address)
		require.Contains(d.t, location, "/people/sign-in?", "to Kambrel itself")
		return curl(strings.Replace(location, service.Host, known, 1))
	}
	back := func(page string) string {
		d.t.Helper()
		var arguments []string
		to := ""
		for _, m := range hidden.FindAllStringSubmatch(page, -1) {
			if m[3] != "" {
				to = html.UnescapeString(m[3])
			} else {
				arguments = append(arguments, "--data-urlencode", m[1]+"="+html.UnescapeString(m[2]))
			}
		}
		require.Contains(d.t, page, "SAMLResponse")
		return curl(append(arguments, "-L", to)...)
	}
	_, status := d.kambrel("domain", "provider", "own", domain)
	require.Zero(d.t, status)
	assert.Equal(d.t, "ada.brekke@CORP.HALVARD.EXAMPLE", curl("http://"+known+"/people/ticket"))
	test, err := d.client.TestSignIn(d.t.Context(), domain, wire.NewSignInTest{Person: login})
	require.NoError(d.t, err)
	assert.Contains(d.t, back(there(test.URL)), "was accepted")
	text, status := d.kambrel("domain", "sign-in", domain, "--by", "provider", "--person", login, "--yes")
	require.Zero(d.t, status, text)
	start := strings.TrimSuffix(d.endpoints.Cloud.People, "/me") + "/me/saml/start?login=" + login
	back(there(start))
	assert.Contains(d.t, curl(d.endpoints.Cloud.People+"/session"), `"login":"`+login+`"`, "she is in")

	// Disabled in the directory, which no run has read yet: neither session nor ticket helps.
	ada := "CN=Ada Brekke,OU=Deck,OU=Fleet," + d.base()
	d.modify(ada, map[string]string{"userAccountControl": "514"})
	page := there(start)
	assert.NotContains(d.t, page, "SAMLResponse")
	assert.Contains(d.t, page, "Password")
	d.modify(ada, map[string]string{"userAccountControl": "512"})
	assert.Contains(d.t, there(start), "SAMLResponse")

	text, status = d.kambrel("domain", "sign-in", domain, "--by", "password", "--yes")
	require.Zero(d.t, status, text)
	text, status = d.kambrel("domain", "desktops", domain)
	require.Zero(d.t, status)
	assert.Contains(d.t, text, "CORP.HALVARD.EXAMPLE")
}
