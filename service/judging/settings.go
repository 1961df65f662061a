package judging

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"slices"
	"strings"
	"sync"

	"kambrel.example/kambrel/cloud"
	"kambrel.example/kambrel/core/decide"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/logkey"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/service/store"
)

// Judging makes judges. Its methods may be called from many goroutines.
type Judging struct {
	store *store.Store
	cloud *cloud.Client
	batch int

	mu       sync.Mutex // guards what follows
	last     *decide.Settings
	revision int
}

// New makes a maker of judges, which decide about batch entries at a time.
func New(s *store.Store, c *cloud.Client, batch int) *Judging {
	return &Judging{store: s, cloud: c, batch: batch}
}

// Of returns a revision made ready; the one that was used last is kept.
func (k *Judging) Of(ctx context.Context, revision int) (*decide.Settings, error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	schemas, err := k.store.Entries.Schemas(ctx)
	if err != nil {
		return nil, err
	}
	if k.last != nil && k.revision == revision && maps.EqualFunc(k.last.Schemas, schemas, maps.Equal[entry.Schema, entry.Schema]) {
		return k.last, nil
	}
	r, err := k.store.Settings.Revision(ctx, revision)
	if err != nil {
		return nil, fmt.Errorf("read settings revision %d: %w", revision, err)
	}
	c, err := decide.Compile(r.Document)
	if err != nil {
		return nil, problem.Wrap(problem.SettingsInvalid, err, "settings revision %d", revision)
	}
	k.last, k.revision = c.Knowing(schemas), revision
	return k.last, nil
}

// Ready makes a document ready, by what is known of its directories.
func (k *Judging) Ready(ctx context.Context, document settings.Document) (*decide.Settings, error) {
	c, err := decide.Compile(document)
	if err != nil {
		return nil, err
	}
	schemas, err := k.store.Entries.Schemas(ctx)
	return c.Knowing(schemas), err
}

// Active returns the active settings made ready.
func (k *Judging) Active(ctx context.Context) (*decide.Settings, error) {
	r, ok, err := k.store.Settings.Active(ctx)
	if err != nil {
		return nil, err
	}
	if !ok {
		return nil, problem.New(problem.NoSettings, "")
	}
	return k.Of(ctx, r.Revision)
}

// Covers tells whether a directory was read with all attributes that are
// needed now.
func Covers(have, need []string) bool {
	return !slices.ContainsFunc(need, func(name string) bool {
		return !slices.ContainsFunc(have, func(h string) bool { return strings.EqualFold(h, name) })
	})
}

// Offered tells what the cloud takes, as it was asked last.
func (k *Judging) Offered(ctx context.Context, document settings.Document) (decide.Cloud, error) {
	o := decide.Cloud{Kinds: map[entry.Kind]bool{}, Unique: map[entry.Kind][]string{}, Required: map[entry.Kind][]string{}}
	catalogue, err := k.cloud.Catalogue(ctx)
	if ctx.Err() != nil {
		return o, context.Cause(ctx)
	}
	if err != nil {
		// A service may do without these lists (RFC 7644 section 4); a cloud
		// that is away is noticed by reading it.
		slog.Warn("the cloud does not tell what it holds", logkey.Error, err)
	}
	o.Domains = domainsOf(catalogue, document)
	for _, kind := range entry.Kinds {
		if _, o.Kinds[kind], err = k.cloud.Type(ctx, kind); err != nil {
			return o, err
		}
		for _, target := range catalogue.Of(kind) {
			path, err := entry.ParsePath(target.Path)
			if err != nil {
				continue
			}
			if target.Unique {
				o.Unique[kind] = append(o.Unique[kind], path.Key())
			}
			if target.Required && !target.ReadOnly {
				o.Required[kind] = append(o.Required[kind], path.Key())
			}
		}
		if len(catalogue.Members) == 0 || slices.Contains(catalogue.Members, cloud.TypeName(kind)) {
			o.Members = append(o.Members, kind)
		}
	}
	return o, nil
}

// domainsOf tells in which domains logins may end: what the cloud lists, else
// what the settings name, else nil for unknown.
func domainsOf(catalogue cloud.Catalogue, document settings.Document) []string {
	if catalogue.Domains != nil {
		return catalogue.Domains
	}
	if len(document.Cloud.Domains) == 0 {
		return nil
	}
	names := make([]string, len(document.Cloud.Domains))
	for i, name := range document.Cloud.Domains {
		names[i] = strings.ToLower(name)
	}
	return names
}

// Settings are those by which objects are explained: the active ones,
// or the draft before the first activation.
func (k *Judging) Settings(ctx context.Context) (*decide.Settings, error) {
	settings, err := k.Active(ctx)
	if problem.CodeOf(err) != problem.NoSettings {
		return settings, err
	}
	draft, _, draftErr := k.store.Settings.CurrentDraft(ctx)
	if draftErr != nil || len(draft.Document.Validate()) > 0 {
		return nil, errors.Join(err, draftErr)
	}
	return k.Ready(ctx, draft.Document)
}
