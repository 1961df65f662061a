package setup

import (
	"context"
	"fmt"
	"log/slog"
	"time"

	"kambrel.example/kambrel/cloud"
	"kambrel.example/kambrel/core/about"
	"kambrel.example/kambrel/core/act"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/logkey"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/secret"
	protocol "kambrel.example/kambrel/protocol/orders"
	"kambrel.example/kambrel/protocol/wire"
	"kambrel.example/kambrel/service/seal"
	"kambrel.example/kambrel/service/store"
)

const (
	// asked is how many linked resources a cloud is asked for, to know it by.
	asked = 30
	// lookAgain is after how long the records are looked at although nothing was told: words
	// of the database may be lost with its connection.
	lookAgain = 15 * time.Second
)

// Start is how the service was told to reach the cloud when it started.
type Start struct {
	URL   string // "" where it was not told
	Token cloud.Token
	// Seal opens and closes the token that an operator has given since.
	Seal seal.Key
}

// Connection tells how the cloud is reached, and asks it nothing.
func (e *Setup) Connection(ctx context.Context) (wire.CloudConnection, error) {
	view := wire.CloudConnection{URL: e.cloud.URL()}
	kept, err := e.store.Connection.Now(ctx)
	if kept.URL != "" && kept.URL == view.URL {
		view.SetBy, view.SetAt = kept.SetBy, kept.SetAt
	}
	return view, err
}

// TryCloud tells how a cloud would be reached with a URL and a token, and whether it is the one
// of the records. Nothing is kept, and nothing changes.
func (e *Setup) TryCloud(ctx context.Context, url string, token secret.Text) (wire.CloudTried, error) {
	tried := wire.CloudTried{URL: url, Verdicts: []protocol.Verdict{}}
	candidate, err := cloud.New(url, cloud.FixedToken(token))
	if err != nil {
		return tried, err
	}
	tried.URL, tried.Verdicts = candidate.URL(), verdicts(candidate.Probe(ctx))
	if _, bad := protocol.FirstBad(tried.Verdicts); bad {
		return tried, nil
	}
	tried.Answers = true
	tried.Linked, tried.Known, err = knows(ctx, e.store, candidate)
	tried.Same = isSame(tried.Linked, tried.Known)
	return tried, err
}

// ConnectCloud reaches the cloud by a URL and a token from now on, in all services, if it is the
// one that the records are of.
func (e *Setup) ConnectCloud(ctx context.Context, by, url string, token secret.Text) (wire.CloudTried, error) {
	tried, err := e.TryCloud(ctx, url, token)
	if err != nil {
		return tried, err
	}
	if v, bad := protocol.FirstBad(tried.Verdicts); bad {
		return tried, problem.New(problem.BadInput, "%s: %s. %s Nothing was changed.", v.Name(), v.Detail, v.Advice)
	}
	if !tried.Same {
		return tried, otherCloud(tried.URL, tried.Linked, tried.Known)
	}
	sealed, err := e.start.Seal.Seal(token)
	if err != nil {
		return tried, fmt.Errorf("seal the token for the cloud: %w", err)
	}
	return tried, e.setConnection(ctx, by, tried.URL, sealed)
}

// DisconnectCloud reaches the cloud again as the service's own configuration says.
func (e *Setup) DisconnectCloud(ctx context.Context, by string) error {
	if e.start.URL == "" {
		return problem.New(problem.BadInput, "the service was started without a cloud, so that there would be none: give it one with --cloud-url and --cloud-token-file, or in its file.")
	}
	return e.setConnection(ctx, by, "", nil)
}

// reached is where the cloud is, as an act notes it.
type reached struct {
	URL string `json:"url"`
}

func (e *Setup) setConnection(ctx context.Context, by, url string, sealed []byte) error {
	err := e.store.Tx(ctx, func(tx *store.Store) error {
		if err := tx.Connection.Set(ctx, url, sealed, by); err != nil {
			return err
		}
		after := url
		if after == "" {
			after = e.start.URL
		}
		return tx.Acts.Record(ctx, act.Act{Kind: act.ConnectCloud, By: by, About: about.Thing{Type: about.Cloud}, Before: reached{e.cloud.URL()}, After: reached{after}})
	})
	if err != nil {
		return err
	}
	return e.Reach(ctx)
}

