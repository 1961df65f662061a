package agent

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"time"

	"github.com/go-jose/go-jose/v4"

	"kambrel.example/kambrel/core/fingerprint"
	"kambrel.example/kambrel/core/logkey"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/rest"
	"kambrel.example/kambrel/protocol/release"
	"kambrel.example/kambrel/protocol/wire"
)

// askProgram is how often an agent that may update itself asks whether it is to.
const askProgram = 3 * time.Second

// Updates lets an agent take newer programs from its service. The key is the public half of
// the one by which they are signed, as a JWK; the service cannot put another in its place.
type Updates struct {
	Key string `yaml:"key"`
}

// key is the one by which newer programs are known; false where none are taken.
func (u *Updates) key() (key jose.JSONWebKey, taken bool, err error) {
	if u == nil {
		return key, false, nil
	}
	if key, err = release.ReadKey([]byte(u.Key)); err != nil {
		return key, false, problem.New(problem.BadInput, "updates: key: %s", err)
	}
	return key, true, nil
}

// print is the thumbprint of the key, "" where no newer programs are taken.
func (u *Updates) print() (string, error) {
	key, taken, err := u.key()
	if err != nil || !taken {
		return "", err
	}
	return fingerprint.OfKey(key)
}

// AllowUpdates lets the agent of a configuration take what is signed by a key (JWK), of which
// only the public half is kept, and returns its thumbprint.
func (c *Config) AllowUpdates(text []byte) (string, error) {
	key, err := release.ReadKey(text)
	if err != nil {
		return "", problem.New(problem.BadInput, "%s", err)
	}
	public, err := json.Marshal(key.Public())
	if err != nil {
		return "", err
	}
	c.Updates = &Updates{Key: string(public)}
	return c.Updates.print()
}

// errNewer ends an agent that has laid a newer program down.
var errNewer = errors.New("a newer program is to go on")

// update asks for a newer program every so often, while the host takes any. It ends with
// errNewer once there is one.
func (a *Agent) update(ctx context.Context) error {
	if a.file == "" {
		return nil
	}
	for ctx.Err() == nil {
		switch err := a.updateOnce(ctx); {
		case errors.Is(err, errNewer), errors.Is(err, errRetired):
			return err
		case err != nil && ctx.Err() == nil:
			slog.Debug("ask for a newer program", logkey.Error, err)
		}
		_ = rest.For(ctx, askProgram)
	}
	return nil
}

func (a *Agent) updateOnce(ctx context.Context) error {
	config, err := a.now()
	if err != nil {
		return err
	}
	key, taken, err := config.Updates.key()
	if err != nil || !taken {
		return err
	}
	kept := programsOf(a.file)
	body, err := json.Marshal(wire.ProgramAsked{Version: a.version, Failed: kept.failed()})
	if err != nil {
		return err
	}
	response, err := a.do(ctx, http.MethodPost, "/api/v1/agent/program", body)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	if response.StatusCode == http.StatusNoContent {
		return nil
	}
	var offer wire.ProgramOffered
	if err := json.NewDecoder(io.LimitReader(response.Body, 2*release.MostStatement)).Decode(&offer); err != nil {
		return fmt.Errorf("read what is offered: %w", err)
	}
	// By its form alone; who says so is checked before anything is fetched.
	offered, _, err := release.Read(offer.Statement)
	if err != nil {
		return err
	}
	if err := kept.forgive(offered.Version); err != nil {
		return err
	}
	if err := a.take(ctx, kept, key, offer.Statement); err != nil {
		slog.Warn("take a newer program", logkey.Version, offered.Version, logkey.Error, err)
		kept.fail(offered.Version, err.Error())
		return err
	}
	slog.Info("a newer program takes over", logkey.Version, offered.Version)
	return errNewer
}

// take fetches a program and lays it down, if it is signed for this host and is newer.
func (a *Agent) take(ctx context.Context, kept programs, key jose.JSONWebKey, statement string) error {
	signed, err := release.Verify(statement, key)
	if err != nil {
		return err
	}
	if !release.Newer(signed.Version, a.version) {
		return fmt.Errorf("%s is not newer than %s, which runs", signed.Version, a.version)
	}
	file, found := signed.For(release.Platform())
	if !found {
		return fmt.Errorf("release %s has no program for %s", signed.Version, release.Platform())
	}
	response, err := a.do(ctx, http.MethodGet, fmt.Sprintf("/api/v1/agent/programs/%s/%s", signed.Version, file.Platform), nil)
	if err != nil {
		return fmt.Errorf("fetch the program: %w", err)
	}
	defer response.Body.Close()
	var text bytes.Buffer
	if _, err := io.Copy(&text, io.LimitReader(response.Body, file.Size+1)); err != nil {
		return fmt.Errorf("fetch the program: %w", err)
	}
	if err := file.Matches(text.Bytes()); err != nil {
		return err
	}
	return kept.keep(signed.Version, statement, text.Bytes(), a.version)
}
