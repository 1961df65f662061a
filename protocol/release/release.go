// Package release is how a version of the agent is signed for those hosts that take it from
// the service. The service passes programs on and cannot make any: whoever holds the release
// key signs, and each host has the public half in the agent's own configuration.
package release

import (
	"crypto/ed25519"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"runtime"
	"strings"

	"github.com/go-jose/go-jose/v4"
	"golang.org/x/mod/semver"

	"kambrel.example/kambrel/core/fingerprint"
)

// MostStatement is the longest statement, and MostProgram the longest program, in bytes.
const (
	MostStatement = 16 << 10
	MostProgram   = 24 << 20
)

// statementType stands in the head of a statement (RFC 7515 section 4.1.9), so that no other
// thing that the same key has signed is taken for one.
const statementType = "kambrel-release+jws"

// Release is what a statement says: a version, and its program for each platform.
type Release struct {
	Version string `json:"version"` // semantic, without a v
	Made    int64  `json:"made"`    // seconds since 1970
	Files   []File `json:"files"`
}

// File is the program of one platform.
type File struct {
	Platform string `json:"platform"` // as of Platform
	Name     string `json:"name"`     // of the file that was signed
	Size     int64  `json:"size"`     // in bytes
	SHA256   string `json:"sha256"`   // in hexadecimal digits
}

// Platform is that of this program, as linux-amd64.
func Platform() string { return runtime.GOOS + "-" + runtime.GOARCH }

// FileOf describes a program.
func FileOf(platform, name string, program []byte) File {
	sum := sha256.Sum256(program)
	return File{Platform: platform, Name: name, Size: int64(len(program)), SHA256: hex.EncodeToString(sum[:])}
}

// For is the program of a platform.
func (r Release) For(platform string) (File, bool) {
	for _, file := range r.Files {
		if file.Platform == platform {
			return file, true
		}
	}
	return File{}, false
}

// Matches tells what is wrong with a program, nil where it is the one that was signed.
func (f File) Matches(program []byte) error {
	if got := FileOf(f.Platform, f.Name, program); got != f {
		return fmt.Errorf("the program for %s is not the one that was signed: it has %d bytes and the SHA-256 %s, not %d and %s", f.Platform, got.Size, got.SHA256, f.Size, f.SHA256)
	}
	return nil
}

// Newer tells whether a version comes after another one.
func Newer(version, than string) bool { return semver.Compare("v"+version, "v"+than) > 0 }

// check tells what is wrong with the form of a release.
func (r Release) check() error {
	switch {
	case !semver.IsValid("v"+r.Version) || strings.Contains(r.Version, "+") || semver.Canonical("v"+r.Version) != "v"+r.Version || len(r.Version) > 63:
		return fmt.Errorf("%q is no version: write it as 1.2.3 or 1.2.3-rc.1", r.Version)
	case len(r.Files) == 0 || len(r.Files) > 20:
		return errors.New("a release has a program for 1 to 20 platforms")
	}
	seen := map[string]bool{}
	for _, file := range r.Files {
		system, processor, found := strings.Cut(file.Platform, "-")
		switch {
		case !found || !plain(system) || !plain(processor):
			return fmt.Errorf("%q is no platform: write it as linux-amd64", file.Platform)
		case seen[file.Platform]:
			return fmt.Errorf("%s stands twice", file.Platform)
		case file.Size < 1 || file.Size > MostProgram:
			return fmt.Errorf("the program for %s has %d bytes; up to %d are taken", file.Platform, file.Size, MostProgram)
		case len(file.SHA256) != 2*sha256.Size:
			return fmt.Errorf("the SHA-256 of the program for %s has no %d digits", file.Platform, 2*sha256.Size)
		}
		seen[file.Platform] = true
	}
	return nil
}

func plain(text string) bool {
	return text != "" && len(text) < 20 && strings.Trim(text, "abcdefghijklmnopqrstuvwxyz0123456789") == ""
}

// NewKey makes the key by which releases are signed.
func NewKey() (jose.JSONWebKey, error) {
	_, private, err := ed25519.GenerateKey(rand.Reader)
	return jose.JSONWebKey{Key: private, Algorithm: string(jose.EdDSA), Use: "sig"}, err
}

// ReadKey reads a key (RFC 7517) for releases, private or public.
func ReadKey(text []byte) (jose.JSONWebKey, error) {
	var key jose.JSONWebKey
	if json.Unmarshal(text, &key) != nil || !key.Valid() || key.Algorithm != string(jose.EdDSA) {
		return key, errors.New("that is no Ed25519 key as a JWK: 'kambrel agent release key' makes one")
	}
	return key, nil
}

// Sign makes the statement of a release, as a JWS (RFC 7515).
func Sign(key jose.JSONWebKey, r Release) (string, error) {
	if err := r.check(); err != nil {
		return "", err
	}
	if key.IsPublic() {
		return "", errors.New("that is the public half of the key, with which nothing can be signed")
	}
	print, err := fingerprint.OfKey(key)
	if err != nil {
		return "", err
	}
	options := (&jose.SignerOptions{}).WithType(statementType).WithHeader("kid", print)
	signer, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.EdDSA, Key: key.Key}, options)
	if err != nil {
		return "", fmt.Errorf("use the release key: %w", err)
	}
	text, err := json.Marshal(r)
	if err != nil {
		return "", err
	}
	signed, err := signer.Sign(text)
	if err != nil {
		return "", fmt.Errorf("sign the release: %w", err)
	}
	return signed.CompactSerialize()
}

// Read tells what a statement says and the thumbprint of the key by which it claims to be
// signed. It does not check the signature: only a host that has the key can.
func Read(statement string) (r Release, by string, err error) {
	signed, err := parse(statement)
	if err != nil {
		return r, "", err
	}
	r, err = said(signed.UnsafePayloadWithoutVerification())
	return r, signed.Signatures[0].Header.KeyID, err
}

// Verify checks that a statement is signed by a key, and returns what it says.
func Verify(statement string, key jose.JSONWebKey) (Release, error) {
	signed, err := parse(statement)
	if err != nil {
		return Release{}, err
	}
	text, err := signed.Verify(key.Public())
	if err != nil {
		return Release{}, errors.New("the release is not signed by the key in the agent's configuration")
	}
	return said(text)
}

func parse(statement string) (*jose.JSONWebSignature, error) {
	if len(statement) > MostStatement {
		return nil, fmt.Errorf("the statement of a release has up to %d bytes", MostStatement)
	}
	signed, err := jose.ParseSignedCompact(strings.TrimSpace(statement), []jose.SignatureAlgorithm{jose.EdDSA})
	if err != nil || len(signed.Signatures) != 1 || signed.Signatures[0].Protected.ExtraHeaders[jose.HeaderType] != statementType {
		return nil, errors.New("that is no statement of a release, as 'kambrel agent release sign' makes it")
	}
	return signed, nil
}

func said(text []byte) (r Release, err error) {
	if err = json.Unmarshal(text, &r); err != nil {
		return r, errors.New("the statement of the release cannot be read")
	}
	return r, r.check()
}
