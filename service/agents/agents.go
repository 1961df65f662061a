// Package agents is which agents there are: how one gets its identity with a one-time
// code, for which directories it may speak, how it proves who it is with each
// request, and how its identity ends. What it is asked is in service/orders.
package agents

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"time"

	"github.com/go-jose/go-jose/v4"
	"github.com/google/uuid"

	"kambrel.example/kambrel/core/about"
	"kambrel.example/kambrel/core/act"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/protocol/release"
	"kambrel.example/kambrel/protocol/wire"
	"kambrel.example/kambrel/service/store"
	"kambrel.example/kambrel/service/views"
)

// codeValid is how long an enrolment code can be used.
const codeValid = time.Hour

// Agents knows the agents. Its methods may be called from many goroutines.
type Agents struct{ store *store.Store }

// New makes one.
func New(s *store.Store) *Agents { return &Agents{store: s} }

// List lists agents and what they serve.
func (a *Agents) List(ctx context.Context) ([]wire.Agent, error) {
	agents, err := a.store.Agents.List(ctx)
	if err != nil {
		return nil, err
	}
	releases, err := a.store.Releases.List(ctx)
	return views.List(agents, func(agent store.Agent) wire.Agent {
		view := views.Agent(agent)
		for _, r := range releases {
			if takesNot(agent, r) == "" && (view.Takes == "" || release.Newer(r.Version, view.Takes)) {
				view.Takes = r.Version
			}
		}
		return view
	}), err
}

// grants is for which directories an agent may speak, as an act notes it.
type grants struct {
	Name        string   `json:"name,omitempty"`
	Directories []string `json:"directories"`
}

// IssueCode issues a one-time code that enrols an agent for directories; it is told
// just now. service is the URL at which the agent will find the service, and authority the
// fingerprint by which it knows the service's own, "" where it has none.
func (a *Agents) IssueCode(ctx context.Context, by, service, authority string, directories []string) (wire.EnrolmentCode, error) {
	if err := checkNames(directories); err != nil {
		return wire.EnrolmentCode{}, err
	}
	code := wire.EnrolmentCode{Code: rand.Text(), Expires: time.Now().Add(codeValid).Truncate(time.Second), Directories: directories}
	code.Command = fmt.Sprintf("kambrel agent enrol --service %s --code %s", service, code.Code)
	if authority != "" {
		code.Command += " --fingerprint " + authority
	}
	return code, a.store.Tx(ctx, func(tx *store.Store) error {
		if err := tx.Agents.AddEnrolment(ctx, code.Code, by, code.Expires, directories); err != nil {
			return err
		}
		return tx.Acts.Record(ctx, act.Act{Kind: act.IssueCode, By: by, About: about.Thing{Type: about.Agent}, After: grants{Directories: directories}})
	})
}

// Grant lets an agent speak for just these directories.
func (a *Agents) Grant(ctx context.Context, by, id string, directories []string) (wire.Agent, error) {
	if err := checkNames(directories); err != nil {
		return wire.Agent{}, err
	}
	var granted store.Agent
	err := a.store.Tx(ctx, func(tx *store.Store) error {
		agent, err := known(ctx, tx, id)
		if err != nil {
			return err
		}
		if _, err := tx.Agents.Grant(ctx, id, directories); err != nil {
			return err
		}
		if granted, err = tx.Agents.Get(ctx, id); err != nil {
			return err
		}
		return tx.Acts.Record(ctx, act.Act{Kind: act.Grant, By: by, About: about.Thing{Type: about.Agent, Key: id}, Before: grants{agent.Name, agent.Granted}, After: grants{agent.Name, directories}})
	})
	return views.Agent(granted), err
}

// Retire ends an agent's identity.
func (a *Agents) Retire(ctx context.Context, by, id string) error {
	return a.store.Tx(ctx, func(tx *store.Store) error {
		agent, err := known(ctx, tx, id)
		if err != nil {
			return err
		}
		if _, err := tx.Agents.Retire(ctx, id); err != nil {
			return err
		}
		return tx.Acts.Record(ctx, act.Act{Kind: act.Retire, By: by, About: about.Thing{Type: about.Agent, Key: id}, Before: grants{agent.Name, agent.Granted}})
	})
}

func known(ctx context.Context, tx *store.Store, id string) (store.Agent, error) {
	agent, err := tx.Agents.Get(ctx, id)
	if store.NotFound(err) {
		err = problem.New(problem.NotFound, "there is no agent %s.", id)
	}
	return agent, err
}

func checkNames(directories []string) error {
	for _, name := range directories {
		if !settings.DirectoryName(name) {
			return problem.New(problem.BadInput, "%q is no name of a directory: use small letters, digits and hyphens.", name)
		}
	}
	return nil
}

// Enrol gives an agent its identity: the code is used up, and the public half of
// its key is kept.
func (a *Agents) Enrol(ctx context.Context, in wire.EnrolRequest) (wire.EnrolResponse, error) {
	var key jose.JSONWebKey
	if err := json.Unmarshal([]byte(in.PublicKey), &key); err != nil || !key.Valid() || !key.IsPublic() || key.Algorithm != string(jose.EdDSA) {
		return wire.EnrolResponse{}, problem.New(problem.BadInput, "publicKey is no JWK of a public Ed25519 key.")
	}
	agent := store.Agent{ID: uuid.NewString(), Name: in.Name, Host: in.Host, PublicKey: in.PublicKey, Directories: []string{}, Enrolled: time.Now()}
	err := a.store.Tx(ctx, func(tx *store.Store) error {
		found, used, err := tx.Agents.UseEnrolment(ctx, in.Code)
		switch {
		case err != nil:
			return err
		case used:
			agent.Granted = found.Directories
		case found.Used != nil:
			return problem.New(problem.EnrolmentCodeRefused, "it was used already, at %s.", found.Used.Format(time.RFC3339))
		case !found.Expires.IsZero():
			return problem.New(problem.EnrolmentCodeRefused, "it expired at %s.", found.Expires.Format(time.RFC3339))
		default:
			return problem.New(problem.EnrolmentCodeRefused, "it was never issued.")
		}
		agents, err := tx.Agents.List(ctx)
		if err != nil {
			return err
		}
		for _, other := range agents {
			if other.Name == in.Name {
				return problem.New(problem.BadInput, "there is an agent called %s already: choose another --name, or retire it first.", in.Name)
			}
		}
		if err := tx.Agents.Save(ctx, &agent); err != nil {
			return err
		}
		return tx.Acts.Record(ctx, act.Act{Kind: act.Enrol, By: "agent " + in.Name, About: about.Thing{Type: about.Agent, Key: agent.ID}, After: grants{in.Name, agent.Granted}, Note: "host " + in.Host})
	})
	return wire.EnrolResponse{AgentID: agent.ID}, err
}
