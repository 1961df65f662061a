package engine

import (
	"context"
	"fmt"
	"log/slog"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"kambrel.example/kambrel/cloud"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/store"
	"kambrel.example/kambrel/wire"
)

// read brings both mirrors up to date, all directories and the cloud at once.
func (x *execution) read(ctx context.Context) error {
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(-1)
	progress := &readProgress{x: x, counts: map[string]store.OrderCounts{}}
	for _, directory := range x.settings.document.Directories {
		group.Go(func() error { return x.readDirectory(ctx, directory, progress) })
	}
	group.Go(func() error {
		var err error
		x.cloud.Forget() // a domain may have been verified since
		if x.offer, err = x.offered(ctx, x.settings.document); err != nil {
			return err
		}
		for _, kind := range entry.Kinds {
			if x.offer.kinds[kind] {
				group.Go(func() error { return x.readCloud(ctx, kind) })
			}
		}
		return nil
	})
	return group.Wait()
}

// readProgress adds the counts of several directories up.
type readProgress struct {
	x      *execution
	counts map[string]store.OrderCounts // guarded by the run's mutex
}

func (p *readProgress) set(ctx context.Context, directory string, counts store.OrderCounts) error {
	return p.x.count(ctx, func(c *wire.Counts) {
		p.counts[directory] = counts
		c.EntriesRead, c.EntriesChanged, c.EntriesGone = 0, 0, 0
		for _, one := range p.counts {
			c.EntriesRead += one.Read
			c.EntriesChanged += one.Changed
			c.EntriesGone += one.Gone
		}
	})
}

// readDirectory has an agent read a directory and waits until it has. An order
// that an earlier attempt at this run gave is waited for, not given again.
func (x *execution) readDirectory(ctx context.Context, directory settings.Directory, progress *readProgress) error {
	order, found, err := x.store.OrderOf(ctx, x.run.ID, directory.Name)
	if err != nil {
		return err
	}
	if !found || order.State == "failed" {
		if order, err = x.giveOrder(ctx, directory); err != nil {
			return err
		}
	}
	_, err = x.await(ctx, order, func(o store.Order) error { return progress.set(ctx, directory.Name, o.Counts) })
	return err
}

func (x *execution) giveOrder(ctx context.Context, directory settings.Directory) (store.Order, error) {
	state, err := x.store.DirectoryStateOf(ctx, directory.Name)
	if err != nil {
		return store.Order{}, err
	}
	request := wire.Order{Kind: wire.OrderRead, Directory: directory.Name, Dialect: directory.Dialect, Base: directory.Base, Attributes: x.settings.attributes, Pointers: x.settings.pointers}
	switch {
	case state.Base != directory.Base:
	case x.run.Kind != "full" && covers(state.Attributes, x.settings.attributes) && covers(state.Pointers, x.settings.pointers):
		// What the mirror holds more, for a draft or a survey, is kept true.
		request.Cookie, request.Attributes, request.Pointers = state.Cookie, state.Attributes, state.Pointers
	case x.run.Kind != "full":
		request.Attributes, request.Pointers = union(state.Attributes, x.settings.attributes), union(state.Pointers, x.settings.pointers)
	}
	order := store.Order{RunID: &x.run.ID, Directory: directory.Name, Request: request}
	return order, x.store.AddOrder(ctx, &order)
}

// offered tells what the cloud takes, as it was asked last.
func (e *Engine) offered(ctx context.Context, document settings.Document) (offer, error) {
	o := offer{kinds: map[entry.Kind]bool{}, unique: map[entry.Kind][]string{}}
	catalogue, err := e.cloud.Catalogue(ctx)
	if ctx.Err() != nil {
		return o, context.Cause(ctx)
	}
	if err != nil {
		// A service may do without these lists (RFC 7644 section 4); a cloud
		// that is away is noticed by reading it.
		slog.Warn("the cloud does not tell what it holds", "error", err)
	}
	o.domains = domainsOf(catalogue, document)
	for _, kind := range entry.Kinds {
		if _, o.kinds[kind], err = e.cloud.Type(ctx, kind); err != nil {
			return o, err
		}
		for _, target := range catalogue.Of(kind) {
			if path, err := entry.ParsePath(target.Path); err == nil && target.Unique {
				o.unique[kind] = append(o.unique[kind], path.Key())
			}
		}
		if len(catalogue.Members) == 0 || slices.Contains(catalogue.Members, cloud.TypeName(kind)) {
			o.members = append(o.members, kind)
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

// readCloud reads what changed of a kind in the cloud, or everything in a full
// run.
func (x *execution) readCloud(ctx context.Context, kind entry.Kind) error {
	state, err := x.store.CloudState(ctx, kind)
	if err != nil {
		return err
	}
	since := state.Watermark
	if x.run.Kind == "full" {
		since = ""
	}
	seen := map[string]struct{}{}
	reading, err := x.cloud.Read(ctx, kind, since, func(page []entry.Resource) error {
		changed, err := x.store.StoreResources(ctx, kind, page, x.settings.of(kind).indexed, true)
		if err != nil {
			return err
		}
		ids := make([]string, len(page))
		for i, resource := range page {
			ids[i] = resource.ID()
			seen[ids[i]] = struct{}{}
		}
		if kind == entry.Group {
			if x.run.Kind != "full" {
				ids = changed // else the members are compared of those too that look the same
			}
			if err := x.readMembers(ctx, ids); err != nil {
				return err
			}
		}
		return x.count(ctx, func(c *wire.Counts) { c.ResourcesRead += len(page); c.ResourcesChanged += len(changed) })
	})
	if err != nil {
		return fmt.Errorf("read the cloud: %w", err)
	}
	var gone []string
	if reading.Complete {
		if gone, err = x.notListed(ctx, kind, seen); err != nil {
			return fmt.Errorf("read the cloud: %w", err)
		}
	}
	return x.store.Fenced(ctx, func(tx *store.Store) error {
		if err := tx.DropResources(ctx, gone); err != nil {
			return err
		}
		return tx.SaveCloudState(ctx, kind, reading.Watermark)
	})
}

// notListed asks for those by their ids that the mirror has and a list does not,
// since a list may lag behind, and returns those that are gone.
func (x *execution) notListed(ctx context.Context, kind entry.Kind, seen map[string]struct{}) ([]string, error) {
	others, err := x.store.ResourcesExcept(ctx, kind, seen)
	if err != nil || len(others) == 0 {
		return nil, err
	}
	gone, there, err := x.goneOf(ctx, kind, others)
	if err != nil {
		return nil, err
	}
	changed, err := x.store.StoreResources(ctx, kind, there, x.settings.of(kind).indexed, true)
	if err != nil || kind != entry.Group {
		return gone, err
	}
	if x.run.Kind == "full" {
		changed = changed[:0]
		for _, resource := range there {
			changed = append(changed, resource.ID())
		}
	}
	return gone, x.readMembers(ctx, changed)
}

// memberReaders is how many groups are asked for their members at once.
const memberReaders = 4

// readMembers reads the members of groups that changed in the cloud.
func (x *execution) readMembers(ctx context.Context, groups []string) error {
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(memberReaders)
	for _, id := range groups {
		group.Go(func() error {
			members, found, err := x.cloud.Members(ctx, id)
			if err != nil || !found {
				return err
			}
			return x.store.SetMembers(ctx, id, members)
		})
	}
	return group.Wait()
}
