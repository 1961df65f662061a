package agent

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kambrel.example/kambrel/core/address"
	"kambrel.example/kambrel/core/fingerprint"
	"kambrel.example/kambrel/protocol/release"
)

func newKeyFor(t *testing.T) jose.JSONWebKey {
	t.Helper()
	key, err := release.NewKey()
	require.NoError(t, err)
	return key
}

func sign(t *testing.T, key jose.JSONWebKey, version, platform, program string) string {
	t.Helper()
	statement, err := release.Sign(key, release.Release{Version: version, Files: []release.File{release.FileOf(platform, "agent", []byte(program))}})
	require.NoError(t, err)
	return statement
}

// TestANewProgramHasToProveItself runs programs as a newer agent would be run: one that is
// silent or falls over is given up and not chosen again, one that reports stays.
func TestANewProgramHasToProveItself(t *testing.T) {
	t.Parallel()
	key := newKeyFor(t)
	kept := programs{t.TempDir(), 300 * time.Millisecond}
	for _, one := range []struct {
		version, script, fault string
		newer                  bool
	}{
		{"0.2.0", "exec sleep 60", "it did not report to the service within 300ms", false},
		{"0.3.0", "exit 3", "it ended after", false},
		{"0.4.0", "exit 1", "it ended after", false},
		{"0.5.0", "echo reported; kill -SEGV $$", "it ended after", false},
		{"0.6.0", "echo reported; sleep 0.5; echo newer", "", true},
		{"0.7.0", "echo reported; read life; exit 0", "", false}, // until what has started it goes
	} {
		script := "#!/bin/sh\n" + one.script + "\n"
		require.NoError(t, kept.keep(one.version, sign(t, key, one.version, release.Platform(), script), []byte(script), "0.1.0"))
		chosen, found := kept.newest(key, "0.1.0")
		require.True(t, found, one.version)
		assert.Equal(t, one.version, chosen.version)
		ctx, cancel := context.WithCancel(t.Context())
		if one.version == "0.7.0" {
			time.AfterFunc(700*time.Millisecond, cancel) // beyond the time that it has to report
		}
		newer, err := kept.run(ctx, chosen, nil)
		cancel()
		assert.Equal(t, one.newer, newer, one.version)
		var fault failure
		if one.fault == "" {
			assert.NoError(t, err, one.version)
			continue
		}
		require.ErrorAs(t, err, &fault, one.version)
		assert.Contains(t, fault.Error(), one.fault)
		kept.fail(one.version, fault.Error())
		_, found = kept.newest(key, "0.1.0")
		assert.False(t, found, one.version)
		assert.Equal(t, one.version, kept.failed().Version)
	}
}

// TestAProgramThatWasExchangedIsNotRun changes what lies on the host since it was taken.
func TestAProgramThatWasExchangedIsNotRun(t *testing.T) {
	t.Parallel()
	key := newKeyFor(t)
	kept := programs{t.TempDir(), time.Minute}
	lay := func() {
		require.NoError(t, kept.keep("0.2.0", sign(t, key, "0.2.0", release.Platform(), "good"), []byte("good"), "0.1.0"))
	}
	lay()
	_, found := kept.newest(key, "0.2.0")
	assert.False(t, found, "what is installed is as new")
	_, found = kept.newest(newKeyFor(t), "0.1.0")
	assert.False(t, found, "the host trusts another key now")
	lay()
	_, found = kept.newest(key, "0.1.0")
	require.True(t, found)
	require.NoError(t, os.WriteFile(filepath.Join(kept.of("0.2.0"), programFile()), []byte("evil"), 0o700))
	_, found = kept.newest(key, "0.1.0")
	assert.False(t, found)
	assert.Contains(t, kept.failed().Detail, "not the one that was signed")
}

// TestOnlyWhatIsSignedForThisHostIsTaken has a service offer what it must not: nothing of it
// is laid down.
func TestOnlyWhatIsSignedForThisHostIsTaken(t *testing.T) {
	t.Parallel()
	key := newKeyFor(t)
	forged := func() string { // it says that it is of the right key
		text, err := json.Marshal(release.Release{Version: "0.2.0", Files: []release.File{release.FileOf(release.Platform(), "agent", []byte("program"))}})
		require.NoError(t, err)
		print, err := fingerprint.OfKey(key)
		require.NoError(t, err)
		signer, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.EdDSA, Key: newKeyFor(t).Key}, (&jose.SignerOptions{}).WithType("kambrel-release+jws").WithHeader("kid", print))
		require.NoError(t, err)
		signed, err := signer.Sign(text)
		require.NoError(t, err)
		compact, err := signed.CompactSerialize()
		require.NoError(t, err)
		return compact
	}
	for _, one := range []struct{ name, statement, served, fault string }{
		{"another key", forged(), "program", "not signed by the key"},
		{"an older version", sign(t, key, "0.0.9", release.Platform(), "program"), "program", "not newer"},
		{"the same version", sign(t, key, "0.1.0", release.Platform(), "program"), "program", "not newer"},
		{"another platform", sign(t, key, "0.2.0", "plan9-386", "program"), "program", "no program for"},
		{"another program", sign(t, key, "0.2.0", release.Platform(), "program"), "other", "not the one that was signed"},
		{"half of it", sign(t, key, "0.2.0", release.Platform(), "program"), "prog", "not the one that was signed"},
		{"more than it", sign(t, key, "0.2.0", release.Platform(), "program"), "program and more", "not the one that was signed"},
		{"what is right", sign(t, key, "0.2.0", release.Platform(), "program"), "program", ""},
	} {
		private, _, err := newKey()
		require.NoError(t, err)
		own, err := signer(private)
		require.NoError(t, err)
		service := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write([]byte(one.served)) }))
		a := &Agent{version: "0.1.0", signer: own, http: service.Client(), services: address.ServicesOf(service.URL)}
		kept := programs{filepath.Join(t.TempDir(), "programs"), time.Minute}
		err = a.take(t.Context(), kept, key, one.statement)
		service.Close()
		laid, listErr := os.ReadDir(kept.folder)
		if one.fault == "" {
			require.NoError(t, err, one.name)
			assert.Len(t, laid, 1)
			continue
		}
		require.Error(t, err, one.name)
		assert.Contains(t, err.Error(), one.fault, one.name)
		assert.True(t, errors.Is(listErr, os.ErrNotExist), one.name)
	}
}
