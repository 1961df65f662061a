package agent

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"time"

	"github.com/go-jose/go-jose/v4"

	"kambrel.example/kambrel/protocol/release"
	"kambrel.example/kambrel/protocol/wire"
)

// programs are those that an agent has taken from its service, each in a folder by its
// version. The one that a package installed is not among them and is never touched.
type programs struct {
	folder       string
	reportWithin time.Duration // how long a new one has until the service has heard of it
}

// program is one that may be run: it was signed, and its file is the one that was.
type program struct {
	version, file string
	// proven tells that it has reported to the service before, so that a service that is
	// away says nothing against it.
	proven bool
}

const (
	statementFile = "statement.jws"
	failedFile    = "failed" // why it is not run any more
	provenFile    = "proven"
)

func programsOf(file string) programs {
	return programs{filepath.Join(StateFolder(file), "programs"), time.Minute}
}

func programFile() string {
	if runtime.GOOS == "windows" {
		return "kambrel-agent.exe"
	}
	return "kambrel-agent"
}

func (p programs) of(version string) string { return filepath.Join(p.folder, version) }

// versions are those of which there is something, the newest first.
func (p programs) versions() ([]string, error) {
	found, err := os.ReadDir(p.folder)
	if errors.Is(err, os.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var versions []string
	for _, one := range found {
		versions = append(versions, one.Name())
	}
	slices.SortFunc(versions, func(a, b string) int {
		if release.Newer(a, b) {
			return -1
		}
		return 1
	})
	return versions, nil
}

// newest is the newest program that is newer than a version and has not failed. What lies
// there is looked at anew each time: a file that somebody exchanged is not run.
func (p programs) newest(key jose.JSONWebKey, than string) (program, bool) {
	versions, err := p.versions()
	if err != nil {
		return program{}, false
	}
	for _, version := range versions {
		at := p.of(version)
		if !release.Newer(version, than) || there(filepath.Join(at, failedFile)) {
			continue
		}
		if err := p.check(key, version); err != nil {
			p.fail(version, err.Error())
			continue
		}
		return program{version: version, file: filepath.Join(at, programFile()), proven: there(filepath.Join(at, provenFile))}, true
	}
	return program{}, false
}

func (p programs) check(key jose.JSONWebKey, version string) error {
	statement, err := os.ReadFile(filepath.Join(p.of(version), statementFile))
	if err != nil {
		return fmt.Errorf("read what was signed of it: %w", err)
	}
	signed, err := release.Verify(string(statement), key)
	if err != nil {
		return err
	}
	file, there := signed.For(release.Platform())
	if !there || signed.Version != version {
		return fmt.Errorf("what was signed is %s, and not %s for %s", signed.Version, version, release.Platform())
	}
	text, err := os.ReadFile(filepath.Join(p.of(version), programFile()))
	if err != nil {
		return fmt.Errorf("read it: %w", err)
	}
	return file.Matches(text)
}

// keep lays a program down, complete or not at all, and forgets all others but the one that
// runs.
func (p programs) keep(version, statement string, text []byte, running string) error {
	if err := os.MkdirAll(p.folder, 0o700); err != nil {
		return err
	}
	fresh, err := os.MkdirTemp(p.folder, ".new-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(fresh)
	err = errors.Join(
		os.WriteFile(filepath.Join(fresh, programFile()), text, 0o700),
		os.WriteFile(filepath.Join(fresh, statementFile), []byte(statement), 0o600),
	)
	if err != nil {
		return err
	}
	versions, err := p.versions()
	if err != nil {
		return err
	}
	for _, other := range versions {
		if other != running && other != filepath.Base(fresh) {
			if err := os.RemoveAll(p.of(other)); err != nil {
				return err
			}
		}
	}
	return os.Rename(fresh, p.of(version))
}

// fail notes why a version is not run any more; its program goes.
func (p programs) fail(version, why string) {
	_ = os.MkdirAll(p.of(version), 0o700)
	_ = os.WriteFile(filepath.Join(p.of(version), failedFile), []byte(why), 0o600)
	_ = os.Remove(filepath.Join(p.of(version), programFile()))
}

// prove notes that a version has reported.
func (p programs) prove(version string) error {
	return os.WriteFile(filepath.Join(p.of(version), provenFile), nil, 0o600)
}

// forgive forgets that a version has failed: somebody wants it tried again.
func (p programs) forgive(version string) error {
	err := os.Remove(filepath.Join(p.of(version), failedFile))
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	return err
}

// mostWhy is how much of that is told, in bytes.
const mostWhy = 1000

// failed is the newest version that has failed, nil for none.
func (p programs) failed() *wire.FailedProgram {
	versions, _ := p.versions()
	for _, version := range versions {
		if why, err := os.ReadFile(filepath.Join(p.of(version), failedFile)); err == nil {
			return &wire.FailedProgram{Version: version, Detail: strings.ToValidUTF8(string(why[:min(len(why), mostWhy)]), "?")}
		}
	}
	return nil
}

func there(file string) bool {
	_, err := os.Stat(file)
	return err == nil
}
