package engine

import (
	"context"
	"errors"
	"fmt"

	"kambrel.example/kambrel/cloud"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/plan"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/store"
	"kambrel.example/kambrel/wire"
)

// Decide previews what an operator wants done about one entry, and with Do does
// it: the decision is kept, and a run carries it out.
func (e *Engine) Decide(ctx context.Context, by string, in wire.NewDecision) (wire.Decided, error) {
	d, err := e.deciding(ctx, in)
	if err != nil {
		return wire.Decided{}, err
	}
	out, err := d.preview(ctx)
	if err != nil || !in.Do {
		return out, err
	}
	if err := d.carryOut(ctx, by); err != nil {
		return out, err
	}
	detail := fmt.Sprintf("%s: %s", d.dirty.Entry.DN, out.Summary)
	if err := e.store.Audit(ctx, by, "decide "+in.Action, detail); err != nil {
		return out, err
	}
	out.Done = true
	out.RunID, err = e.Request(ctx, store.Run{Run: wire.Run{Kind: "delta", By: by}})
	return out, err
}

// deciding is a decision on its way.
type deciding struct {
	*Engine
	in       wire.NewDecision
	dirty    store.Dirty
	ref      store.Ref
	settings *compiled
	person   person
	resource entry.Resource // that to be linked
	former   *store.Ref     // to whom it belongs, and who was deleted
	formerDN string
}

func (e *Engine) deciding(ctx context.Context, in wire.NewDecision) (*deciding, error) {
	hit, err := e.Resolve(ctx, in.Entry)
	if err != nil {
		return nil, err
	}
	if hit.EntryID == "" {
		return nil, problem.New(problem.BadInput, "%q is a resource of the cloud; name the entry first.", in.Entry)
	}
	ref, err := refOfHit(hit)
	if err != nil {
		return nil, err
	}
	d := &deciding{Engine: e, in: in, ref: ref}
	if d.dirty, err = e.store.Subject(ctx, d.ref); err != nil {
		return nil, err
	}
	if d.settings, err = e.compile.active(ctx); err != nil {
		return nil, err
	}
	persons, err := d.settings.personsOf(ctx, e.store, []store.Dirty{d.dirty})
	if err != nil {
		return nil, err
	}
	if d.person = persons[d.ref]; d.person.joined != nil && d.person.joined.Code == "" {
		return nil, problem.New(problem.BadInput, "%s is one person with %s, which leads (by %s); decide about that entry.", d.dirty.Entry.DN, d.person.joined.LeadDN, d.person.joined.Rule)
	}
	switch in.Action {
	case store.ChosenLink, decideMerge:
		err = d.findResource(ctx)
	case store.ChosenHold:
		if d.dirty.Link == nil {
			err = problem.New(problem.BadInput, "%s is linked to no resource.", d.dirty.Entry.DN)
		}
	case store.ChosenCreate, decideForget:
		if d.dirty.Link != nil {
			err = problem.New(problem.BadInput, "%s is linked to the resource %s already; unlink it first.", d.dirty.Entry.DN, d.dirty.Link.ResourceID)
		}
	}
	return d, err
}

// What can be decided beside what is kept of it.
const (
	decideMerge  = "merge"  // a double that was made is removed, and the old resource linked
	decideForget = "forget" // the rules decide again
)

// findResource finds the resource to be linked and tells what stands against it.
func (d *deciding) findResource(ctx context.Context) error {
	hit, err := d.Resolve(ctx, d.in.Resource)
	if err != nil {
		return err
	}
	if hit.ResourceID == "" { // a resource that is linked is found by its entry
		if hit.ResourceID, err = d.linkedTo(ctx, hit); err != nil {
			return err
		}
	}
	owner, err := d.store.EntryOf(ctx, hit.ResourceID)
	if err == nil && owner != d.ref {
		other, err := d.store.Entry(ctx, owner.Directory, owner.ID)
		if err != nil {
			return err
		}
		if !other.Gone || d.in.Action != store.ChosenLink {
			return problem.New(problem.LinkConflict, "the resource %s belongs to %s; unlink that first.", hit.ResourceID, other.DN)
		}
		d.former, d.formerDN = &owner, other.DN
	}
	if err != nil && !store.NotFound(err) {
		return err
	}
	kind, resource, err := d.store.ResourceOfKind(ctx, hit.ResourceID)
	if err != nil {
		return err
	}
	d.resource = resource
	switch {
	case kind != d.dirty.Entry.Kind:
		return problem.New(problem.BadInput, "the entry is a %s, and the resource is a %s.", d.dirty.Entry.Kind, kind)
	case d.dirty.Link != nil && d.dirty.Link.ResourceID == hit.ResourceID:
		return problem.New(problem.BadInput, "they are linked already.")
	case d.dirty.Link != nil && d.in.Action == store.ChosenLink:
		return problem.New(problem.BadInput, "%s is linked to the resource %s. Merge, so that it is removed and this one linked, or unlink it first.", d.dirty.Entry.DN, d.dirty.Link.ResourceID)
	case d.dirty.Link == nil && d.in.Action == decideMerge:
		return problem.New(problem.BadInput, "%s has no other resource that could be removed; link it.", d.dirty.Entry.DN)
	}
	return nil
}

// linkedTo is the resource of an entry.
func (d *deciding) linkedTo(ctx context.Context, hit wire.Hit) (string, error) {
	ref, err := refOfHit(hit)
	if err != nil {
		return "", err
	}
	link, err := d.store.LinkOf(ctx, ref)
	if store.NotFound(err) {
		err = problem.New(problem.BadInput, "%q is no resource of the cloud.", d.in.Resource)
	}
	return link.ResourceID, err
}

