package cloud

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strconv"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/plan"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/scim"
)

// Write is one write: a creation of Resource when ID is empty, else a change of
// Resource, as the cloud has it, by the diffs, or its deletion.
type Write struct {
	Kind     entry.Kind
	Delete   bool
	ID       string
	Version  string // for If-Match; "" writes whatever the version
	Resource entry.Resource
	Diffs    []plan.Diff
}

// Answer is the result of one write. Err is a *Refusal, ErrUnknownOutcome, or a
// problem that concerns the cloud as a whole.
type Answer struct {
	Resource entry.Resource
	Err      error
}

// bulkAtLeast is from how many writes on a bulk request pays.
const bulkAtLeast = 8

// Write carries writes out and answers each. Throttled ones are repeated; one
// without an answer is not, since it may have been done.
func (c *Client) Write(ctx context.Context, writes []Write) []Answer {
	answers := make([]Answer, len(writes))
	capabilities, err := c.Discover(ctx)
	if err != nil {
		for i := range answers {
			answers[i].Err = err
		}
		return answers
	}
	size := capabilities.BulkOperations
	// The answer to a change of a group would bring all members; only a single
	// request can ask to leave them out (RFC 7644 section 3.9).
	single := slices.ContainsFunc(writes, func(w Write) bool { return w.Kind == entry.Group && w.ID != "" && !w.Delete })
	if single || len(writes) < bulkAtLeast || size < bulkAtLeast {
		for i, write := range writes {
			answers[i] = c.writeOne(ctx, capabilities, write)
		}
		return answers
	}
	for start := 0; start < len(writes); {
		n := c.writeBulk(ctx, capabilities, writes[start:min(start+size, len(writes))], answers[start:])
		start += n
	}
	return answers
}

// request makes the method, the path and the body of a write, with PATCH where
// the service has it, else with PUT of the whole resource.
func (c *Client) request(ctx context.Context, can Capabilities, w Write) (method, path string, body []byte, err error) {
	if path, err = c.path(ctx, w.Kind, w.ID); err != nil {
		return "", "", nil, err
	}
	t, _, err := c.Type(ctx, w.Kind)
	switch {
	case err != nil:
	case w.Delete:
		method = http.MethodDelete
	case w.ID == "":
		method = http.MethodPost
		body, err = json.Marshal(t.whole(w.Resource))
	case can.Patch:
		method = http.MethodPatch
		var operations []plan.PatchOperation
		if operations, err = plan.Patch(w.Resource, w.Diffs); err == nil {
			body, err = json.Marshal(map[string]any{"schemas": []string{scim.PatchOpURN}, "Operations": operations})
		}
	default:
		method = http.MethodPut
		resource, cloneErr := w.Resource.Clone()
		if err = cloneErr; err == nil {
			err = plan.Advance(resource, w.Diffs)
		}
		if err == nil {
			delete(resource, "meta")
			delete(resource, "groups") // read-only (RFC 7643 section 4.1.2)
			body, err = json.Marshal(t.whole(resource))
		}
	}
	return method, path, body, err
}

func (t Type) whole(in entry.Resource) entry.Resource {
	resource := entry.Resource{}
	for name, value := range in {
		resource[name] = value
	}
	resource["schemas"] = t.schemasOf(in)
	return resource
}

// freshened reads a resource again that will be put as a whole where no entity
// tag protects what others have changed meanwhile. A group is always read, for
// its members.
func (c *Client) freshened(ctx context.Context, can Capabilities, w Write) (Write, error) {
	if w.ID == "" || w.Delete || can.Patch || can.ETag && w.Version != "" && w.Kind != entry.Group {
		return w, nil
	}
	path, err := c.path(ctx, w.Kind, w.ID)
	if err != nil {
		return w, err
	}
	resource, err := c.getOne(ctx, path)
	if err != nil {
		return w, err
	}
	if resource == nil {
		return w, &Refusal{Status: http.StatusNotFound, Detail: fmt.Sprintf("there is no %s %s", w.Kind, w.ID)}
	}
	w.Resource = resource
	if w.Kind == entry.Group && w.Version == "" {
		w.Version = resource.Version()
	}
	return w, nil
}

func (t Type) schemasOf(resource entry.Resource) []string {
	schemas := []string{t.Schemas[0]}
	for name := range resource {
		if len(name) > 4 && name[:4] == "urn:" {
			schemas = append(schemas, name)
		}
	}
	return schemas
}

