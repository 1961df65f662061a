package cloud

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"time"

	"kambrel.example/kambrel/core/change"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/rules"
	"kambrel.example/kambrel/protocol/scim"
)

// Write is one write: a creation of Resource when ID is empty, else a change of
// Resource, as the cloud has it, by the diffs, or its deletion.
type Write struct {
	Kind     entry.Kind
	Delete   bool
	ID       string
	Version  string // for If-Match; "" writes whatever the version
	Resource entry.Resource
	Diffs    []change.Diff

	// whole sets each attribute that changes as a whole.
	whole bool
	// complete: Resource was read with everything that it has, members of a group
	// included, so that it can be put back.
	complete bool
}

// Answer is the result of one write. Err is a *Refusal, ErrUnknownOutcome,
// ErrMadeUnnamed, or a problem that concerns the cloud as a whole. Resource is
// the resource as it is now, a group without its members.
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
	can, err := c.Discover(ctx)
	if err != nil {
		for i := range answers {
			answers[i].Err = err
		}
		return answers
	}
	size := can.BulkOperations
	// The answer to a change of a group may bring all members; only a single
	// request can ask to leave the resource out.
	single := slices.ContainsFunc(writes, func(w Write) bool { return w.Kind == entry.Group && w.ID != "" && !w.Delete })
	if single || len(writes) < bulkAtLeast || size < bulkAtLeast {
		c.writeEach(ctx, can, writes, answers)
		return answers
	}
	for start := 0; start < len(writes); {
		n := c.writeBulk(ctx, can, writes[start:min(start+size, len(writes))], answers[start:])
		if n == 0 { // there is no bulk after all
			c.writeEach(ctx, can, writes[start:], answers[start:])
			break
		}
		start += n
	}
	for i, answer := range answers {
		if can.Patch && writes[i].ID != "" && !writes[i].Delete && lacking(answer.Err) {
			answers[i] = c.writeOne(ctx, can, writes[i])
		} else if noTarget(answer.Err) {
			answers[i] = c.writeWhole(ctx, can, writes[i])
		}
	}
	return answers
}

// writeEach writes one after the other. After one that was made unnamed, no other
// resource is made.
func (c *Client) writeEach(ctx context.Context, can Capabilities, writes []Write, answers []Answer) {
	unnamed := false
	for i, write := range writes {
		if unnamed && write.ID == "" {
			answers[i].Err = ErrNotSent
			continue
		}
		answers[i] = c.writeOne(ctx, can, write)
		unnamed = unnamed || errors.Is(answers[i].Err, ErrMadeUnnamed)
	}
}

// request makes the request of a write, with PATCH where the service has it,
// else with PUT of the whole resource.
func (c *Client) request(ctx context.Context, can Capabilities, w Write) (request, error) {
	var r request
	var err error
	if r.path, err = c.path(ctx, w.Kind, w.ID); err != nil {
		return r, err
	}
	t, _, err := c.Type(ctx, w.Kind)
	if err != nil {
		return r, err
	}
	r.minimal = w.Kind == entry.Group && w.ID != ""
	if can.ETag {
		r.version = w.Version
	}
	switch {
	case w.Delete:
		r.method = http.MethodDelete
	case w.ID == "":
		r.method = http.MethodPost
		r.body, err = json.Marshal(t.whole(w.Resource))
	case can.Patch:
		r.method = http.MethodPatch
		patch := change.Patch
		if w.whole || can.wholly(w) {
			patch = change.PatchWhole
		}
		var operations []change.PatchOperation
		if operations, err = patch(w.Resource, w.Diffs); err == nil {
			r.body, err = json.Marshal(map[string]any{"schemas": []string{scim.PatchOpURN}, "Operations": operations})
		}
	case !w.complete:
		err = fmt.Errorf("the %s %s was read in part, and putting that back would take the rest away", w.Kind, w.ID)
	default:
		r.method = http.MethodPut
		r.body, err = putBody(t, w)
	}
	return r, err
}

// putBody is the whole resource as it is after the diffs.
func putBody(t Type, w Write) ([]byte, error) {
	resource, err := w.Resource.Clone()
	if err != nil {
		return nil, err
	}
	if err := change.Advance(resource, w.Diffs); err != nil {
		return nil, err
	}
	delete(resource, "meta")
	delete(resource, "groups") // read-only (RFC 7643 section 4.1.2)
	return json.Marshal(t.whole(resource))
}

