package standin

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"crypto/subtle"
	"encoding/base64"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"strings"
	"unicode/utf16"

	"github.com/go-jose/go-jose/v4"
	"github.com/gofiber/fiber/v2"
	"golang.org/x/crypto/argon2"

	//lint:ignore SA1019 what a domain controller keeps is made with it
	"golang.org/x/crypto/md4"

	"kambrel.example/kambrel/core/fingerprint"
	"kambrel.example/kambrel/protocol/events"
	"kambrel.example/kambrel/protocol/scim"
)

// kept is the digest of somebody's password in a directory.
type kept struct {
	Digest string `json:"digest"`
	Made   int64  `json:"made"`
}

// newSealKey makes the key for which digests are sealed.
func newSealKey() (jose.JSONWebKey, error) {
	made, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return jose.JSONWebKey{}, err
	}
	key := jose.JSONWebKey{Key: made, Algorithm: string(jose.ECDH_ES_A256KW), Use: "enc"}
	key.KeyID, err = fingerprint.OfKey(key)
	return key, err
}

// digestOnly tells a PATCH that is about a digest alone, which is written and never read, so
// that the resource itself stays as it is.
func digestOnly(operations []scim.PatchOperation) bool {
	return len(operations) == 1 && strings.EqualFold(operations[0].Path, events.DigestURN+":sealed")
}

func (s *Server) setDigest(c *fiber.Ctx, operation scim.PatchOperation) error {
	who, found := s.store.personOf(c.Params("id"))
	if !found {
		return refuse(c, &failure{404, "", "there is no resource " + c.Params("id")})
	}
	if strings.EqualFold(operation.Op, "remove") {
		if err := s.people.setDigest(who.id, kept{}); err != nil {
			return err
		}
		return c.SendStatus(fiber.StatusNoContent)
	}
	var text string
	if json.Unmarshal(operation.Value, &text) != nil {
		return refuse(c, invalidValue("the digest is a text"))
	}
	digest, f := s.unseal(who, text)
	if f != nil {
		return refuse(c, f)
	}
	if err := s.people.setDigest(who.id, digest); err != nil {
		return err
	}
	return c.SendStatus(fiber.StatusNoContent)
}

// unseal opens a digest that was sealed for this cloud and this person.
func (s *Server) unseal(who person, text string) (kept, *failure) {
	sealed, err := jose.ParseEncryptedJSON(text, []jose.KeyAlgorithm{jose.ECDH_ES_A256KW}, []jose.ContentEncryption{jose.A256GCM})
	if err != nil {
		return kept{}, invalidValue("the digest is not sealed as it should be")
	}
	var bound events.DigestBinding
	if json.Unmarshal(sealed.GetAuthData(), &bound) != nil || bound.Directory != who.directory || bound.Entry != who.entry {
		return kept{}, invalidValue("the digest is of somebody else")
	}
	plain, err := sealed.Decrypt(s.sealKey.Key)
	if err != nil {
		return kept{}, invalidValue("the digest was sealed for another key")
	}
	if bound.Made <= s.people.madeOf(who.id) {
		return kept{}, invalidValue("there is a newer digest")
	}
	return kept{string(plain), bound.Made}, nil
}

// signs tells whether a password is the one of which a digest was made.
func (k kept) signs(text string) bool {
	parts := strings.Split(k.Digest, "$")
	if len(parts) != 6 || parts[1] != "argon2id" {
		return false
	}
	values := map[string]string{}
	for _, one := range strings.Split(parts[3], ",") {
		name, value, _ := strings.Cut(one, "=")
		values[name] = value
	}
	var memory, passes uint32
	var lanes uint8
	if _, err := fmt.Sscan(values["m"], &memory); err != nil {
		return false
	}
	if _, err := fmt.Sscan(values["t"], &passes); err != nil {
		return false
	}
	if _, err := fmt.Sscan(values["p"], &lanes); err != nil {
		return false
	}
	raw := base64.RawStdEncoding
	inner, err := raw.DecodeString(values["innersalt"])
	salt, err2 := raw.DecodeString(parts[4])
	want, err3 := raw.DecodeString(parts[5])
	if err != nil || err2 != nil || err3 != nil || len(want) == 0 {
		return false
	}
	stored := storedForm(values["inner"], text, inner)
	return stored != nil && subtle.ConstantTimeCompare(argon2.IDKey(stored, salt, passes, memory, lanes, uint32(len(want))), want) == 1
}

// storedForm is how a directory keeps a password by a scheme.
func storedForm(scheme, text string, salt []byte) []byte {
	salted := append([]byte(text), salt...)
	switch scheme {
	case "nt":
		hash := md4.New()
		for _, unit := range utf16.Encode([]rune(text)) {
			_ = binary.Write(hash, binary.LittleEndian, unit)
		}
		return hash.Sum(nil)
	case "plain":
		return []byte(text)
	case "sha", "ssha":
		sum := sha1.Sum(salted)
		return sum[:]
	case "sha256", "ssha256":
		sum := sha256.Sum256(salted)
		return sum[:]
	case "sha512", "ssha512":
		sum := sha512.Sum512(salted)
		return sum[:]
	}
	return nil
}
