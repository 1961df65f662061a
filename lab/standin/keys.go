package standin

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/go-jose/go-jose/v4"
	"github.com/gofiber/fiber/v2"

	"kambrel.example/kambrel/core/fingerprint"
	"kambrel.example/kambrel/protocol/events"
)

// signingKey reads the key by which events are signed from the folder, or makes it.
func signingKey(dir string) (jose.JSONWebKey, error) {
	return keptKey(dir, "signing.jwk", func() (jose.JSONWebKey, error) {
		made, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		if err != nil {
			return jose.JSONWebKey{}, err
		}
		key := jose.JSONWebKey{Key: made, Algorithm: string(jose.ES256), Use: "sig"}
		key.KeyID, err = fingerprint.OfKey(key)
		return key, err
	})
}

// keptKey reads a key from the folder, or makes it; "" keeps nothing.
func keptKey(dir, name string, make func() (jose.JSONWebKey, error)) (jose.JSONWebKey, error) {
	var key jose.JSONWebKey
	file := filepath.Join(dir, name)
	if dir != "" {
		text, err := os.ReadFile(file)
		if err == nil {
			return key, json.Unmarshal(text, &key)
		}
		if !errors.Is(err, os.ErrNotExist) {
			return key, err
		}
	}
	key, err := make()
	if err != nil || dir == "" {
		return key, err
	}
	text, err := json.Marshal(key)
	if err != nil {
		return key, err
	}
	return key, os.WriteFile(file, text, 0o600)
}

// keySet shows the public half.
func (s *Server) keySet(c *fiber.Ctx) error {
	return c.JSON(jose.JSONWebKeySet{Keys: []jose.JSONWebKey{s.signing.Public(), s.sealKey.Public()}})
}

// trusted are the identities of agents that somebody who runs this cloud has let in, by
// directory: a line for each in the file, with the directory and the thumbprint.
func (s *Server) trusted(directory string) (map[string]bool, error) {
	known := map[string]bool{}
	if s.options.AgentsFile == "" {
		return known, nil
	}
	text, err := os.ReadFile(s.options.AgentsFile)
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return nil, fmt.Errorf("read which agents are trusted: %w", err)
	}
	for line := range strings.Lines(string(text)) {
		if fields := strings.Fields(line); len(fields) == 2 && fields[0] == directory {
			known[fields[1]] = true
		}
	}
	return known, nil
}

// recipients are the keys for which a password for a directory is sealed: those of which an
// agent that is trusted has said that they are its own.
func (s *Server) recipients(directory string) ([]jose.JSONWebKey, error) {
	trusted, err := s.trusted(directory)
	if err != nil {
		return nil, err
	}
	var keys []jose.JSONWebKey
	for _, text := range s.store.statements(directory) {
		if key, ok := sealing(text, directory, trusted); ok {
			keys = append(keys, key)
		}
	}
	return keys, nil
}

// accepted are the ids of the keys of a key set for which passwords are sealed.
func (s *Server) accepted(set map[string]any) []string {
	directory, _ := set["directory"].(string)
	ids := []string{}
	trusted, err := s.trusted(directory)
	if err != nil {
		return ids
	}
	for _, text := range statementsOf(set) {
		if key, ok := sealing(text, directory, trusted); ok {
			ids = append(ids, key.KeyID)
		}
	}
	return ids
}

// sealing reads the key of a statement; false when it is not to be believed.
func sealing(text, directory string, trusted map[string]bool) (jose.JSONWebKey, bool) {
	signed, err := jose.ParseSignedCompact(text, []jose.SignatureAlgorithm{jose.EdDSA})
	if err != nil || len(signed.Signatures) != 1 || signed.Signatures[0].Header.JSONWebKey == nil {
		return jose.JSONWebKey{}, false
	}
	identity := *signed.Signatures[0].Header.JSONWebKey
	print, err := fingerprint.OfKey(identity)
	if err != nil || !trusted[print] {
		return jose.JSONWebKey{}, false
	}
	return events.StatedKey(text, directory, identity)
}