func (t Type) whole(in entry.Resource) entry.Resource {
	resource := entry.Resource{}
	for name, value := range in {
		resource[name] = value
	}
	resource["schemas"] = t.schemasOf(in)
	return resource
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

// freshened reads a resource again that will be put as a whole: what is not put
// back is lost, so it must be all that there is, and what others have changed
// meanwhile, where no entity tag protects that.
func (c *Client) freshened(ctx context.Context, can Capabilities, w Write) (Write, error) {
	if w.ID == "" || w.Delete || can.Patch && !can.wholly(w) {
		return w, nil
	}
	if can.ETag && w.Version != "" && w.Resource != nil && (w.Kind != entry.Group || can.Patch) {
		w.complete = true
		return w, nil
	}
	if can.Patch { // what of an attribute is not Kambrel's goes back as it is now
		var err error
		w.Resource, err = c.asItIs(ctx, w)
		return w, err
	}
	path, err := c.path(ctx, w.Kind, w.ID)
	if err != nil {
		return w, err
	}
	resource, err := c.getOne(ctx, path)
	if err == nil && resource != nil && w.Kind == entry.Group {
		resource, err = c.withMembers(ctx, resource, w.ID)
	}
	if err != nil {
		return w, err
	}
	if resource == nil {
		return w, noResource(w)
	}
	w.Resource, w.complete = resource, true
	if w.Kind == entry.Group && w.Version == "" {
		w.Version = resource.Version()
	}
	return w, nil
}

// withMembers gives a group its members where the service sends them only when
// they are asked for; nil when the group is gone meanwhile.
func (c *Client) withMembers(ctx context.Context, group entry.Resource, id string) (entry.Resource, error) {
	members := membersPath.Values(group)
	if len(members) == 0 {
		var found bool
		var err error
		if members, found, err = c.Members(ctx, id); err != nil || !found {
			return nil, err
		}
	}
	c.mu.Lock()
	listed := c.listed
	c.mu.Unlock()
	if listed > 0 && len(members) >= listed {
		return nil, problem.New(problem.CloudRefused, "the cloud takes groups as a whole alone, and lists %d of their members at most: putting the group %s back would take the others out", listed, id)
	}
	for _, member := range members {
		membersPath.AddElement(group, map[string]any{"value": member})
	}
	return group, nil
}

var membersPath = entry.MustPath(rules.Members)

func (c *Client) writeOne(ctx context.Context, can Capabilities, w Write) Answer {
	answer := c.sendOne(ctx, can, w)
	if can.Patch && w.ID != "" && !w.Delete && lacking(answer.Err) {
		c.deny(FeaturePatch, answer.Err)
		can.Patch = false
		answer = c.sendOne(ctx, can, w)
	}
	if noTarget(answer.Err) && !w.whole {
		return c.writeWhole(ctx, can, w)
	}
	return answer
}

// noTarget tells the refusal of a change of a part of something that is not
// there: RFC 7644 section 3.5.2.3 has it added, yet services refuse that.
func noTarget(err error) bool {
	var refusal *Refusal
	return errors.As(err, &refusal) && refusal.ScimType == "noTarget"
}

// asItIs reads a resource again that will be changed, a group without its members.
func (c *Client) asItIs(ctx context.Context, w Write) (entry.Resource, error) {
	resource, err := c.Get(ctx, w.Kind, w.ID)
	if err == nil && resource == nil {
		err = noResource(w)
	}
	return resource, err
}

func noResource(w Write) error {
	return &Refusal{Status: http.StatusNotFound, Detail: fmt.Sprintf("there is no %s %s", w.Kind, w.ID)}
}

// ofMembers tells whether members of a group change, which are never set as a whole.
func (w Write) ofMembers() bool {
	return slices.ContainsFunc(w.Diffs, func(d change.Diff) bool { return d.Target == rules.Members })
}

// wholly tells whether a change sets its attributes as a whole, as the service is known to
// need it.
func (c Capabilities) wholly(w Write) bool {
	return c.WholeAttributes && c.Patch && w.ID != "" && !w.Delete && !w.ofMembers()
}

// writeWhole writes again what was refused since a part was not there, with the
// attributes that change as a whole, as they are now.
func (c *Client) writeWhole(ctx context.Context, can Capabilities, w Write) Answer {
	if !can.Patch || w.ID == "" || w.ofMembers() {
		return Answer{Err: &Refusal{Status: http.StatusBadRequest, ScimType: "noTarget"}}
	}
	resource, err := c.asItIs(ctx, w)
	if err != nil {
		return Answer{Err: err}
	}
	if w.Version != "" && resource.Version() != w.Version {
		return Answer{Err: &Refusal{Status: http.StatusPreconditionFailed, Detail: "the resource was changed meanwhile"}}
	}
	w.Resource, w.whole = resource, true
	return c.sendOne(ctx, can, w)
}

func (c *Client) sendOne(ctx context.Context, can Capabilities, w Write) Answer {
	w, err := c.freshened(ctx, can, w)
	if err != nil {
		return Answer{Err: err}
	}
	r, err := c.request(ctx, can, w)
	if err != nil {
		return Answer{Err: err}
	}
	var resource entry.Resource
	location, err := c.send(ctx, r, &resource)
	if err != nil || w.Delete {
		return Answer{Err: err}
	}
	return c.completed(ctx, w, entry.Canonical(resource), location)
}

// completed is the answer to a write that was done: the resource, which is asked
// for where the answer does not hold it (RFC 7644 section 3.5.2). One that fits
// something else than what was written is not believed.
func (c *Client) completed(ctx context.Context, w Write, resource entry.Resource, location string) Answer {
	id := resource.ID()
	if id == "" {
		id = entry.LastSegment(location)
	}
	switch {
	case w.ID != "" && id != "" && id != w.ID:
		return Answer{Err: fmt.Errorf("%w: %s %s was changed, and the answer is about %s", ErrUnknownOutcome, w.Kind, w.ID, id)}
	case w.ID == "" && !bears(resource, w.Resource.ExternalID()):
		return Answer{Err: fmt.Errorf("%w: the answer is about the link key %s, not %s", ErrUnknownOutcome, resource.ExternalID(), w.Resource.ExternalID())}
	case w.ID != "":
		id = w.ID
	case id == "":
		return Answer{Err: ErrMadeUnnamed}
	}
	if resource.ID() != "" {
		return Answer{Resource: withoutMembers(w.Kind, resource)}
	}
	resource, err := c.Get(ctx, w.Kind, id)
	switch {
	case err != nil:
		return Answer{Err: fmt.Errorf("%w: %w", ErrUnknownOutcome, err)}
	case resource == nil, w.ID == "" && !bears(resource, w.Resource.ExternalID()):
		if w.ID == "" {
			return Answer{Err: ErrMadeUnnamed}
		}
		return Answer{Err: fmt.Errorf("%w: the answer has no resource, and there is none with the id %s", ErrUnknownOutcome, id)}
	}
	return Answer{Resource: resource}
}

// bears tells whether a resource may be the one that was made with a link key: a
// service may leave out that it bears one.
func bears(resource entry.Resource, key string) bool {
	have := resource.ExternalID()
	return have == "" || have == key
}

// send repeats a write only while the cloud says that it did not do it.
func (c *Client) send(ctx context.Context, r request, into any) (location string, err error) {
	pauses, began := newPauses(), time.Now()
	for try := 0; try < mostAttempts; try++ {
		location, err = c.once(ctx, r, into)
		var refusal *Refusal
		switch {
		case err == nil:
			return location, nil
		case errors.As(err, &refusal) && refusal.Status == http.StatusTooManyRequests:
			if time.Since(began) < mostThrottled {
				try--
			}
			if err := c.wait(ctx, pauses); err != nil {
				return "", err
			}
			continue
		case !errors.As(err, &refusal) && wasNotSent(err):
			return "", err
		case !errors.As(err, &refusal), broken(refusal.Status):
			return "", fmt.Errorf("%w: %w", ErrUnknownOutcome, err)
		}
		return "", classify(err)
	}
	return "", classify(err)
}
