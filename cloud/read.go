package cloud

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strconv"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/scim"
)

// Reading is what a read of the cloud ends with.
type Reading struct {
	// Watermark is the newest meta.lastModified seen, for the next read.
	Watermark string
	// Complete says that every resource was sent, so that others are gone.
	Complete bool
}

// ReadUsers streams users page by page: those changed since the watermark, or
// all when it is empty or the cloud cannot tell.
func (c *Client) ReadUsers(ctx context.Context, watermark string, emit func([]entry.Resource) error) (Reading, error) {
	capabilities, err := c.Discover(ctx)
	if err != nil {
		return Reading{}, err
	}
	reading := Reading{Watermark: watermark, Complete: watermark == "" || !capabilities.Filter || !capabilities.Sort}
	note := func(page []entry.Resource) error {
		for _, resource := range page {
			reading.Watermark = max(reading.Watermark, resource.LastModified())
		}
		return emit(page)
	}
	if reading.Complete {
		err = c.readAll(ctx, capabilities, note)
	} else {
		err = c.readChanges(ctx, capabilities, watermark, note)
	}
	return reading, err
}

// page is the query for a page: by index or by cursor, as the service can.
func (c Capabilities) page(start int, cursor string, count int) url.Values {
	query := url.Values{"count": {strconv.Itoa(min(count, c.MaxResults))}}
	if c.Pages == "cursor" {
		query.Set("cursor", cursor)
	} else {
		query.Set("startIndex", strconv.Itoa(start))
	}
	return query
}

// readAll goes through all pages. The cloud may change meanwhile, so that a
// resource slips from one page to another; what was missed is looked up before
// anything is made again.
func (c *Client) readAll(ctx context.Context, can Capabilities, emit func([]entry.Resource) error) error {
	cursor := ""
	for start := 1; ; {
		page, total, next, err := c.list(ctx, can.page(start, cursor, can.MaxResults))
		if err != nil {
			return fmt.Errorf("read all users from number %d on: %w", start, err)
		}
		if err := emit(page); err != nil {
			return err
		}
		start, cursor = start+len(page), next
		if can.Pages == "cursor" && next == "" || can.Pages != "cursor" && (len(page) == 0 || start > total) {
			return nil
		}
	}
}

// readChanges goes on from the newest resource of each page rather than by
// index, so that changes made meanwhile cannot hide any. A cursor is followed
// to its end instead.
func (c *Client) readChanges(ctx context.Context, can Capabilities, since string, emit func([]entry.Resource) error) error {
	seen := map[string]string{} // id -> version of those at the newest time
	start, cursor := 1, ""
	for {
		query := can.page(start, cursor, can.MaxResults)
		query.Set("filter", `meta.lastModified ge "`+since+`"`)
		query.Set("sortBy", "meta.lastModified")
		query.Set("sortOrder", "ascending")
		page, total, next, err := c.list(ctx, query)
		if err != nil {
			return fmt.Errorf("read users changed since %s: %w", since, err)
		}
		fresh := page[:0:0]
		for _, resource := range page {
			if seen[resource.ID()] != resource.LastModified() {
				fresh = append(fresh, resource)
			}
		}
		if err := emit(fresh); err != nil {
			return err
		}
		if can.Pages == "cursor" {
			if cursor = next; cursor == "" {
				return nil
			}
			continue
		}
		if len(page) == 0 || start+len(page) > total {
			return nil
		}
		newest := page[len(page)-1].LastModified()
		if newest == since {
			start += len(page) // more of one moment than a page holds
			continue
		}
		since, start = newest, 1
		clear(seen)
		for _, resource := range page {
			if resource.LastModified() == newest {
				seen[resource.ID()] = newest
			}
		}
	}
}

// list reads one page, how many users there are, and the cursor of the next page.
func (c *Client) list(ctx context.Context, query url.Values) ([]entry.Resource, int, string, error) {
	var response scim.ListResponse
	if err := c.get(ctx, "/Users?"+query.Encode(), &response); err != nil {
		return nil, 0, "", err
	}
	page := make([]entry.Resource, len(response.Resources))
	for i, text := range response.Resources {
		if err := json.Unmarshal(text, &page[i]); err != nil {
			return nil, 0, "", fmt.Errorf("read a user of the cloud's answer: %w", err)
		}
	}
	return page, response.TotalResults, response.NextCursor, nil
}

// ByLinkKey finds the user that bears a link key; nil when there is none. A
// cloud without filters is read until it is found.
func (c *Client) ByLinkKey(ctx context.Context, key string) (entry.Resource, error) {
	can, err := c.Discover(ctx)
	if err != nil {
		return nil, err
	}
	var found entry.Resource
	look := func(page []entry.Resource) error {
		for _, resource := range page {
			if resource.ExternalID() == key {
				found = resource
			}
		}
		return nil
	}
	if can.Filter {
		query := can.page(1, "", can.MaxResults)
		query.Set("filter", `externalId eq "`+key+`"`)
		var page []entry.Resource
		if page, _, _, err = c.list(ctx, query); err == nil {
			err = look(page)
		}
	} else {
		err = c.readAll(ctx, can, look)
	}
	if err != nil {
		return nil, fmt.Errorf("look for link key %s: %w", key, err)
	}
	return found, nil
}

// Get reads one user; nil when the cloud has none with this id.
func (c *Client) Get(ctx context.Context, id string) (entry.Resource, error) {
	var resource entry.Resource
	err := c.get(ctx, "/Users/"+url.PathEscape(id), &resource)
	var refusal *Refusal
	if errors.As(err, &refusal) && refusal.Status == http.StatusNotFound {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("read user %s: %w", id, err)
	}
	return resource, nil
}
