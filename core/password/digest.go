package password

import (
	"encoding/base64"
	"errors"
	"fmt"
	"strings"

	"golang.org/x/crypto/argon2"
)

// Inner is a password's stored form in a directory: what a digest is made of.
type Inner struct {
	Scheme string // nt, plain, or one of RFC 2307's: sha, ssha, sha256, ssha256, sha512, ssha512
	Salt   []byte // of the stored form, none for most
	Hash   []byte
}

// sizes are how many octets a scheme's hash has.
var sizes = map[string]int{"sha": 20, "ssha": 20, "sha256": 32, "ssha256": 32, "sha512": 64, "ssha512": 64}

// ErrScheme says that no digest can be made of a stored form: its own parameters would be
// needed to sign in.
var ErrScheme = errors.New("stored in a form of which no digest can be made")

// NT is the stored form of a domain controller: the MD4 of the password in UTF-16,
// little-endian ([MS-SAMR] section 2.2.3.3), as unicodePwd holds it.
func NT(stored []byte) (Inner, error) {
	if len(stored) != 16 {
		return Inner{}, ErrScheme
	}
	return Inner{Scheme: "nt", Hash: stored}, nil
}

// UserPassword reads a value of userPassword (RFC 2307 section 5.3): {SCHEME} and base64, or
// the password itself.
func UserPassword(stored []byte) (Inner, error) {
	text := string(stored)
	if !strings.HasPrefix(text, "{") {
		return Inner{Scheme: "plain", Hash: stored}, nil
	}
	name, value, found := strings.Cut(text[1:], "}")
	scheme := strings.ToLower(name)
	size, known := sizes[scheme]
	if !found || !known {
		return Inner{}, fmt.Errorf("{%s}: %w", name, ErrScheme)
	}
	octets, err := base64.StdEncoding.DecodeString(value)
	salted := scheme[0:2] == "ss"
	if err != nil || len(octets) < size || !salted && len(octets) != size {
		return Inner{}, fmt.Errorf("{%s}: %w", name, ErrScheme)
	}
	return Inner{Scheme: scheme, Hash: octets[:size], Salt: octets[size:]}, nil
}

// Work is how hard a digest is to guess: memory in KiB, passes over it, and lanes.
type Work struct {
	Memory uint32 `json:"memory"`
	Passes uint32 `json:"passes"`
	Lanes  uint8  `json:"lanes"`
}

// digestLength is how long a digest is, in octets.
const digestLength = 32

// Digest makes an Argon2id digest (RFC 9106) of a stored form with a salt for the person, as
// a PHC string whose parameters name the inner scheme, and its salt where it has one.
func (i Inner) Digest(salt []byte, w Work) string {
	b64 := base64.RawStdEncoding.EncodeToString
	inner := "inner=" + i.Scheme
	if len(i.Salt) > 0 {
		inner += ",innersalt=" + b64(i.Salt)
	}
	sum := argon2.IDKey(i.Hash, salt, w.Passes, w.Memory, w.Lanes, digestLength)
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d,%s$%s$%s", argon2.Version, w.Memory, w.Passes, w.Lanes, inner, b64(salt), b64(sum))
}
