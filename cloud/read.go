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
		err = c.readAll(ctx, capabilities.MaxResults, note)
	} else {
		err = c.readChanges(ctx, capabilities.MaxResults, watermark, note)
	}
	return reading, err
}

// readAll pages by index. The cloud may change meanwhile, so that a resource
// slips from one page to another; what was missed is looked up before anything
// is made again.
func (c *Client) readAll(ctx context.Context, count int, emit func([]entry.Resource) error) error {
	for start := 1; ; {
		page, total, err := c.list(ctx, url.Values{"startIndex": {strconv.Itoa(start)}, "count": {strconv.Itoa(count)}})
		if err != nil {
			return fmt.Errorf("read all users from number %d on: %w", start, err)
		}
		if err := emit(page); err != nil {
			return err
		}
		start += len(page)
		if len(page) == 0 || start > total {
			return nil
		}
	}
}

// readChanges goes on from the newest resource of each page rather than by
// index, so that changes made meanwhile cannot hide any.
func (c *Client) readChanges(ctx context.Context, count int, since string, emit func([]entry.Resource) error) error {
	seen := map[string]string{} // id -> version of those at the newest time
	start := 1
	for {
		page, _, err := c.list(ctx, url.Values{
			"filter": {`meta.lastModified ge "` + since + `"`}, "sortBy": {"meta.lastModified"}, "sortOrder": {"ascending"},
			"startIndex": {strconv.Itoa(start)}, "count": {strconv.Itoa(count)},
		})
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
		if len(page) < count {
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

func (c *Client) list(ctx context.Context, query url.Values) ([]entry.Resource, int, error) {
	var response scim.ListResponse
	if err := c.get(ctx, "/Users?"+query.Encode(), &response); err != nil {
		return nil, 0, err
	}
	page := make([]entry.Resource, len(response.Resources))
	for i, text := range response.Resources {
		if err := json.Unmarshal(text, &page[i]); err != nil {
			return nil, 0, fmt.Errorf("read a user of the cloud's answer: %w", err)
		}
	}
	return page, response.TotalResults, nil
}

// ByLinkKey finds the user that bears a link key; nil when there is none.
func (c *Client) ByLinkKey(ctx context.Context, key string) (entry.Resource, error) {
	page, _, err := c.list(ctx, url.Values{"filter": {`externalId eq "` + key + `"`}})
	if err != nil {
		return nil, fmt.Errorf("look for link key %s: %w", key, err)
	}
	for _, resource := range page {
		if resource.ExternalID() == key {
			return resource, nil
		}
	}
	return nil, nil
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
