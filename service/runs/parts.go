package runs

import (
	"context"
	"errors"
	"net/http"
	"slices"

	"kambrel.example/kambrel/cloud"
	"kambrel.example/kambrel/core/change"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/plan"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/rules"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/service/store"
)

// aboutValues tells refusals that may be about one of the values that were sent alone,
// and not about the resource, the sender or the moment (RFC 7644 section 3.12).
func aboutValues(r *cloud.Refusal) bool {
	switch r.Status {
	case http.StatusBadRequest, http.StatusConflict, http.StatusRequestEntityTooLarge, http.StatusUnprocessableEntity:
		return r.ScimType != "uniqueness"
	}
	return false
}

// divisible tells whether a change can be sent in parts, so that a value that is
// refused keeps no other away.
func (p pending) divisible() bool {
	switch plan.Operation(p.Operation) {
	case plan.Create:
		return !p.least
	case plan.Update, plan.Restore, plan.Adopt:
		return len(change.Parts(p.Diffs)) > 1
	}
	return false
}

// divided is a change that was refused as a whole.
type divided struct {
	pending
	refusal *cloud.Refusal
}

// writeParts sends what was refused as a whole again in parts.
func (x *execution) writeParts(ctx context.Context, r *results, last bool) error {
	for _, d := range r.divided {
		var err error
		if d.creates() {
			err = x.createLeast(ctx, d, r, last)
		} else {
			err = x.updateInParts(ctx, d, r)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// createLeast makes a resource with what it cannot be without; the rest is sent to it in
// the next pass, as a change that can be divided.
func (x *execution) createLeast(ctx context.Context, d divided, r *results, last bool) error {
	least := d.pending
	least.least = true
	least.Diffs = slices.DeleteFunc(slices.Clone(d.Diffs), func(diff change.Diff) bool { return !x.needed(d.Kind, diff) })
	if len(least.Diffs) == len(d.Diffs) {
		r.refuse(d.pending, d.refusal)
		return nil
	}
	if err := x.attempts(ctx, []pending{least}, r, last); err != nil {
		return err
	}
	if slices.ContainsFunc(r.outcomes, func(o store.Outcome) bool { return o.Change.ID == d.ID && o.State == "done" }) {
		r.parted = append(r.parted, store.Parted{ID: d.ID, Done: least.Diffs})
		r.again = append(r.again, d.Ref())
	}
	return nil
}

// needed tells whether a resource is never made without a value: by its schema, to know it
// again, for who may sign in, or since it is given to new resources only.
func (x *execution) needed(kind entry.Kind, diff change.Diff) bool {
	path, err := entry.ParsePath(diff.Target)
	if err != nil {
		return true
	}
	key := path.Key()
	return slices.Contains([]string{"externalId", "active", "userName"}, diff.Target) || kind != entry.User && key == "displayName" || slices.Contains(x.Offer.Required[kind], key) ||
		slices.ContainsFunc(x.Settings.Document.Of(kind).Rules, func(rule settings.Rule) bool {
			return rule.Target == diff.Target && (rule.CreateOnly || rule.Required)
		})
}

// updateInParts halves a change until the values are found that the cloud refuses.
func (x *execution) updateInParts(ctx context.Context, d divided, r *results) error {
	h := halving{x: x, p: d.pending}
	if err := h.send(ctx, change.Parts(d.Diffs), d.refusal); err != nil {
		return err
	}
	if len(h.done) > 0 {
		part := d.pending
		part.Diffs = change.Join(h.done)
		r.done(part, h.resource)
		r.altered(part, h.resource)
	}
	switch {
	case h.stopped != nil: // what is left of it is decided about anew
		if len(h.done) == 0 {
			r.planAgain(d.pending, h.stopped.Error())
			return nil
		}
		r.parted = append(r.parted, store.Parted{ID: d.ID, Done: change.Join(h.done)})
		r.again = append(r.again, d.Ref())
	case len(h.refused) == 0: // it was taken in parts
	case len(h.done) == 0:
		r.refuse(d.pending, d.refusal, h.refused...)
		return nil
	default:
		met := r.met(d.pending, problem.ValueRefused, problem.Facts{Refused: h.refused})
		r.parted = append(r.parted, store.Parted{ID: d.ID, Done: change.Join(h.done), Refused: change.Join(h.open), Code: string(problem.ValueRefused), Answer: met.Detail})
		r.next = append(r.next, d.Ref())
	}
	if d.Rank == store.RankReferences {
		r.refer = append(r.refer, d.Ref())
	}
	return nil
}

// halving is a change on its way to the cloud in parts.
type halving struct {
	x        *execution
	p        pending
	resource entry.Resource // as it is after what was done
	done     []change.Diff
	open     []change.Diff // what was refused
	refused  []problem.Refused
	stopped  *cloud.Refusal // something else than a value is refused
}

// send sends parts that were refused together, each half by itself.
func (h *halving) send(ctx context.Context, parts []change.Diff, refusal *cloud.Refusal) error {
	if len(parts) == 1 {
		h.open = append(h.open, parts[0])
		h.refused = append(h.refused, problem.Refused{Target: parts[0].Target, Value: parts[0].Show(), Answer: refusal.Error()})
		return nil
	}
	for _, half := range [][]change.Diff{parts[:len(parts)/2], parts[len(parts)/2:]} {
		if h.stopped != nil {
			return nil
		}
		part := h.p
		part.Diffs = change.Join(half)
		part.anyway = part.ofMembers()
		write, err := writeOf(part)
		if err != nil {
			return err
		}
		answer := h.x.cloud.Write(ctx, []cloud.Write{write})[0]
		var refusal *cloud.Refusal
		switch {
		case answer.Err == nil:
			h.done = append(h.done, half...)
			if answer.Resource != nil {
				h.resource, h.p.resource = answer.Resource, answer.Resource
			}
		case problem.CodeOf(answer.Err) == "" && errors.As(answer.Err, &refusal) && aboutValues(refusal):
			if err := h.send(ctx, half, refusal); err != nil {
				return err
			}
		case problem.CodeOf(answer.Err) == "" && errors.As(answer.Err, &refusal):
			h.stopped = refusal
		default:
			return answer.Err
		}
	}
	return nil
}

// refuse ends a change that the cloud refuses, with the values that it is about where
// that is known.
func (r *results) refuse(p pending, refusal *cloud.Refusal, values ...problem.Refused) {
	code, facts := problem.CloudRefused, problem.Facts{Answer: refusal.Error()}
	if refusal.ScimType == "invalidValue" || len(values) > 0 {
		code = problem.ValueRefused
	}
	if parts := change.Parts(p.Diffs); len(values) == 0 && len(parts) == 1 && code == problem.ValueRefused && parts[0].Target != rules.Members {
		values = []problem.Refused{{Target: parts[0].Target, Value: parts[0].Show(), Answer: refusal.Error()}}
	}
	if len(values) > 0 {
		facts = problem.Facts{Refused: values}
	}
	r.fail(p, code, facts, problem.Of(code, facts).Detail)
}