func (c *Client) writeOne(ctx context.Context, can Capabilities, w Write) Answer {
	w, err := c.freshened(ctx, can, w)
	if err != nil {
		return Answer{Err: err}
	}
	method, path, body, err := c.request(ctx, can, w)
	if err != nil {
		return Answer{Err: err}
	}
	if w.Kind == entry.Group && !w.Delete {
		path += "?excludedAttributes=members"
	}
	version := w.Version
	if !can.ETag {
		version = ""
	}
	var resource entry.Resource
	if err := c.send(ctx, method, path, version, body, &resource); err != nil {
		return Answer{Err: err}
	}
	if w.Delete {
		return Answer{}
	}
	if resource.ID() == "" {
		// A PATCH may be answered with 204 and no body (RFC 7644 section 3.5.2).
		if resource, err = c.Get(ctx, w.Kind, w.ID); err != nil || resource == nil {
			return Answer{Err: fmt.Errorf("%w: the answer has no resource", ErrUnknownOutcome)}
		}
	}
	withoutMembers(w.Kind, resource)
	return Answer{Resource: resource}
}

// send repeats a write only while the cloud says that it did not do it.
func (c *Client) send(ctx context.Context, method, path, version string, body []byte, into any) error {
	var err error
	for attempt := range mostAttempts {
		err = c.once(ctx, method, path, version, body, into)
		var refusal *Refusal
		switch {
		case err == nil:
			return nil
		case errors.As(err, &refusal) && refusal.Status == http.StatusTooManyRequests:
			if err := c.wait(ctx, attempt); err != nil {
				return err
			}
			continue
		case !errors.As(err, &refusal), refusal.Status >= 500:
			return fmt.Errorf("%w: %w", ErrUnknownOutcome, err)
		}
		return classify(err)
	}
	return classify(err)
}

// writeBulk sends as many writes as fit the payload and returns how many.
func (c *Client) writeBulk(ctx context.Context, capabilities Capabilities, writes []Write, answers []Answer) int {
	request := scim.BulkRequest{Schemas: []string{scim.BulkRequestURN}}
	size := 0
	for i, w := range writes {
		w, err := c.freshened(ctx, capabilities, w)
		var method, path string
		var body []byte
		if err == nil {
			method, path, body, err = c.request(ctx, capabilities, w)
		}
		if err != nil {
			if len(request.Operations) > 0 {
				break // it begins the next request
			}
			answers[i].Err = err
			return i + 1
		}
		if size += len(body) + 200; i > 0 && capabilities.BulkPayload > 0 && size > capabilities.BulkPayload {
			break
		}
		operation := scim.BulkOperation{Method: method, Path: path, Data: body, BulkID: strconv.Itoa(i)}
		if capabilities.ETag {
			operation.Version = w.Version
		}
		request.Operations = append(request.Operations, operation)
	}
	n := len(request.Operations)
	body, err := json.Marshal(request)
	var response scim.BulkResponse
	if err == nil {
		err = c.send(ctx, http.MethodPost, "/Bulk", "", body, &response)
	}
	if err == nil && len(response.Operations) != n {
		err = fmt.Errorf("%w: %d results for %d operations", ErrUnknownOutcome, len(response.Operations), n)
	}
	for i := range n {
		if err != nil {
			answers[i].Err = err
			continue
		}
		answers[i] = bulkAnswer(response.Operations[i], writes[i])
	}
	return n
}

func bulkAnswer(result scim.BulkResult, w Write) Answer {
	status, err := strconv.Atoi(result.Status)
	if err != nil {
		return Answer{Err: fmt.Errorf("%w: status %q", ErrUnknownOutcome, result.Status)}
	}
	if status < 200 || status > 299 {
		refusal := refusalOf(status, result.Response)
		if status == http.StatusTooManyRequests || status >= 500 {
			return Answer{Err: fmt.Errorf("%w: %w", ErrUnknownOutcome, refusal)}
		}
		return Answer{Err: classify(refusal)}
	}
	if w.Delete {
		return Answer{}
	}
	var resource entry.Resource
	if len(result.Response) > 0 {
		if err := json.Unmarshal(result.Response, &resource); err != nil {
			return Answer{Err: problem.Wrap(problem.CloudRefused, err, "read the cloud's answer")}
		}
		withoutMembers(w.Kind, resource)
		return Answer{Resource: resource}
	}
	// The service may leave the resource out (RFC 7644 section 3.7.3): what was
	// sent is taken for it until the next read.
	return Answer{Err: fmt.Errorf("%w: the result has no resource", ErrUnknownOutcome), Resource: w.Resource}
}
