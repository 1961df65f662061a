package engine

import (
	"context"
	"fmt"
	"log/slog"
	"strings"

	"golang.org/x/sync/errgroup"

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
		x.domains = x.verifiedDomains(ctx, x.settings.document)
		return x.readCloud(ctx)
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
	request := wire.Order{Kind: wire.OrderRead, Directory: directory.Name, Dialect: directory.Dialect, Base: directory.Base, Attributes: x.settings.attributes}
	switch {
	case state.Base != directory.Base:
	case x.run.Kind != "full" && covers(state.Attributes, x.settings.attributes):
		// What the mirror holds more, for a draft or a survey, is kept true.
		request.Cookie, request.Attributes = state.Cookie, state.Attributes
	case x.run.Kind != "full":
		request.Attributes = union(state.Attributes, x.settings.attributes)
	}
	order := store.Order{RunID: &x.run.ID, Directory: directory.Name, Request: request}
	return order, x.store.AddOrder(ctx, &order)
}

// verifiedDomains tells in which domains logins may end: what the cloud lists,
// else what the settings name, else nil for unknown.
func (e *Engine) verifiedDomains(ctx context.Context, document settings.Document) []string {
	e.cloud.Forget() // a domain may have been verified since
	catalogue, err := e.cloud.Catalogue(ctx)
	if err != nil {
		// A service may do without these lists (RFC 7644 section 4); a cloud
		// that is away is noticed by reading it.
		slog.Warn("the cloud does not tell what it holds", "error", err)
	}
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

// readCloud reads what changed in the cloud, or everything in a full run.
func (x *execution) readCloud(ctx context.Context) error {
	state, err := x.store.CloudState(ctx)
	if err != nil {
		return err
	}
	since := state.Watermark
	if x.run.Kind == "full" {
		since = ""
	}
	seen := map[string]struct{}{}
	reading, err := x.cloud.ReadUsers(ctx, since, func(page []entry.Resource) error {
		changed, err := x.store.StoreResources(ctx, page, x.settings.indexed, true)
		if err != nil {
			return err
		}
		for _, resource := range page {
			seen[resource.ID()] = struct{}{}
		}
		return x.count(ctx, func(c *wire.Counts) { c.ResourcesRead += len(page); c.ResourcesChanged += changed })
	})
	if err != nil {
		return fmt.Errorf("read the cloud: %w", err)
	}
	return x.store.Tx(ctx, func(tx *store.Store) error {
		if reading.Complete {
			if _, err := tx.DropResourcesExcept(ctx, seen); err != nil {
				return err
			}
		}
		return tx.SaveCloudState(ctx, reading.Watermark)
	})
}
