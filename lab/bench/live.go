package main

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"time"

	"github.com/go-ldap/ldap/v3"

	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/protocol/wire"
)

const (
	livePeople  = 40
	liveLongest = 60 * time.Second
)

// watch switches live changes on, or off again, and waits until an agent watches.
func (s *stage) watch(ctx context.Context, live string) error {
	if _, err := s.client.EditDraft(ctx, func(d *settings.Document) error {
		d.Schedule.Live = live
		return nil
	}); err != nil {
		return err
	}
	draft, err := s.client.Draft(ctx)
	if err != nil {
		return err
	}
	if _, err := s.client.ActivateDraft(ctx, wire.ActivateDraft{Version: draft.Version}); err != nil {
		return err
	}
	for deadline := time.Now().Add(liveLongest); time.Now().Before(deadline); time.Sleep(100 * time.Millisecond) {
		agents, err := s.client.Agents(ctx)
		if err != nil {
			return err
		}
		watched := len(agents) > 0 && slices.ContainsFunc(agents[0].Watches, func(w wire.Watch) bool { return w.State == wire.Watched })
		if watched == (live == "on") {
			return nil
		}
	}
	return fmt.Errorf("the agent does not see that live is %s", live)
}

// arrival changes somebody's title in the directory, and tells after how long the cloud has it.
func (s *stage) arrival(ctx context.Context, i int) (float64, error) {
	s.edits++
	title, login := fmt.Sprintf("Bosun %d", s.edits), fmt.Sprintf("crew%06d@brisling.example", i)
	request := ldap.NewModifyRequest(fmt.Sprintf("cn=Crew %06d,%s", i, people), nil)
	request.Replace("title", []string{title})
	return timed(func() error {
		if err := s.ldap.Modify(request); err != nil {
			return err
		}
		query := url.Values{"filter": {`userName eq "` + login + `"`}, "attributes": {"title"}}.Encode()
		for deadline := time.Now().Add(liveLongest); time.Now().Before(deadline); time.Sleep(5 * time.Millisecond) {
			var found struct{ Resources []struct{ Title string } }
			if err := send(ctx, s.cloud, http.MethodGet, "/Users?"+query, nil, &found); err != nil {
				return err
			}
			if len(found.Resources) == 1 && found.Resources[0].Title == title {
				return nil
			}
		}
		return errors.New("the change does not arrive")
	})
}

// live is within which time 95 of 100 changes are in the cloud.
func (s *stage) live(ctx context.Context) (float64, error) {
	if err := s.watch(ctx, "on"); err != nil {
		return 0, err
	}
	// The first run by new settings looks at everybody.
	if _, err := s.sync(ctx, wire.NewRun{Purpose: purpose.Sync}, 0); err != nil {
		return 0, err
	}
	return slowOf(livePeople, func(i int) (float64, error) { return s.arrival(ctx, 7*i) })
}

// liveBeside is the same while everybody is rehearsed, and switches live off again.
func (s *stage) liveBeside(ctx context.Context) (float64, error) {
	if _, err := s.client.StartRun(ctx, wire.NewRun{Purpose: purpose.Forecast}); err != nil {
		return 0, err
	}
	slow, err := slowOf(livePeople, func(i int) (float64, error) { return s.arrival(ctx, 7*i+1) })
	return slow, errors.Join(err, s.watch(ctx, "off"))
}
