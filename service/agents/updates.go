package agents

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"kambrel.example/kambrel/core/about"
	"kambrel.example/kambrel/core/act"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/protocol/release"
	"kambrel.example/kambrel/protocol/wire"
	"kambrel.example/kambrel/service/store"
	"kambrel.example/kambrel/service/views"
)

const (
	// lateAfter is after how long an agent that was offered a program, and has not come back
	// by it, counts as one that failed. The agent itself gives the program a minute.
	lateAfter = 3 * time.Minute
	// settling is for how long one agent shows that it is well before the next has its turn.
	settling = 20 * time.Second
)

// updated is the version of an agent, as an act notes it.
type updated struct {
	Name    string `json:"name"`
	Version string `json:"version"`
}

// Update has agents go on by a version, one after the other; without ids all that take it.
// Those that are named and cannot take it are an error that says why.
func (a *Agents) Update(ctx context.Context, by, version string, ids []string) ([]wire.Agent, error) {
	wanted := []store.Agent{}
	err := a.store.Tx(ctx, func(tx *store.Store) error {
		known, err := knownRelease(ctx, tx, version)
		if err != nil {
			return err
		}
		agents, err := tx.Agents.ForUpdate(ctx)
		if err != nil {
			return err
		}
		var refused []string
		for _, agent := range agents {
			if len(ids) > 0 && !slices.Contains(ids, agent.ID) {
				continue
			}
			if why := takesNot(agent, known); why != "" {
				refused = append(refused, why)
				continue
			}
			now := time.Now()
			agent.UpdateTo, agent.UpdateState, agent.UpdateSince, agent.UpdateBy, agent.UpdateDetail = version, wire.UpdateWaits, &now, by, ""
			wanted = append(wanted, agent)
		}
		switch {
		case len(wanted)+len(refused) < len(ids):
			return problem.New(problem.NotFound, "some of these agents are not there any more.")
		case len(refused) > 0 && (len(ids) > 0 || len(wanted) == 0):
			return problem.New(problem.BadInput, "%s.", strings.Join(refused, "; "))
		case len(wanted) == 0:
			return problem.New(problem.BadInput, "no agent is enrolled.")
		}
		for _, agent := range wanted {
			if err := tx.Agents.SetUpdate(ctx, agent); err != nil {
				return err
			}
			if err := tx.Acts.Record(ctx, act.Act{Kind: act.UpdateAgent, By: by, About: about.Thing{Type: about.Agent, Key: agent.ID}, Before: updated{agent.Name, agent.Version}, After: updated{agent.Name, version}}); err != nil {
				return err
			}
		}
		return nil
	})
	return views.List(wanted, views.Agent), err
}

// takesNot says why an agent cannot go on by a release, "" where it can.
func takesNot(agent store.Agent, r store.Release) string {
	switch {
	case agent.Platform == "":
		return agent.Name + " is older than these updates, or has not said anything yet: install its next version on its host"
	case agent.Updates == "":
		return fmt.Sprintf("the host of %s takes no programs from the service: 'kambrel agent allow-updates --key FILE' there lets it", agent.Name)
	case agent.Updates != r.Key:
		return fmt.Sprintf("%s takes what is signed by %s, and release %s says that it is signed by %s", agent.Name, agent.Updates, r.Version, r.Key)
	case !here(r, agent.Platform):
		return fmt.Sprintf("release %s has no program here for %s, which %s needs", r.Version, agent.Platform, agent.Name)
	case agent.UpdateState == wire.UpdateOffered:
		return fmt.Sprintf("%s is just going on by %s", agent.Name, agent.UpdateTo)
	case !release.Newer(r.Version, agent.Version):
		return fmt.Sprintf("%s runs %s already, and %s is not newer", agent.Name, agent.Version, r.Version)
	}
	return ""
}

// KeepVersion has an agent stay at the version that it runs.
func (a *Agents) KeepVersion(ctx context.Context, by, id string) (wire.Agent, error) {
	var agent store.Agent
	err := a.store.Tx(ctx, func(tx *store.Store) error {
		if _, err := tx.Agents.ForUpdate(ctx); err != nil {
			return err
		}
		var err error
		if agent, err = known(ctx, tx, id); err != nil {
			return err
		}
		switch agent.UpdateState {
		case "":
			return problem.New(problem.BadInput, "%s runs %s, and is to go on by no other version.", agent.Name, agent.Version)
		case wire.UpdateOffered:
			return problem.New(problem.BadInput, "%s is just going on by %s: look again in a minute.", agent.Name, agent.UpdateTo)
		}
		before := updated{agent.Name, agent.UpdateTo}
		agent.UpdateTo, agent.UpdateState, agent.UpdateSince, agent.UpdateBy, agent.UpdateDetail = "", "", nil, "", ""
		if err := tx.Agents.SetUpdate(ctx, agent); err != nil {
			return err
		}
		return tx.Acts.Record(ctx, act.Act{Kind: act.KeepAgent, By: by, About: about.Thing{Type: about.Agent, Key: id}, Before: before, After: updated{agent.Name, agent.Version}})
	})
	return views.Agent(agent), err
}