// preview tells what would be done.
func (d *deciding) preview(ctx context.Context) (wire.Decided, error) {
	out := wire.Decided{Entry: d.dirty.Entry.DN, EntryID: d.ref.ID.String(), Kind: string(d.dirty.Entry.Kind), Diffs: []plan.Diff{}}
	name := func(r entry.Resource) string { return fmt.Sprintf("%s (%s)", r.Name(), r.ID()) }
	switch d.in.Action {
	case store.ChosenLink, decideMerge:
		if err := d.settings.fillGroups(ctx, d.store, []store.Dirty{d.dirty}); err != nil {
			return out, err
		}
		desired := d.settings.of(d.dirty.Entry.Kind).rules.Apply(d.settings.entriesOf(d.dirty.Entry, d.person.followers))
		if desired.Problem != nil {
			return out, desired.Problem
		}
		out.ResourceID, out.Resource = d.resource.ID(), d.resource.Name()
		out.Diffs = plan.Compare(d.resource, desired).Diffs
		out.Summary = fmt.Sprintf("The resource %s is linked and takes the entry's values.", name(d.resource))
		if d.former != nil {
			out.Warnings = append(out.Warnings, fmt.Sprintf("It belongs to %s, which was deleted from its directory. With the resource goes all that it owns.", d.formerDN))
		}
		if roles := d.resource.AdministrativeRoles(); len(roles) > 0 {
			out.Warnings = append(out.Warnings, fmt.Sprintf("It administers the cloud (%v). Whoever can sign in with the entry's login gets that.", roles))
		}
		if verdict := d.settings.scope.Decide(d.dirty.Entry); !verdict.In {
			out.Warnings = append(out.Warnings, "The entry is not in scope ("+verdict.Summary+"), so nothing happens before it is.")
		}
		if d.in.Action == decideMerge {
			out.Removes = d.dirty.Link.ResourceID
			old := d.dirty.Link.ResourceID
			if d.dirty.Resource != nil {
				old = name(d.dirty.Resource)
			}
			out.Summary = fmt.Sprintf("The resource %s is deleted from the cloud, with all that it owns there. %s", old, out.Summary)
		}
	case store.ChosenHold:
		out.ResourceID = d.dirty.Link.ResourceID
		out.Summary = fmt.Sprintf("The resource %s is left to the cloud as it is, and the entry gets none until you link or create one.", d.dirty.Link.ResourceID)
	case store.ChosenCreate:
		out.Summary = "An account of its own is made for the entry, whoever looks alike."
	case decideForget:
		out.Summary = "What was decided by hand is forgotten; the match rules decide again."
	}
	return out, nil
}

// carryOut keeps the decision and does what no run does.
func (d *deciding) carryOut(ctx context.Context, by string) error {
	switch d.in.Action {
	case store.ChosenLink:
		if d.former != nil {
			return d.store.Tx(ctx, func(tx *store.Store) error {
				if err := tx.HandOver(ctx, []store.Ref{*d.former}, []store.Ref{d.ref}); err != nil {
					return err
				}
				return tx.SetDirty(ctx, []store.Ref{*d.former, d.ref}, store.DirtyNow, false)
			})
		}
		return d.store.Choose(ctx, d.ref, store.Chosen{Action: store.ChosenLink, ResourceID: d.resource.ID(), By: by})
	case store.ChosenCreate:
		return d.store.Choose(ctx, d.ref, store.Chosen{Action: store.ChosenCreate, By: by})
	case decideForget:
		return d.store.DropChosen(ctx, []store.NewLink{{Ref: d.ref}})
	case decideMerge:
		// Decided first: should the rest fail, it is known what was meant.
		if err := d.store.Choose(ctx, d.ref, store.Chosen{Action: store.ChosenLink, ResourceID: d.resource.ID(), By: by}); err != nil {
			return err
		}
		return d.release(ctx, cloud.Write{Delete: true})
	}
	if err := d.store.Choose(ctx, d.ref, store.Chosen{Action: store.ChosenHold, By: by}); err != nil {
		return err
	}
	return d.release(ctx, cloud.Write{Diffs: []plan.Diff{{Target: "externalId", Before: d.dirty.LinkKey}}})
}

// release lets the entry's resource go by a write to the cloud, and drops the
// link.
func (d *deciding) release(ctx context.Context, write cloud.Write) error {
	write.Kind, write.ID, write.Resource = d.dirty.Entry.Kind, d.dirty.Link.ResourceID, d.dirty.Resource
	if write.Resource == nil {
		write.Resource = entry.Resource{"id": write.ID}
	}
	answer := d.cloud.Write(ctx, []cloud.Write{write})[0]
	var refusal *cloud.Refusal
	if gone := errors.As(answer.Err, &refusal) && refusal.Status == 404; answer.Err != nil && !gone {
		return problem.Wrap(problem.CloudRefused, answer.Err, "let the resource %s go", write.ID)
	}
	if write.Delete || answer.Resource == nil {
		return d.store.DeleteResources(ctx, []string{write.ID})
	}
	return d.store.Tx(ctx, func(tx *store.Store) error {
		if _, err := tx.StoreResources(ctx, write.Kind, []entry.Resource{answer.Resource}, d.settings.of(write.Kind).indexed, false); err != nil {
			return err
		}
		return tx.DropLinks(ctx, []store.Ref{d.ref})
	})
}
