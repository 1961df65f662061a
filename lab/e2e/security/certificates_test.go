package security_test

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/client"
	"kambrel.example/kambrel/core/fingerprint"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/lab/e2e/worldtest"
	"kambrel.example/kambrel/service/certificates"
)

// TestHTTPSFromTheFirstStart meets a service that was given no certificate as its people and
// agents do: nothing is sent before its fingerprint was compared.
func TestHTTPSFromTheFirstStart(t *testing.T) {
	t.Parallel()
	w := worldtest.NewWith(t, worldtest.LDIFPeople(3), worldtest.Options{Bare: true})
	folder := filepath.Join(t.TempDir(), "tls")
	secured := w.Secured("--tls-folder", folder)
	print := regexp.MustCompile(`(?:[0-9A-F]{2}:){31}[0-9A-F]{2}`).FindString(w.LogOf("standby"))
	require.NotEmpty(t, print, "it is printed")

	home := t.TempDir()
	password := filepath.Join(home, "password")
	require.NoError(t, os.WriteFile(password, []byte(worldtest.Password), 0o600))
	signIn := func(more ...string) (string, int) {
		out, stderr, status := worldtest.KambrelIn(t, home, "", append([]string{"login", secured, "--password-file", password}, more...)...)
		return out + stderr, status
	}
	said, status := signIn()
	assert.Equal(t, 1, status)
	assert.Contains(t, said, print)
	assert.Contains(t, said, "--fingerprint")
	said, status = signIn("--fingerprint", strings.Repeat("AB:", 31)+"CD")
	assert.Equal(t, 1, status)
	assert.Contains(t, said, "Nothing was sent")
	said, status = signIn("--fingerprint", strings.ToLower(strings.ReplaceAll(print, ":", "")))
	require.Zero(t, status, said)
	said, status = signIn()
	require.Zero(t, status, "it was compared once: %s", said)
	command, stderr, status := worldtest.KambrelIn(t, home, "", "agent", "code", "brisling")
	require.Zero(t, status, stderr)
	_, stderr, status = worldtest.Kambrel(t, "health", "--service", secured, "--token", "x")
	assert.Equal(t, 1, status)
	assert.Contains(t, stderr, "certificate", "somebody who has not compared it sends nothing")

	// The command that is shown for the agent's host holds the fingerprint.
	agent := filepath.Join(t.TempDir(), "agent.yaml")
	words := strings.Fields(command[strings.Index(command, "kambrel agent enrol"):])
	_, stderr, status = worldtest.Kambrel(t, append(words[1:], "--name", "by-https", "--config", agent)...)
	require.Zero(t, status, stderr)
	w.RunAgent("by-https", agent)
	soon(t, func() bool {
		out, _, _ := worldtest.KambrelIn(t, home, "", "agent", "list")
		return strings.Contains(out, "online")
	}, "the agent speaks to the service by https")

	authority, err := os.ReadFile(filepath.Join(folder, "ca.pem"))
	require.NoError(t, err)
	roots := x509.NewCertPool()
	require.True(t, roots.AppendCertsFromPEM(authority))
	browser := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: roots}}}
	response, err := browser.Get(secured + "/ca.pem")
	require.NoError(t, err)
	defer response.Body.Close()
	assert.Equal(t, http.StatusOK, response.StatusCode)
	for header, holds := range map[string]string{"Strict-Transport-Security": "max-age", "Content-Security-Policy": "default-src 'self'", "X-Content-Type-Options": "nosniff", "Referrer-Policy": "no-referrer"} {
		assert.Contains(t, response.Header.Get(header), holds, header)
	}
	assert.Equal(t, print, fingerprint.Of(response.TLS.PeerCertificates[len(response.TLS.PeerCertificates)-1].Raw))

	require.NoError(t, w.Second.Stop())
	assert.Equal(t, secured, w.Secured("--tls-folder", folder))
	out, stderr, status := worldtest.KambrelIn(t, home, "", "agent", "list")
	assert.Zero(t, status, "the authority is kept: %s%s", out, stderr)
	require.NoError(t, w.Second.Stop())
	require.NoError(t, os.Remove(filepath.Join(folder, "ca.key")))
	_, stderr, status = worldtest.KambrelWith(t, home, home, "", []string{"KAMBREL_DATABASE=" + w.DSN}, "serve", "--listen", "127.0.0.1:0", "--tls-folder", folder, "--cloud-url", w.SCIMURL, "--cloud-token-file", w.TokenFile)
	assert.Equal(t, 1, status)
	assert.Contains(t, stderr, "only ca.pem is there", "no other authority is made in its place")
}