// AskProgram answers an agent that asks for a newer program: with one when it has its turn. One
// agent goes on at a time, the next when it has shown that it is well, and none after one that
// failed.
func (a *Agents) AskProgram(ctx context.Context, agent store.Agent, asked wire.ProgramAsked) (offer wire.ProgramOffered, offered bool, err error) {
	if agent.UpdateTo == "" || agent.UpdateState == wire.UpdateFailed && asked.Version != agent.UpdateTo {
		return offer, false, nil
	}
	err = a.store.Tx(ctx, func(tx *store.Store) error {
		agents, err := tx.Agents.ForUpdate(ctx)
		if err != nil {
			return err
		}
		at := slices.IndexFunc(agents, func(other store.Agent) bool { return other.ID == agent.ID })
		if at < 0 || agents[at].UpdateTo == "" {
			return nil
		}
		agent = agents[at]
		switch failed := asked.Failed; {
		case asked.Version == agent.UpdateTo || release.Newer(asked.Version, agent.UpdateTo):
			return came(ctx, tx, agent, asked.Version)
		case agent.UpdateState == wire.UpdateOffered && failed != nil && failed.Version == agent.UpdateTo:
			return failedAt(ctx, tx, agent, failed.Detail)
		case agent.UpdateState == wire.UpdateOffered && time.Since(*agent.UpdateSince) > lateAfter:
			return failedAt(ctx, tx, agent, late)
		case agent.UpdateState == wire.UpdateWaits:
			turn, err := hasTurn(ctx, tx, agent, agents)
			if err != nil || !turn {
				return err
			}
			now := time.Now()
			agent.UpdateState, agent.UpdateSince = wire.UpdateOffered, &now
			if err := tx.Agents.SetUpdate(ctx, agent); err != nil {
				return err
			}
		}
		if agent.UpdateState != wire.UpdateOffered {
			return nil
		}
		known, err := knownRelease(ctx, tx, agent.UpdateTo)
		offer.Statement, offered = known.Statement, err == nil
		return err
	})
	return offer, offered && err == nil, err
}

var late = fmt.Sprintf("it was given the program and did not come back by it within %s", lateAfter)

// hasTurn tells whether an agent may go on now, by how the others are.
func hasTurn(ctx context.Context, tx *store.Store, agent store.Agent, agents []store.Agent) (bool, error) {
	for _, other := range agents {
		switch {
		case other.ID == agent.ID:
		case other.UpdateState == wire.UpdateOffered && time.Since(*other.UpdateSince) > lateAfter:
			return false, failedAt(ctx, tx, other, late)
		case other.UpdateState == wire.UpdateOffered,
			other.UpdateState == wire.UpdateFailed && other.UpdateTo == agent.UpdateTo,
			other.UpdateTo == "" && other.UpdateSince != nil && time.Since(*other.UpdateSince) < settling:
			return false, nil
		}
	}
	return true, nil
}

// came notes that an agent runs the version that it was to go on by.
func came(ctx context.Context, tx *store.Store, agent store.Agent, version string) error {
	now := time.Now()
	agent.Version, agent.UpdateTo, agent.UpdateState, agent.UpdateSince, agent.UpdateBy, agent.UpdateDetail = version, "", "", &now, "", ""
	if err := tx.Agents.SetUpdate(ctx, agent); err != nil {
		return err
	}
	return tx.Acts.Record(ctx, act.Act{Kind: act.AgentUpdated, By: "agent " + agent.Name, About: about.Thing{Type: about.Agent, Key: agent.ID}, After: updated{agent.Name, version}})
}

func failedAt(ctx context.Context, tx *store.Store, agent store.Agent, why string) error {
	now := time.Now()
	agent.UpdateState, agent.UpdateSince, agent.UpdateDetail = wire.UpdateFailed, &now, why
	if err := tx.Agents.SetUpdate(ctx, agent); err != nil {
		return err
	}
	return tx.Acts.Record(ctx, act.Act{Kind: act.AgentUpdated, By: "agent " + agent.Name, About: about.Thing{Type: about.Agent, Key: agent.ID}, Before: updated{agent.Name, agent.Version}, After: updated{agent.Name, agent.UpdateTo}, Result: act.Failed, Note: why})
}
