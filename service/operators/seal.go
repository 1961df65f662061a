package operators

import (
	"context"
	"encoding/json"
	"slices"

	"github.com/go-jose/go-jose/v4"

	"kambrel.example/kambrel/core/problem"
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
	var identity jose.JSONWebKey
	if json.Unmarshal([]byte(agent.PublicKey), &identity) != nil {
		return identity, false
	}
	return events.StatedKey(agent.Keys[directory], directory, identity)
}
