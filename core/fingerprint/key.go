package fingerprint

import (
	"crypto"
	"encoding/base64"

	"github.com/go-jose/go-jose/v4"
)

// OfKey is the thumbprint of a key (RFC 7638), by which people compare it.
func OfKey(key jose.JSONWebKey) (string, error) {
	sum, err := key.Thumbprint(crypto.SHA256)
	return base64.RawURLEncoding.EncodeToString(sum), err
}
