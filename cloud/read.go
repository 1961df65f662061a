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
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/scim"
)

// Reading is what a read of the cloud ends with.
type Reading struct {
	// Watermark is the newest meta.lastModified seen, for the next read.
	Watermark string
	// Complete says that every resource was sent, so that others are gone.
	Complete bool
}

// Read streams the resources of a kind page by page: those changed since the
// watermark, or all when it is empty or the cloud cannot tell. Groups come
// without their members; see Members.
func (c *Client) Read(ctx context.Context, kind entry.Kind, watermark string, emit func([]entry.Resource) error) (Reading, error) {
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
		err = c.readAll(ctx, kind, capabilities, note)
	} else {
		err = c.readChanges(ctx, kind, capabilities, watermark, note)
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
func (c *Client) readAll(ctx context.Context, kind entry.Kind, can Capabilities, emit func([]entry.Resource) error) error {
	cursor := ""
	for start := 1; ; {
		page, total, next, err := c.list(ctx, kind, can.page(start, cursor, can.MaxResults))
		if err != nil {
			return fmt.Errorf("read all %ss from number %d on: %w", kind, start, err)
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
func (c *Client) readChanges(ctx context.Context, kind entry.Kind, can Capabilities, since string, emit func([]entry.Resource) error) error {
	seen := map[string]string{} // id -> version of those at the newest time
	start, cursor := 1, ""
	for {
		query := can.page(start, cursor, can.MaxResults)
		query.Set("filter", `meta.lastModified ge "`+since+`"`)
		query.Set("sortBy", "meta.lastModified")
		query.Set("sortOrder", "ascending")
		page, total, next, err := c.list(ctx, kind, query)
		if err != nil {
			return fmt.Errorf("read %ss changed since %s: %w", kind, since, err)
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

// list reads one page, how many resources of the kind there are, and the cursor
// of the next page.
func (c *Client) list(ctx context.Context, kind entry.Kind, query url.Values) ([]entry.Resource, int, string, error) {
	path, err := c.path(ctx, kind, "")
	if err != nil {
		return nil, 0, "", err
	}
	if kind == entry.Group {
		query.Set("excludedAttributes", "members")
	}
	var response scim.ListResponse
	if err := c.get(ctx, path+"?"+query.Encode(), &response); err != nil {
		return nil, 0, "", err
	}
	page := make([]entry.Resource, len(response.Resources))
	for i, text := range response.Resources {
		if err := json.Unmarshal(text, &page[i]); err != nil {
			return nil, 0, "", fmt.Errorf("read a %s of the cloud's answer: %w", kind, err)
		}
		withoutMembers(kind, page[i])
	}
	return page, response.TotalResults, response.NextCursor, nil
}

// withoutMembers keeps members out of groups also where the service sends them
// all the same: they are kept as rows.
func withoutMembers(kind entry.Kind, resource entry.Resource) {
	if kind == entry.Group {
		delete(resource, "members")
	}
}

// path is that of a resource, or of all of its kind.
func (c *Client) path(ctx context.Context, kind entry.Kind, id string) (string, error) {
	t, ok, err := c.Type(ctx, kind)
	switch {
	case err != nil:
		return "", err
	case !ok:
		return "", problem.New(problem.CloudRefused, "the cloud has no resource type for a %s", kind)
	case id == "":
		return t.Endpoint, nil
	}
	return t.Endpoint + "/" + url.PathEscape(id), nil
}

// single is the path of a resource as it is read and written, without the
// members of a group.
func (c *Client) single(ctx context.Context, kind entry.Kind, id string) (string, error) {
	path, err := c.path(ctx, kind, id)
	if kind == entry.Group {
		path += "?excludedAttributes=members"
	}
	return path, err
}

// ByLinkKey finds the resource of a kind that bears a link key; nil when there
// is none. A cloud without filters is read until it is found.
func (c *Client) ByLinkKey(ctx context.Context, kind entry.Kind, key string) (entry.Resource, error) {
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
		var page []entry.Resource
		if page, err = c.Having(ctx, kind, "externalId", key); err == nil {
			err = look(page)
		}
	} else {
		err = c.readAll(ctx, kind, can, look)
	}
	if err != nil {
		return nil, fmt.Errorf("look for link key %s: %w", key, err)
	}
	return found, nil
}

// Having lists the resources of a kind that have a value, by a path such as
// emails.value. A cloud without filters is not asked, and nobody is found.
func (c *Client) Having(ctx context.Context, kind entry.Kind, path, value string) ([]entry.Resource, error) {
	can, err := c.Discover(ctx)
	if err != nil || !can.Filter {
		return nil, err
	}
	text, err := json.Marshal(value)
	if err != nil {
		return nil, err
	}
	query := can.page(1, "", can.MaxResults)
	query.Set("filter", path+" eq "+string(text))
	page, _, _, err := c.list(ctx, kind, query)
	if err != nil {
		return nil, fmt.Errorf("look who has %s %s: %w", path, text, err)
	}
	return page, nil
}

// Get reads one resource; nil when the cloud has none with this id.
func (c *Client) Get(ctx context.Context, kind entry.Kind, id string) (entry.Resource, error) {
	path, err := c.single(ctx, kind, id)
	if err != nil {
		return nil, err
	}
	resource, err := c.getOne(ctx, path)
	if err != nil {
		return nil, fmt.Errorf("read the %s %s: %w", kind, id, err)
	}
	withoutMembers(kind, resource)
	return resource, nil
}

// getOne reads what is at a path; nil when there is nothing.
func (c *Client) getOne(ctx context.Context, path string) (entry.Resource, error) {
	var resource entry.Resource
	err := c.get(ctx, path, &resource)
	var refusal *Refusal
	if errors.As(err, &refusal) && refusal.Status == http.StatusNotFound {
		return nil, nil
	}
	return resource, err
}

// Members reads the ids of a group's members; false when the cloud has no such
// group.
func (c *Client) Members(ctx context.Context, id string) (members []string, found bool, err error) {
	path, err := c.path(ctx, entry.Group, id)
	if err != nil {
		return nil, false, err
	}
	resource, err := c.getOne(ctx, path)
	if err != nil {
		return nil, false, fmt.Errorf("read the members of group %s: %w", id, err)
	}
	return membersPath.Values(resource), resource != nil, nil
}

var membersPath = entry.MustPath("members")
