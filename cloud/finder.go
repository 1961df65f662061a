package cloud

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

	"kambrel.example/kambrel/core/entry"
)

// Finder looks resources of one kind up by their values. A cloud without filters,
// or one that does not heed them, is read once for all look-ups. It serves one
// goroutine.
type Finder struct {
	client *Client
	kind   entry.Kind
	all    []entry.Resource
	whole  bool                        // all is known
	ahead  map[string][]entry.Resource // by link keys that were asked for together
}

// Finder returns a new one, which knows nothing yet.
func (c *Client) Finder(kind entry.Kind) *Finder { return &Finder{client: c, kind: kind} }

// Having lists the resources that have a value at a path such as emails.value,
// as the cloud's lists have them now, which may lag behind.
func (f *Finder) Having(ctx context.Context, path, value string) ([]entry.Resource, error) {
	at, err := entry.ParsePath(path)
	if err != nil {
		return nil, err
	}
	can, err := f.client.Discover(ctx)
	if err != nil {
		return nil, err
	}
	if can.Filter && !f.whole {
		text, err := json.Marshal(value)
		if err != nil {
			return nil, err
		}
		query := can.page(1, "", can.MaxResults)
		query.Set("filter", path+" eq "+string(text))
		page, err := f.client.list(ctx, f.kind, query)
		if err != nil && !refusesFilter(err) {
			return nil, fmt.Errorf("look who has %s %s: %w", path, text, err)
		}
		found := having(page.resources, at, value)
		if err == nil && len(found) == len(page.resources) && page.total <= len(page.resources) {
			return found, nil
		}
	}
	if !f.whole {
		f.all = nil
		if err := f.client.readAll(ctx, f.kind, can, func(page []entry.Resource) error {
			f.all = append(f.all, page...)
			return nil
		}); err != nil {
			return nil, fmt.Errorf("look who has %s %q: %w", path, value, err)
		}
		f.whole = true
	}
	return having(f.all, at, value), nil
}

func having(resources []entry.Resource, at entry.Path, value string) []entry.Resource {
	var found []entry.Resource
	for _, resource := range resources {
		for _, have := range at.Texts(resource) {
			if strings.EqualFold(have, value) {
				found = append(found, resource)
				break
			}
		}
	}
	return found
}

// aheadAtOnce is how many link keys are asked for in one request: as many as an address of two
// kilobytes holds, which every server takes.
const aheadAtOnce = 25

// LookAhead asks for many link keys at once, so that ByLinkKey need not ask for each. It is for
// what the cloud would refuse to make twice: a service that heeds only a part of a filter has
// nothing where there is something. What it does not answer soundly is asked for singly.
func (f *Finder) LookAhead(ctx context.Context, keys []string) error {
	can, err := f.client.Discover(ctx)
	if err != nil || !can.Filter || f.whole {
		return err
	}
	for some := range slices.Chunk(keys, max(1, min(aheadAtOnce, can.MaxResults))) {
		terms, wanted := make([]string, len(some)), map[string][]entry.Resource{}
		for i, key := range some {
			text, err := json.Marshal(key)
			if err != nil {
				return err
			}
			terms[i], wanted[key] = "externalId eq "+string(text), nil
		}
		query := can.page(1, "", can.MaxResults)
		query.Set("filter", strings.Join(terms, " or "))
		page, err := f.client.list(ctx, f.kind, query)
		if refusesFilter(err) {
			return nil
		}
		if err != nil {
			return fmt.Errorf("look for %d link keys: %w", len(some), err)
		}
		for _, resource := range page.resources {
			key := resource.ExternalID()
			if _, asked := wanted[key]; !asked {
				return nil // it heeds no filter
			}
			wanted[key] = append(wanted[key], resource)
		}
		if page.total > len(page.resources) {
			return nil
		}
		if f.ahead == nil {
			f.ahead = map[string][]entry.Resource{}
		}
		maps.Copy(f.ahead, wanted)
	}
	return nil
}

// ByLinkKey finds the resource that bears a link key; nil when the lists have
// none, which is no proof that there is none.
func (f *Finder) ByLinkKey(ctx context.Context, key string) (entry.Resource, error) {
	found, asked := f.ahead[key]
	if !asked {
		var err error
		if found, err = f.Having(ctx, "externalId", key); err != nil {
			return nil, fmt.Errorf("look for link key %s: %w", key, err)
		}
	}
	for _, resource := range found {
		if resource.ExternalID() == key {
			return resource, nil
		}
	}
	return nil, nil
}