// TestCertificatesAreTakenUpAndTheirEndIsTold gives the service one that ends soon, and then a
// new one in its place.
func TestCertificatesAreTakenUpAndTheirEndIsTold(t *testing.T) {
	t.Parallel()
	w := worldtest.NewWith(t, worldtest.LDIFPeople(3), worldtest.Options{ShortLived: true})
	authority, err := certificates.OpenAuthority(filepath.Join(t.TempDir(), "authority"), "Halvard Ferries")
	require.NoError(t, err)
	cert, key := issue(t, authority, 10*24*time.Hour)
	secured := w.Secured("--tls-cert", cert, "--tls-key", key)
	ca, err := os.ReadFile(authority.File())
	require.NoError(t, err)
	c, err := client.New(secured, w.Client.Token()).Trusting(string(ca))
	require.NoError(t, err)
	w.Activate(worldtest.Document())
	w.InStep(3)

	told := func() (about []string) {
		health, err := c.Health(t.Context())
		require.NoError(t, err)
		for _, one := range health.Attention {
			if one.Code == string(problem.CertificateEnds) {
				about = append(about, string(one.About.Type)+" "+one.About.Key)
				assert.Contains(t, one.Detail, time.Now().AddDate(0, 0, 10).UTC().Format(time.DateOnly))
			}
		}
		return about
	}
	soon(t, func() bool { return len(told()) == 2 }, "that of the service and that of the directory end soon")
	assert.ElementsMatch(t, []string{"service ", "directory brisling"}, told())
	soon(t, func() bool {
		list, err := c.Problems(t.Context(), url.Values{"code": {string(problem.CertificateEnds)}})
		require.NoError(t, err)
		return list.Total == 2
	}, "and they are problems that are kept")

	fresh, freshKey := issue(t, authority, 300*24*time.Hour)
	require.NoError(t, os.Rename(freshKey, key))
	require.NoError(t, os.Rename(fresh, cert))
	soon(t, func() bool { return len(told()) == 1 }, "the new one is taken up without a new start")
	ctx, cancel := context.WithTimeout(t.Context(), 5*time.Second)
	defer cancel()
	conn, err := (&tls.Dialer{Config: &tls.Config{InsecureSkipVerify: true}}).DialContext(ctx, "tcp", strings.TrimPrefix(secured, "https://"))
	require.NoError(t, err)
	defer conn.Close()
	assert.Greater(t, time.Until(conn.(*tls.Conn).ConnectionState().PeerCertificates[0].NotAfter), 200*24*time.Hour)

	require.NoError(t, os.WriteFile(cert, []byte("no certificate"), 0o600))
	soon(t, func() bool {
		_, err := c.Session(t.Context())
		require.NoError(t, err, "what cannot be read leaves the old one in its place")
		return strings.Contains(w.LogOf("standby"), "the certificate stays as it was")
	}, "that is logged")
}

// soon waits until something holds.
func soon(t *testing.T, holds func() bool, why string) {
	t.Helper()
	require.Eventually(t, holds, 30*time.Second, 100*time.Millisecond, why)
}

// issue makes a certificate for this host that is valid for so long.
func issue(t *testing.T, authority *certificates.Authority, valid time.Duration) (cert, key string) {
	t.Helper()
	cert, key, err := authority.Issue("kambrel-"+valid.String(), x509.Certificate{
		Subject: pkix.Name{CommonName: "kambrel.halvard.example"}, IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(valid),
	})
	require.NoError(t, err)
	return cert, key
}
