package operators

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"github.com/go-jose/go-jose/v4"

	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/secret"
	"kambrel.example/kambrel/protocol/events"
	"kambrel.example/kambrel/service/store"
)

// keysOf are the agents that may answer for a directory, and the keys for which passwords are
// sealed so that they alone can open them.
func (o *Operators) keysOf(ctx context.Context, directory string) (agents []string, keys []jose.JSONWebKey, err error) {
	list, err := o.store.Agents.List(ctx)
	if err != nil {
		return nil, nil, err
	}
	serving := false
	for _, agent := range list {
		if !slices.Contains(agent.Serves(), directory) {
			continue
		}
		serving = true
		if key, ok := statedKey(agent, directory); ok {
			agents, keys = append(agents, agent.ID), append(keys, key)
		}
	}
	switch {
	case !serving:
		return nil, nil, problem.New(problem.DirectoryNotServed, "no agent has %s in its configuration", directory)
	case len(keys) == 0:
		return nil, nil, problem.New(problem.AgentOffline, "no agent of %s has told its key for passwords: it is older than the service", directory)
	}
	return agents, keys, nil
}

// statedKey is what an agent has signed that it opens passwords with.
func statedKey(agent store.Agent, directory string) (jose.JSONWebKey, bool) {
	var identity, key jose.JSONWebKey
	if json.Unmarshal([]byte(agent.PublicKey), &identity) != nil {
		return key, false
	}
	signed, err := jose.ParseSignedCompact(agent.Keys[directory], []jose.SignatureAlgorithm{jose.EdDSA})
	if err != nil {
		return key, false
	}
	payload, err := signed.Verify(identity)
	var said events.Statement
	if err != nil || json.Unmarshal(payload, &said) != nil || said.Directory != directory || json.Unmarshal(said.Key, &key) != nil {
		return key, false
	}
	return key, key.Valid() && key.IsPublic()
}

// sealedLength is how long the plaintext is at least, so that it does not tell how long a
// password is.
const sealedLength = 512

// seal encrypts a password for keys (RFC 7516), bound to what it may serve for.
func seal(keys []jose.JSONWebKey, binding any, password secret.Text) (json.RawMessage, error) {
	recipients := make([]jose.Recipient, len(keys))
	for i, key := range keys {
		recipients[i] = jose.Recipient{Algorithm: jose.ECDH_ES_A256KW, Key: key.Key, KeyID: key.KeyID}
	}
	encrypter, err := jose.NewMultiEncrypter(jose.A256GCM, recipients, nil)
	if err != nil {
		return nil, fmt.Errorf("seal for the agents: %w", err)
	}
	inside := events.Secret{Password: password.Reveal()}
	inside.Padding = strings.Repeat(" ", max(0, sealedLength-len(inside.Password)))
	plain, err := json.Marshal(inside)
	if err != nil {
		return nil, err
	}
	bound, err := json.Marshal(binding)
	if err != nil {
		return nil, err
	}
	sealed, err := encrypter.EncryptWithAuthData(plain, bound)
	if err != nil {
		return nil, fmt.Errorf("seal for the agents: %w", err)
	}
	return json.RawMessage(sealed.FullSerialize()), nil
}