// Reach has this service reach the cloud as the records say, or else as it was started, and
// heed what the active settings say of it.
func (e *Setup) Reach(ctx context.Context) error {
	kept, err := e.store.Connection.Now(ctx)
	if err != nil {
		return err
	}
	active, _, err := e.store.Settings.Active(ctx)
	if err != nil {
		return err
	}
	e.cloud.Heed(active.Document.Cloud.Habits)
	e.reach.Lock()
	defer e.reach.Unlock()
	as := fmt.Sprintf("%s %x", kept.URL, kept.Token)
	if as == e.reachedAs {
		return nil
	}
	switch {
	case kept.URL != "":
		token, err := e.start.Seal.Unseal(kept.Token)
		if err != nil {
			return fmt.Errorf("open the token for the cloud at %s, as %s gave it: %w", kept.URL, kept.SetBy, err)
		}
		if err := e.cloud.Reach(kept.URL, cloud.FixedToken(token)); err != nil {
			return err
		}
		if e.start.URL != "" && e.start.URL != kept.URL {
			slog.Info("the cloud is where an operator has said, and not where the configuration says", logkey.URL, kept.URL)
		}
	case e.start.URL != "":
		if err := e.cloud.Reach(e.start.URL, e.start.Token); err != nil {
			return err
		}
	}
	e.reachedAs = as
	return nil
}

// Follow has this service reach the cloud otherwise when an operator has said so, at this one
// or another.
func (e *Setup) Follow(ctx context.Context, told <-chan store.Event) {
	tick := time.NewTicker(lookAgain)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case event := <-told:
			if event.Kind != store.EventCloud && event.Kind != "settings" && event.Kind != "" {
				continue
			}
		case <-tick.C:
		}
		if err := e.Reach(ctx); err != nil && ctx.Err() == nil && store.Away(err) == nil {
			slog.Error("the cloud cannot be reached as an operator has said", logkey.Error, err)
		}
	}
}

// SameCloud refuses a cloud that is not the one of the records: whoever is linked would seem to
// have been deleted there. Where it is met at the URL of before, nothing is asked.
func SameCloud(ctx context.Context, s *store.Store, client *cloud.Client) error {
	kept, err := s.Connection.Now(ctx)
	if err != nil || kept.RecordsOf == client.URL() {
		return err
	}
	linked, known, err := knows(ctx, s, client)
	if err != nil {
		return err
	}
	if !isSame(linked, known) {
		return otherCloud(client.URL(), linked, known)
	}
	return s.Tx(ctx, func(tx *store.Store) error { return tx.Connection.RecordsAreOf(ctx, client.URL()) })
}

// isSame tells a cloud by what it knows of some that are linked: people may have deleted some
// of them there.
func isSame(linked, known int) bool { return 2*known >= linked }

func otherCloud(url string, linked, known int) error {
	return problem.Concerning(about.Thing{Type: about.Cloud}, problem.New(problem.OtherCloud, "of %d resources that entries are linked to, %s knows %d.", linked, url, known))
}

// knows asks a cloud for some of the resources that entries are linked to.
func knows(ctx context.Context, s *store.Store, client *cloud.Client) (linked, known int, err error) {
	links, err := s.Links.Some(ctx, asked)
	if err != nil {
		return 0, 0, err
	}
	for _, link := range links {
		there, err := client.Get(ctx, entry.Kind(link.Kind), link.ResourceID)
		if err != nil {
			return 0, 0, fmt.Errorf("ask the cloud for a resource that it should know: %w", err)
		}
		// Another cloud may number its resources the same way.
		if there != nil && (there.ExternalID() == link.LinkKey || there.ExternalID() == "") {
			known++
		}
	}
	return len(links), known, nil
}
