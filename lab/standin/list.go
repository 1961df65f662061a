package standin

import (
	"encoding/json"
	"sort"
	"strings"
	"time"
)

// query is a list request; startIndex is 1-based (RFC 7644 section 3.4.2.4).
type query struct {
	filter     *expression
	byModified bool
	descending bool
	startIndex int
	count      int
}

// onMembers tells whether the filter asks about members.
func (q query) onMembers() bool { return q.filter != nil && q.filter.asksFor("members") }

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
	if item, ok := c.exact(q.filter); ok {
		if item != nil && q.filter.matches(item.withMeta(c.kind, q.onMembers())) {
			take(item)
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
			if simple || q.filter == nil || q.filter.matches(entry.of.withMeta(c.kind, q.onMembers())) {
				take(entry.of)
			}
		}
		return page, total, nil
	}
	for _, item := range c.created {
		if !item.gone && (q.filter == nil || q.filter.matches(item.withMeta(c.kind, q.onMembers()))) {
			take(item)
		}
	}
	return page, total, nil
}

// exact answers filters on unique values from the index.
func (c *collection) exact(e *expression) (*stored, bool) {
	if e == nil || e.operator != "eq" {
		return nil, false
	}
	value, ok := e.value.(string)
	if !ok {
		return nil, false
	}
	switch strings.ToLower(e.path) {
	case "id":
		return c.byID[value], true
	case "externalid":
		return c.byID[c.external[value]], true
	case "username":
		return c.byID[c.unique["userName="+strings.ToLower(value)]], true
	}
	return nil, false
}

// sinceOf finds a lower bound of lastModified, with which a query need not
// look at every resource, and whether the filter asks for nothing else.
func sinceOf(e *expression) (string, bool) {
	if e == nil {
		return "", false
	}
	if strings.EqualFold(e.path, "meta.lastModified") && (e.operator == "ge" || e.operator == "gt") {
		value, _ := e.value.(string)
		if at, err := time.Parse(time.RFC3339Nano, value); err == nil {
			return timestamp(at.UTC()), e.operator == "ge"
		}
	}
	if e.operator == "and" {
		since, _ := sinceOf(e.left)
		return since, false
	}
	return "", false
}

const timeForm = "2006-01-02T15:04:05.000000Z"
