package events

import (
	"encoding/json"
	"strings"

	"github.com/go-jose/go-jose/v4"
)

// sealedLength is how long the plaintext of an envelope is at least, in octets.
const sealedLength = 512

// Seal encrypts a password for the agents of a directory (RFC 7516); binding is the additional
// authenticated data, what it may serve for.
func Seal(keys []jose.JSONWebKey, binding any, secret Secret) (json.RawMessage, error) {
	recipients := make([]jose.Recipient, len(keys))
	for i, key := range keys {
		recipients[i] = jose.Recipient{Algorithm: jose.ECDH_ES_A256KW, Key: key.Key, KeyID: key.KeyID}
	}
	encrypter, err := jose.NewMultiEncrypter(jose.A256GCM, recipients, nil)
	if err != nil {
		return nil, err
	}
	plain, err := json.Marshal(secret)
	if err != nil {
		return nil, err
	}
	if short := sealedLength - len(plain); short > 0 {
		secret.Padding = strings.Repeat(" ", short)
		if plain, err = json.Marshal(secret); err != nil {
			return nil, err
		}
	}
	bound, err := json.Marshal(binding)
	if err != nil {
		return nil, err
	}
	sealed, err := encrypter.EncryptWithAuthData(plain, bound)
	if err != nil {
		return nil, err
	}
	return json.RawMessage(sealed.FullSerialize()), nil
}

// StatedKey is the key of a Statement for a directory; false when the identity has not signed
// it.
func StatedKey(statement, directory string, identity jose.JSONWebKey) (jose.JSONWebKey, bool) {
	var key jose.JSONWebKey
	signed, err := jose.ParseSignedCompact(statement, []jose.SignatureAlgorithm{jose.EdDSA})
	if err != nil {
		return key, false
	}
	payload, err := signed.Verify(identity)
	var said Statement
	if err != nil || json.Unmarshal(payload, &said) != nil || said.Directory != directory || json.Unmarshal(said.Key, &key) != nil {
		return jose.JSONWebKey{}, false
	}
	return key, key.Valid() && key.IsPublic()
}
