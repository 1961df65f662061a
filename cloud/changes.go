package cloud

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"kambrel.example/kambrel/core/entry"
)

// Differing returns the ids of those stamps that are not of what the caller knows.
type Differing func(ctx context.Context, stamps []entry.Stamp) ([]string, error)

// refusesFilter tells the refusal of a list that is asked for with a filter.
func refusesFilter(err error) bool { return lacking(err, http.StatusBadRequest, http.StatusForbidden) }

// errNotObeyed says that a list is neither filtered nor sorted as it was asked
// for, so that it does not tell what has changed.
var errNotObeyed = errors.New("the list is not as it was asked for")

// changesReader reads what has changed of a kind. The first page comes whole, as most
// often there is no other. Where more follow, as after a run that wrote many, they come
// as stamps, and whole is read what is not known.
type changesReader struct {
	*Client
	kind      entry.Kind
	can       Capabilities
	differing Differing
	listed    func([]entry.Resource)
	emit      func([]entry.Resource) error
	// differs is told which of a page that came as stamps are not known.
	differs func(ctx context.Context, ids []string, page url.Values) error
	stamps  bool // the service gives what they are made of
}

// ErrNotTold says that the service does not tell what has changed, or not by versions.
var ErrNotTold = errors.New("the cloud does not tell what has changed by versions")

// errChanged ends a reading that has found something.
var errChanged = errors.New("something has changed")

// Changed asks whether something has changed since a time of which differing does not
// know, and which is the newest change. It asks for ids and versions alone.
func (c *Client) Changed(ctx context.Context, kind entry.Kind, since string, differing Differing) (changed bool, newest string, err error) {
	can, err := c.Discover(ctx)
	if err != nil {
		return false, since, err
	}
	if !can.Filter || !can.Sort {
		return false, since, ErrNotTold
	}
	newest = since
	reader := changesReader{
		Client: c, kind: kind, can: can, differing: differing, stamps: true,
		listed: func(page []entry.Resource) {
			for _, resource := range page {
				newest = max(newest, resource.LastModified())
			}
		},
		emit: func(whole []entry.Resource) error {
			if len(whole) > 0 {
				return ErrNotTold
			}
			return nil
		},
		differs: func(context.Context, []string, url.Values) error { return errChanged },
	}
	switch err = reader.read(ctx, since); {
	case errors.Is(err, errChanged):
		return true, newest, nil
	case errors.Is(err, errNotObeyed), refusesFilter(err):
		return false, since, ErrNotTold
	}
	return false, newest, err
}

// read goes on from the newest resource of each page rather than by
// index, so that changes made meanwhile cannot hide any. A cursor is followed
// to its end instead.
func (c *changesReader) read(ctx context.Context, since string) error {
	seen := map[string]string{} // id -> version of those at the newest time
	start, cursor := 1, ""
	for {
		query := c.can.page(start, cursor, c.can.MaxResults)
		query.Set("filter", `meta.lastModified ge "`+since+`"`)
		query.Set("sortBy", "meta.lastModified")
		query.Set("sortOrder", "ascending")
		page, err := c.page(ctx, query)
		if err != nil {
			return fmt.Errorf("read %ss changed since %s: %w", c.kind, since, err)
		}
		if !page.since(since) || c.can.Pages != "cursor" && page.start > 0 && page.start != start {
			return errNotObeyed
		}
		fresh := page.resources[:0:0]
		for _, resource := range page.resources {
			if seen[resource.ID()] != resource.LastModified() {
				fresh = append(fresh, resource)
			}
		}
		if err := c.take(ctx, fresh, page.stamps, query); err != nil {
			return err
		}
		size := len(page.resources)
		if c.can.Pages == "cursor" {
			if page.next == "" {
				return nil
			}
			if page.next == cursor {
				return errNotObeyed
			}
			cursor = page.next
			continue
		}
		if size > 0 && len(fresh) == 0 && start > 1 {
			return errNotObeyed // the same page again
		}
		if size == 0 || start+size > page.total {
			return nil
		}
		newest := page.resources[size-1].LastModified()
		if newest == since {
			start += size // more of one moment than a page holds
			for _, resource := range page.resources {
				seen[resource.ID()] = newest
			}
			continue
		}
		since, start = newest, 1
		clear(seen)
		for _, resource := range page.resources {
			if resource.LastModified() == newest {
				seen[resource.ID()] = newest
			}
		}
	}
}

// page reads one page: as stamps, where the service gives them on every page.
func (c *changesReader) page(ctx context.Context, query url.Values) (listing, error) {
	if c.stamps {
		query.Set("attributes", "meta")
		page, err := c.list(ctx, c.kind, query)
		query.Del("attributes")
		if err == nil && page.stamped() {
			page.stamps = true
			return page, nil
		}
		if err != nil && !refusesFilter(err) {
			return page, err
		}
	}
	page, err := c.list(ctx, c.kind, query)
	c.stamps = err == nil && c.differing != nil && page.stamped()
	return page, err
}

// stamped tells whether every resource of a page says what its stamp is made of.
func (l listing) stamped() bool {
	return !slices.ContainsFunc(l.resources, func(r entry.Resource) bool {
		return !r.Stamp().Whole()
	})
}

const (
	// mostOneByOne is how many of a page are asked for one by one; more are read with all
	// of their page.
	mostOneByOne = 50
	// askers is how many are asked for at once.
	askers = 4
)

// take hands on what a page lists, and reads it before where the page has stamps only.
func (c *changesReader) take(ctx context.Context, page []entry.Resource, stamps bool, query url.Values) error {
	c.listed(page)
	if !stamps || len(page) == 0 {
		return c.emit(page)
	}
	list := make([]entry.Stamp, len(page))
	for i, resource := range page {
		list[i] = resource.Stamp()
	}
	others, err := c.differing(ctx, list)
	if err != nil || len(others) == 0 {
		return err
	}
	return c.differs(ctx, others, query)
}

// fetch reads resources by their ids and hands them on, or all of their page.
func (c *changesReader) fetch(ctx context.Context, ids []string, page url.Values) error {
	if len(ids) > mostOneByOne {
		whole, err := c.list(ctx, c.kind, page)
		if err != nil {
			return fmt.Errorf("read %ss that are not known: %w", c.kind, err)
		}
		// What has moved out of the page since is on one that follows.
		return c.emit(whole.resources)
	}
	var mu sync.Mutex
	var found []entry.Resource
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(askers)
	for _, id := range ids {
		group.Go(func() error {
			resource, err := c.Get(ctx, c.kind, id)
			if err != nil || resource == nil {
				return err
			}
			mu.Lock()
			defer mu.Unlock()
			found = append(found, resource)
			return nil
		})
	}
	if err := group.Wait(); err != nil {
		return err
	}
	return c.emit(found)
}

// since tells whether the resources are of a time on and in the order of their
// times. Times that cannot be read are taken to be so.
func (l listing) since(text string) bool {
	last, err := time.Parse(time.RFC3339Nano, text)
	for _, resource := range l.resources {
		at, err2 := time.Parse(time.RFC3339Nano, resource.LastModified())
		if err != nil || err2 != nil {
			continue
		}
		if at.Before(last) {
			return false
		}
		last = at
	}
	return true
}
