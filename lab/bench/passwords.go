package main

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"path/filepath"
	"slices"
	"strconv"
	"time"

	"github.com/go-ldap/ldap/v3"

	"kambrel.example/kambrel/agent"
	"kambrel.example/kambrel/core/entry"
	policy "kambrel.example/kambrel/core/password"
	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/lab/servers"
	"kambrel.example/kambrel/protocol/wire"
)

// resets is how many people reset their password, one after another.
const resets = 100

// slow is the time within which 95 of 100 are.
func slow(times []float64) float64 {
	slices.Sort(times)
	return times[len(times)*95/100]
}

// slowOf is the same of measuring something so many times.
func slowOf(many int, measure func(i int) (float64, error)) (float64, error) {
	times := make([]float64, many)
	for i := range times {
		var err error
		if times[i], err = measure(i); err != nil {
			return 0, err
		}
	}
	return slow(times), nil
}

// trust lets agent and stand-in know each other's keys.
func (s *stage) trust(ctx context.Context) error {
	file := filepath.Join(s.lab.Dir, "agent.yaml")
	config, err := agent.Load(file)
	if err != nil {
		return err
	}
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, s.cloud.KeySet(), nil)
	if err != nil {
		return err
	}
	response, err := http.DefaultClient.Do(request)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	keys, err := io.ReadAll(response.Body)
	if err != nil {
		return err
	}
	trusted, _, err := agent.Trust(s.cloud.Base, "", keys)
	if err != nil {
		return err
	}
	config.Cloud = &trusted
	identity, _, _, err := agent.Keys(config, file, false)
	if err != nil {
		return err
	}
	if err := s.cloud.LetIn("brisling", identity); err != nil {
		return err
	}
	return config.Save(file)
}

// takePasswords switches the way on, for the first people alone, so that the cloud need not
// be told of everybody where they come from.
func (s *stage) takePasswords(ctx context.Context) error {
	if err := s.trust(ctx); err != nil {
		return err
	}
	revision, err := s.client.Settings(ctx)
	if err != nil {
		return err
	}
	d := revision.Document
	d.Directories[0].Features = []entry.Feature{entry.FeatureResetPasswords}
	first := fmt.Sprintf(`entry.uid < "crew%06d"`, resets)
	d.Users.Rules = append(d.Users.Rules, settings.Rule{Target: policy.OriginURN + ":directory", Formula: "directory", When: first}, settings.Rule{Target: policy.OriginURN + ":entry", Formula: "id", When: first})
	d.Passwords.PerPerson, d.Passwords.All = &settings.Rate{Number: 100_000, Within: "1m"}, &settings.Rate{Number: 100_000, Within: "1m"}
	text, err := d.YAML()
	if err != nil {
		return err
	}
	if _, err = s.client.Activate(ctx, wire.ActivateSettings{YAML: string(text)}); err != nil {
		return err
	}
	if _, err := s.sync(ctx, wire.NewRun{Purpose: purpose.Sync}, resets); err != nil {
		return err
	}
	for ctx.Err() == nil {
		state, err := s.client.PasswordsState(ctx)
		if err != nil || state.State == "open" {
			return err
		}
		time.Sleep(100 * time.Millisecond)
	}
	return ctx.Err()
}

// reset resets somebody's password in the cloud and waits for the answer.
func (s *stage) reset(ctx context.Context, i int) (float64, error) {
	return timed(func() error {
		var said struct {
			Done           bool
			Code, Sentence string
		}
		control := &servers.Cloud{URL: s.cloud.Control, Token: s.cloud.Token}
		err := send(ctx, control, http.MethodPost, "/passwords", map[string]any{"login": fmt.Sprintf("crew%06d@brisling.example", i%resets), "act": "reset", "new": "Otter-Bay-" + strconv.Itoa(i)}, &said)
		if err == nil && !said.Done {
			err = fmt.Errorf("the password was not set: %s: %s", said.Code, said.Sentence)
		}
		return err
	})
}

// passwords are resets while nothing else goes on.
func (s *stage) passwords(ctx context.Context) (float64, error) {
	if err := s.takePasswords(ctx); err != nil {
		return 0, err
	}
	return slowOf(resets, func(i int) (float64, error) { return s.reset(ctx, i) })
}

// passwordsBeside are resets while everybody is read and compared.
func (s *stage) passwordsBeside(ctx context.Context) (float64, error) {
	run, err := s.client.StartRun(ctx, wire.NewRun{Purpose: purpose.Full})
	if err != nil {
		return 0, err
	}
	var times []float64
	for {
		took, err := s.reset(ctx, len(times))
		if err != nil {
			return 0, err
		}
		times = append(times, took)
		if run, err = s.client.Run(ctx, run.ID); err != nil {
			return 0, err
		}
		if run.State.Ended() {
			break
		}
	}
	if run.State != progress.InStep {
		return 0, fmt.Errorf("run %d is %s", run.ID, run.State)
	}
	return slow(times), nil
}

// rawPasswords are the same resets at the directory itself (RFC 3062).
func (s *stage) rawPasswords(context.Context) (float64, error) {
	times := make([]float64, resets)
	for i := range times {
		var err error
		if times[i], err = timed(func() error {
			_, err := s.ldap.PasswordModify(ldap.NewPasswordModifyRequest(fmt.Sprintf("cn=Crew %06d,%s", i, people), "", "Otter-Bay-x"+strconv.Itoa(i)))
			return err
		}); err != nil {
			return 0, err
		}
	}
	return slow(times), nil
}
