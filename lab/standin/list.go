package standin

import (
	"encoding/json"
	"slices"
	"sort"
	"strings"
	"time"

	"kambrel.example/kambrel/core/scimfilter"
)

// query is a list request; startIndex is 1-based (RFC 7644 section 3.4.2.4).
type query struct {
	filter     *scimfilter.Filter
	byModified bool
	descending bool
	startIndex int
	count      int
}

// onMembers tells whether the filter asks about members.
func (q query) onMembers() bool { return q.filter != nil && q.filter.AsksFor("members") }

// list returns one page as JSON and the number of all resources that fit.
func (s *store) list(endpoint string, q query, render func(*stored) json.RawMessage) ([]json.RawMessage, int, *failure) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	c, f := s.collection(endpoint)
	if f != nil {
		return nil, 0, f
	}
	var page []json.RawMessage
	total := 0
	take := func(item *stored) {
		if !s.listed(item) {
			return
		}
		total++
		if total >= q.startIndex && len(page) < q.count {
			page = append(page, render(item))
		}
	}
	if items, ok := c.exact(q.filter); ok {
		for i, item := range items {
			if !slices.Contains(items[:i], item) && q.filter.Matches(item.withMeta(c.kind, q.onMembers())) {
				take(item)
			}
		}
		return page, total, nil
	}
	since, simple := sinceOf(q.filter)
	if since != "" || q.byModified {
		at := 0
		if since != "" {
			at = sort.Search(len(c.changed), func(i int) bool { return timestamp(c.changed[i].at) >= since })
		}
		live := c.changed[at:]
		for i := range live {
			entry := live[i]
			if q.descending {
				entry = live[len(live)-1-i]
			}
			if entry.of.gone || entry.version != entry.of.version {
				continue
			}
			if simple || q.filter == nil || q.filter.Matches(entry.of.withMeta(c.kind, q.onMembers())) {
				take(entry.of)
			}
		}
		return page, total, nil
	}
	for _, item := range c.created {
		if !item.gone && (q.filter == nil || q.filter.Matches(item.withMeta(c.kind, q.onMembers()))) {
			take(item)
		}
	}
	return page, total, nil
}

// exact answers filters on unique values, one or several, from the index.
func (c *collection) exact(e *scimfilter.Filter) ([]*stored, bool) {
	if e != nil && e.Operator == "or" {
		left, ok := c.exact(e.Left)
		if !ok {
			return nil, false
		}
		right, ok := c.exact(e.Right)
		return append(left, right...), ok
	}
	if e == nil || e.Operator != "eq" {
		return nil, false
	}
	found := func(id string) ([]*stored, bool) {
		if item := c.byID[id]; item != nil {
			return []*stored{item}, true
		}
		return nil, true
	}
	value, ok := e.Value.(string)
	if !ok {
		return nil, false
	}
	switch strings.ToLower(e.Path) {
	case "id":
		return found(value)
	case "externalid":
		return found(c.external[value])
	case "username":
		return found(c.unique["userName="+strings.ToLower(value)])
	}
	return nil, false
}

// sinceOf finds a lower bound of lastModified, with which a query need not
// look at every resource, and whether the filter asks for nothing else.
func sinceOf(e *scimfilter.Filter) (string, bool) {
	if e == nil {
		return "", false
	}
	if strings.EqualFold(e.Path, "meta.lastModified") && (e.Operator == "ge" || e.Operator == "gt") {
		value, _ := e.Value.(string)
		if at, err := time.Parse(time.RFC3339Nano, value); err == nil {
			return timestamp(at.UTC()), e.Operator == "ge"
		}
	}
	if e.Operator == "and" {
		since, _ := sinceOf(e.Left)
		return since, false
	}
	return "", false
}

const timeForm = "2006-01-02T15:04:05.000000Z"
