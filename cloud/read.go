package cloud

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"

	jsonv2 "github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"
	"github.com/google/uuid"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/protocol/scim"
)

// Reading is what a read of the cloud ends with.
type Reading struct {
	// Watermark is the newest meta.lastModified seen, for the next read.
	Watermark string
	// Complete says that every resource that the cloud lists was sent. One that is
	// missing may still be there: lists can lag behind, so ask for it by its id.
	Complete bool
}

// Read streams the resources of a kind page by page: those changed since the
// watermark, or all when it is empty or the cloud cannot tell. Of many changes those
// may be left out of which differing says that they are known. Groups come
// without their members; see Members. A list that contradicts itself ends the
// read with problem.CloudListIncomplete.
func (c *Client) Read(ctx context.Context, kind entry.Kind, watermark string, differing Differing, emit func([]entry.Resource) error) (Reading, error) {
	can, err := c.Discover(ctx)
	if err != nil {
		return Reading{}, err
	}
	reading := Reading{Watermark: watermark, Complete: watermark == "" || !can.Filter || !can.Sort}
	// Only what lists say moves the watermark: what was asked for one by one may be newer
	// than something that no list has shown yet.
	listed := func(page []entry.Resource) {
		for _, resource := range page {
			reading.Watermark = max(reading.Watermark, resource.LastModified())
		}
	}
	if !reading.Complete {
		changes := changesReader{Client: c, kind: kind, can: can, differing: differing, listed: listed, emit: emit}
		changes.differs = changes.fetch
		err = changes.read(ctx, watermark)
		if refusesFilter(err) {
			c.deny(FeatureFilter, err)
			err = errNotObeyed
		}
		reading.Complete = errors.Is(err, errNotObeyed)
	}
	if reading.Complete {
		err = c.readAll(ctx, kind, can, func(page []entry.Resource) error {
			listed(page)
			return emit(page)
		})
	}
	return reading, err
}

// page is the query for a page: by index or by cursor, as the service can.
func (c Capabilities) page(start int, cursor string, count int) url.Values {
	query := url.Values{"count": {strconv.Itoa(min(count, c.MaxResults))}}
	if c.Pages == "cursor" {
		query.Set("cursor", cursor)
	} else {
		query.Set("startIndex", strconv.Itoa(max(start, 1)))
	}
	return query
}

// readAttempts is how often a list is read from its beginning before it is
// called incomplete: the cloud may change meanwhile, so that resources slip from
// one page to another.
const readAttempts = 2

func (c *Client) readAll(ctx context.Context, kind entry.Kind, can Capabilities, emit func([]entry.Resource) error) error {
	var err error
	for range readAttempts {
		if err = c.readOnce(ctx, kind, can, emit); problem.CodeOf(err) != problem.CloudListIncomplete {
			break
		}
	}
	return err
}

func (c *Client) readOnce(ctx context.Context, kind entry.Kind, can Capabilities, emit func([]entry.Resource) error) error {
	walk := pages{what: fmt.Sprintf("the list of all %ss", kind)}
	for {
		page, err := c.list(ctx, kind, can.page(walk.start, walk.cursor, can.MaxResults))
		if err != nil {
			return fmt.Errorf("read all %ss from number %d on: %w", kind, max(walk.start, 1), err)
		}
		more, err := walk.take(page.ids(), page.total, page.start, page.next)
		if err != nil {
			return err
		}
		if err := emit(page.resources); err != nil || !more {
			return err
		}
	}
}

// Count asks how many resources of a kind the cloud has.
func (c *Client) Count(ctx context.Context, kind entry.Kind) (int, error) {
	can, err := c.Discover(ctx)
	if err != nil {
		return 0, err
	}
	page, err := c.list(ctx, kind, can.page(1, "", 0))
	if err != nil {
		return 0, fmt.Errorf("count the %ss: %w", kind, err)
	}
	return page.total, nil
}

// listing is one page of a list.
type listing struct {
	resources []entry.Resource
	total     int
	start     int    // where the service says that the page begins, 0 for untold
	next      string // cursor of the next page
	stamps    bool   // the resources have an id and meta only
}

func (l listing) ids() []string {
	ids := make([]string, len(l.resources))
	for i, resource := range l.resources {
		ids[i] = resource.ID()
	}
	return ids
}

// list reads one page.
func (c *Client) list(ctx context.Context, kind entry.Kind, query url.Values) (listing, error) {
	path, err := c.path(ctx, kind, "")
	if err != nil {
		return listing{}, err
	}
	if kind == entry.Group && !query.Has("attributes") {
		query.Set("excludedAttributes", "members")
	}
	var response scim.ListResponse
	if err := c.get(ctx, path+"?"+query.Encode(), &response); err != nil {
		return listing{}, err
	}
	page := listing{resources: make([]entry.Resource, len(response.Resources)), total: response.TotalResults, start: response.StartIndex, next: response.NextCursor}
	for i, text := range response.Resources {
		if page.resources[i], err = decode(kind, text); err != nil {
			return listing{}, err
		}
	}
	return page, nil
}

