package cloud

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"strconv"
	"strings"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/protocol/scim"
)

// writeBulk sends as many writes as fit the payload and returns how many.
func (c *Client) writeBulk(ctx context.Context, can Capabilities, writes []Write, answers []Answer) int {
	bulk := scim.BulkRequest{Schemas: []string{scim.BulkRequestURN}}
	size := 0
	for i, w := range writes {
		w, err := c.freshened(ctx, can, w)
		var r request
		if err == nil {
			r, err = c.request(ctx, can, w)
		}
		if err != nil {
			if len(bulk.Operations) > 0 {
				break // it begins the next request
			}
			answers[i].Err = err
			return i + 1
		}
		if size += len(r.body) + 200; i > 0 && can.BulkPayload > 0 && size > can.BulkPayload {
			break
		}
		bulk.Operations = append(bulk.Operations, scim.BulkOperation{Method: r.method, Path: r.path, Data: r.body, BulkID: strconv.Itoa(i), Version: r.version})
	}
	n := len(bulk.Operations)
	body, err := json.Marshal(bulk)
	var response scim.BulkResponse
	if err == nil {
		_, err = c.send(ctx, request{method: http.MethodPost, path: "/Bulk", body: body}, &response)
	}
	if lacking(err, http.StatusNotFound, http.StatusForbidden) {
		c.deny(FeatureBulk, err)
		return 0
	}
	if err != nil {
		for i := range n {
			answers[i].Err = err
		}
		return n
	}
	results := assign(response.Operations, bulk.Operations, writes)
	for i := range n {
		if results[i] == nil {
			answers[i].Err = fmt.Errorf("%w: the bulk answer has no result that fits it", ErrUnknownOutcome)
			continue
		}
		answers[i] = c.bulkAnswer(ctx, *results[i], writes[i])
	}
	return n
}

// assign finds the result of each operation by its bulkId, since results may
// come in any order (RFC 7644 section 3.7); without one by the resource that it
// is about. What fits nothing, or fits something twice, is nobody's.
func assign(results []scim.BulkResult, operations []scim.BulkOperation, writes []Write) []*scim.BulkResult {
	out := make([]*scim.BulkResult, len(operations))
	double := map[int]bool{}
	for i := range results {
		at := place(results[i], operations, writes)
		switch {
		case at < 0 || double[at]:
		case out[at] != nil:
			double[at], out[at] = true, nil
		default:
			out[at] = &results[i]
		}
	}
	return out
}

// place is the index of the operation that a result is about, -1 where that
// cannot be told.
func place(result scim.BulkResult, operations []scim.BulkOperation, writes []Write) int {
	if result.BulkID != "" {
		at, err := strconv.Atoi(result.BulkID)
		if err != nil || at < 0 || at >= len(operations) || result.Method != "" && !strings.EqualFold(result.Method, operations[at].Method) {
			return -1
		}
		return at
	}
	id, key := entry.LastSegment(result.Location), ""
	var resource entry.Resource
	if unmarshal(result.Response, &resource) == nil {
		key = entry.Canonical(resource).ExternalID()
	}
	found := -1
	for i := range operations {
		fits := writes[i].ID != "" && writes[i].ID == id || writes[i].ID == "" && key != "" && writes[i].Resource.ExternalID() == key
		switch {
		case !fits:
		case found >= 0:
			return -1
		default:
			found = i
		}
	}
	return found
}

func (c *Client) bulkAnswer(ctx context.Context, result scim.BulkResult, w Write) Answer {
	status, err := strconv.Atoi(string(result.Status))
	if err != nil {
		return Answer{Err: fmt.Errorf("%w: status %q", ErrUnknownOutcome, result.Status)}
	}
	if status < 200 || status > 299 {
		refusal := refusalOf(status, result.Response)
		if status == http.StatusTooManyRequests || broken(status) {
			return Answer{Err: fmt.Errorf("%w: %w", ErrUnknownOutcome, refusal)}
		}
		return Answer{Err: classify(refusal)}
	}
	if w.Delete {
		return Answer{}
	}
	// The service may leave the resource out (RFC 7644 section 3.7.3).
	var resource entry.Resource
	if len(result.Response) > 0 {
		if err := unmarshal(result.Response, &resource); err != nil {
			return Answer{Err: fmt.Errorf("%w: %w", ErrUnknownOutcome, err)}
		}
	}
	resource = entry.Canonical(resource)
	if at := entry.LastSegment(result.Location); w.ID != "" && at != "" && at != w.ID {
		return Answer{Err: fmt.Errorf("%w: the result is about %s", ErrUnknownOutcome, result.Location)}
	}
	return c.completed(ctx, w, resource, result.Location)
}