// decode reads a resource of the cloud's answer, without the members of a group:
// they are kept as rows.
func decode(kind entry.Kind, text []byte) (entry.Resource, error) {
	var resource entry.Resource
	if err := unmarshal(text, &resource); err != nil {
		return nil, problem.Wrap(problem.CloudRefused, err, "read a %s of the cloud's answer", kind)
	}
	return withoutMembers(kind, entry.Canonical(resource)), nil
}

// unmarshal reads what a cloud says as leniently as encoding/json does, in two thirds of its time.
func unmarshal(text []byte, into *entry.Resource) error {
	return jsonv2.Unmarshal(text, into, jsontext.AllowDuplicateNames(true), jsontext.AllowInvalidUTF8(true))
}

func withoutMembers(kind entry.Kind, resource entry.Resource) entry.Resource {
	if kind == entry.Group {
		delete(resource, "members")
	}
	return resource
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

// Get reads one resource, a group without its members; nil when the cloud has
// none with this id.
func (c *Client) Get(ctx context.Context, kind entry.Kind, id string) (entry.Resource, error) {
	path, err := c.path(ctx, kind, id)
	if err != nil {
		return nil, err
	}
	if kind == entry.Group {
		path += "?excludedAttributes=members"
	}
	resource, err := c.getOne(ctx, path)
	if err != nil {
		return nil, fmt.Errorf("read the %s %s: %w", kind, id, err)
	}
	if resource != nil && resource.ID() != id {
		return nil, problem.New(problem.CloudRefused, "the %s %s was asked for, and the cloud answered with %q", kind, id, resource.ID())
	}
	return withoutMembers(kind, resource), nil
}

// getOne reads what is at a path; nil when there is nothing.
func (c *Client) getOne(ctx context.Context, path string) (entry.Resource, error) {
	var resource entry.Resource
	err := c.get(ctx, path, &resource)
	var refusal *Refusal
	if errors.As(err, &refusal) && refusal.Status == http.StatusNotFound {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	return entry.Canonical(resource), nil
}

// memberList is the part of a group that is read for its members.
type memberList struct {
	ID      string `json:"id"`
	Members []struct {
		Value string `json:"value"`
		Ref   string `json:"$ref"`
	} `json:"members"`
}

func (l memberList) ids() []string {
	ids := make([]string, 0, len(l.Members))
	for _, m := range l.Members {
		if id := m.Value; id != "" {
			ids = append(ids, id)
		} else if id := entry.LastSegment(m.Ref); id != "" {
			ids = append(ids, id)
		}
	}
	return ids
}

// Members reads the ids of a group's members; false when the cloud has no such
// group. A service may give members only when they are asked for, or may not
// know how to be asked (RFC 7644 section 3.9), so that none counts only where
// both ways say so.
func (c *Client) Members(ctx context.Context, id string) (members []string, found bool, err error) {
	path, err := c.path(ctx, entry.Group, id)
	if err != nil {
		return nil, false, err
	}
	for _, query := range []string{"?attributes=members", ""} {
		var list memberList
		err := c.get(ctx, path+query, &list)
		var refusal *Refusal
		switch {
		case errors.As(err, &refusal) && refusal.Status == http.StatusNotFound:
			return nil, false, nil
		case errors.As(err, &refusal) && refusal.Status == http.StatusBadRequest && query != "":
			continue
		case err != nil:
			return nil, false, fmt.Errorf("read the members of group %s: %w", id, err)
		case list.ID != "" && list.ID != id:
			return nil, false, problem.New(problem.CloudRefused, "the members of group %s were asked for, and the cloud answered with %q", id, list.ID)
		case len(list.Members) > 0:
			return list.ids(), true, nil
		}
	}
	return nil, true, nil
}

// HasMember asks whether a group has a member, where the list of its members may be cut
// short. known is false where the service does not answer that: of a member that nobody
// is, it must say no.
func (c *Client) HasMember(ctx context.Context, group, member string) (has, known bool, err error) {
	can, err := c.Discover(ctx)
	if err != nil || !can.Filter {
		return false, false, err
	}
	ask := func(id string) (bool, error) {
		query := can.page(1, "", can.MaxResults)
		query.Set("filter", fmt.Sprintf("id eq %q and members.value eq %q", group, id))
		page, err := c.list(ctx, entry.Group, query)
		return slices.Contains(page.ids(), group), err
	}
	everybody, err := ask(uuid.NewString())
	if err == nil && !everybody {
		has, err = ask(member)
	}
	if refusesFilter(err) {
		return false, false, nil
	}
	return has, !everybody, err
}
