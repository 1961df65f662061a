package acts

import (
	"context"
	"fmt"

	"kambrel.example/kambrel/core/about"
	"kambrel.example/kambrel/core/act"
	"kambrel.example/kambrel/core/change"
	"kambrel.example/kambrel/core/decide"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/plan"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/protocol/wire"
	"kambrel.example/kambrel/service/explain"
	"kambrel.example/kambrel/service/jobs"
	"kambrel.example/kambrel/service/judging"
	"kambrel.example/kambrel/service/store"
)

// Decide previews what an operator wants done about one entry, and with Do does
// it: the decision is kept, audited, and a run asked for that carries it out, all
// in one transaction. Nothing is written to the cloud from here.
func (e *Acts) Decide(ctx context.Context, by string, in wire.NewDecision) (wire.Decided, error) {
	d, err := e.deciding(ctx, by, in)
	if err != nil {
		return wire.Decided{}, err
	}
	out, err := d.preview(ctx)
	if err != nil || !in.Do {
		return out, err
	}
	err = e.store.Tx(ctx, func(tx *store.Store) error {
		if err := d.carryOut(ctx, tx); err != nil {
			return err
		}
		if err := tx.Acts.Record(ctx, d.act(out)); err != nil {
			return err
		}
		var err error
		out.RunID, err = jobs.Request(ctx, tx, store.Run{Purpose: purpose.Sync, By: by})
		return err
	})
	out.Done = err == nil
	return out, err
}

// deciding is a decision on its way.
type deciding struct {
	*Acts
	judge    *judging.Judge
	in       wire.NewDecision
	choice   decide.Choice
	by       string
	ref      entry.Ref
	now      *decide.Outcome // what would become of the entry without the decision
	entry    entry.Entry
	link     *plan.Link
	resource entry.Resource // that to be linked
	former   *entry.Ref     // to whom it belongs: deleted, or alive where it is taken over or swapped
	formerDN string
}

// What can be decided beside the choices that the match of an entry heeds.
const (
	forget   decide.Choice = "forget"    // lets the rules decide again
	takeOver decide.Choice = "take-over" // links a resource of another entry, which gets none
	swap     decide.Choice = "swap"      // exchanges the resources of two entries
	keep     decide.Choice = "keep"      // a leaver's resource is not deleted
	giveBack decide.Choice = "return"    // a leaver takes part again
)

func (e *Acts) deciding(ctx context.Context, by string, in wire.NewDecision) (*deciding, error) {
	hit, err := e.explain.ResolveEntry(ctx, in.Entry)
	if err != nil {
		return nil, err
	}
	if hit.EntryID == "" {
		return nil, problem.New(problem.BadInput, "%q is a resource of the cloud; name the entry first.", in.Entry)
	}
	ref, err := explain.RefOf(hit)
	if err != nil {
		return nil, err
	}
	d := &deciding{Acts: e, in: in, choice: decide.Choice(in.Action), by: by, ref: ref}
	if _, err := e.judging.Active(ctx); err != nil {
		return nil, err
	}
	if d.judge, err = e.judging.Judge(ctx); err != nil {
		return nil, err
	}
	if d.now, _, err = d.judge.ImagineOne(ctx, ref, judging.WhatIf{}); err != nil {
		return nil, err
	}
	d.entry, d.link = d.now.Entry, d.now.Case.Link
	if f := d.now.Kin.Follows; f != nil && f.Problem == nil {
		return nil, problem.New(problem.BadInput, "%s is one person with %s, which leads (by %s); decide about that entry.", d.entry.DN, f.LeadDN, f.Rule)
	}
	switch d.choice {
	case decide.ChooseLink, decide.ChooseMerge, takeOver, swap:
		err = d.findResource(ctx)
	case decide.ChooseHold:
		if d.link == nil {
			err = problem.New(problem.BadInput, "%s is linked to no resource.", d.entry.DN)
		}
	case keep, giveBack:
		switch {
		case d.link == nil || d.now.Case.Resource == nil:
			err = problem.New(problem.BadInput, "%s has no resource in the cloud that could be kept.", d.entry.DN)
		case d.now.Verdict.In:
			err = problem.New(problem.BadInput, "%s takes part (%s), so nothing is taken away.", d.entry.DN, d.now.Verdict.Summary)
		case d.choice == keep && d.judge.Settings.Of(d.entry.Kind).Leavers != settings.Delete:
			err = problem.New(problem.BadInput, "by the leaver policy '%s' nothing is deleted; 'return' lets %s take part again.", d.judge.Settings.Of(d.entry.Kind).Leavers, d.entry.DN)
		}
	case decide.ChooseCreate, forget:
		if d.link != nil {
			err = problem.New(problem.BadInput, "%s is linked to the resource %s already; unlink it first.", d.entry.DN, d.link.ResourceID)
		}
	}
	return d, err
}

// findResource finds the resource to be linked and tells what stands against it.
func (d *deciding) findResource(ctx context.Context) error {
	hit, err := d.explain.ResolveResource(ctx, d.in.Resource)
	if err != nil {
		return err
	}
	if hit.ResourceID == "" { // a resource that is linked is found by its entry
		if hit.ResourceID, err = d.linkedTo(ctx, hit); err != nil {
			return err
		}
	}
	owner, err := d.store.Links.EntryOf(ctx, hit.ResourceID)
	if err == nil && owner != d.ref {
		other, err := d.store.Entries.Get(ctx, owner.Directory, owner.ID)
		if err != nil {
			return err
		}
		if d.former, d.formerDN = &owner, other.DN; d.choice != takeOver && d.choice != swap && (!other.Gone || d.choice != decide.ChooseLink) {
			return problem.New(problem.LinkConflict, "the resource %s belongs to %s. Take it over, swap, or unlink that first.", hit.ResourceID, other.DN)
		}
	}
	if err != nil && !store.NotFound(err) {
		return err
	}
	kind, resource, err := d.store.Resources.OfKind(ctx, hit.ResourceID)
	if err != nil {
		return err
	}
	d.resource = resource
	switch {
	case kind != d.entry.Kind:
		return problem.New(problem.BadInput, "the entry is a %s, and the resource is a %s.", d.entry.Kind, kind)
	case d.link != nil && d.link.ResourceID == hit.ResourceID:
		return problem.New(problem.BadInput, "they are linked already.")
	case d.former == nil && (d.choice == takeOver || d.choice == swap):
		return problem.New(problem.BadInput, "the resource %s belongs to no entry; link it.", hit.ResourceID)
	case d.link == nil && d.choice == swap:
		return problem.New(problem.BadInput, "%s has no resource that could be exchanged; take the other one over.", d.entry.DN)
	case d.choice == swap && d.now.Case.Resource == nil:
		return problem.New(problem.BadInput, "the cloud no longer has the resource %s of %s, so there is nothing to exchange.", d.link.ResourceID, d.entry.DN)
	case d.link != nil && (d.choice == decide.ChooseLink || d.choice == takeOver):
		return problem.New(problem.BadInput, "%s is linked to the resource %s. Merge, so that it is removed and this one linked, or unlink it first.", d.entry.DN, d.link.ResourceID)
	case d.link == nil && d.choice == decide.ChooseMerge:
		return problem.New(problem.BadInput, "%s has no other resource that could be removed; link it.", d.entry.DN)
	}
	return nil
}

// linkedTo is the resource of an entry.
func (d *deciding) linkedTo(ctx context.Context, hit store.Hit) (string, error) {
	ref, err := explain.RefOf(hit)
	if err != nil {
		return "", err
	}
	link, err := d.store.Links.Of(ctx, ref)
	if store.NotFound(err) {
		err = problem.New(problem.BadInput, "%q is no resource of the cloud.", d.in.Resource)
	}
	return link.ResourceID, err
}

// preview tells what would be done, by the outcome that the run would have.
func (d *deciding) preview(ctx context.Context) (wire.Decided, error) {
	out := wire.Decided{Entry: d.entry.DN, EntryID: d.ref.ID.String(), Kind: string(d.entry.Kind), Diffs: []change.Diff{}}
	name := func(r entry.Resource) string { return fmt.Sprintf("%s (%s)", r.Name(), r.ID()) }
	next, other, err := d.next(ctx)
	if err != nil {
		return out, err
	}
	switch d.choice {
	case decide.ChooseLink, decide.ChooseMerge, takeOver, swap:
		if next.Desired.Problem != nil {
			return out, next.Desired.Problem
		}
		out.ResourceID, out.Resource = d.resource.ID(), d.resource.Name()
		out.Summary = fmt.Sprintf("The resource %s is linked and takes the entry's values.", name(d.resource))
		switch {
		case d.choice == takeOver:
			out.Warnings = append(out.Warnings, fmt.Sprintf("It belongs to %s, which is untied from it and gets none until you decide about it. With the resource goes all that it owns.", d.formerDN))
		case d.choice == swap:
			out.Warnings = append(out.Warnings, fmt.Sprintf("%s gets %s for it. Each resource goes to the other entry with all that it owns.", d.formerDN, name(d.now.Case.Resource)))
			out.Other = d.exchanged(other)
		case d.former != nil:
			out.Warnings = append(out.Warnings, fmt.Sprintf("It belongs to %s, which was deleted from its directory. With the resource goes all that it owns.", d.formerDN))
		}
		if roles := d.resource.AdministrativeRoles(); len(roles) > 0 {
			out.Warnings = append(out.Warnings, fmt.Sprintf("It administers the cloud (%v). Whoever can sign in with the entry's login gets that.", roles))
		}
		if !next.Verdict.In {
			out.Warnings = append(out.Warnings, "The entry is not in scope ("+next.Verdict.Summary+"), so nothing happens before it is.")
		}
		if d.choice == decide.ChooseMerge {
			out.Removes = d.link.ResourceID
			old := d.link.ResourceID
			if d.now.Case.Resource != nil {
				old = name(d.now.Case.Resource)
			}
			out.Summary = fmt.Sprintf("The resource %s is deleted from the cloud, with all that it owns there. %s", old, out.Summary)
		}
	case decide.ChooseHold:
		out.ResourceID = d.link.ResourceID
		out.Summary = fmt.Sprintf("The resource %s is left to the cloud as it is, and the entry gets none until you link or create one.", d.link.ResourceID)
	case decide.ChooseCreate:
		out.Summary = "An account of its own is made for the entry, whoever looks alike."
	case keep:
		out.ResourceID = d.link.ResourceID
		out.Summary = fmt.Sprintf("The resource %s stays suspended, and is not deleted until you lift that ('kambrel pins lift').", name(d.now.Case.Resource))
		if d.entry.Kind != entry.User {
			out.Summary = fmt.Sprintf("The resource %s stays, and is not deleted until you lift that ('kambrel pins lift').", name(d.now.Case.Resource))
		}
	case giveBack:
		out.ResourceID = d.link.ResourceID
		out.Summary = fmt.Sprintf("%s takes part again, whatever the scope says, until you lift that ('kambrel pins lift') or it is in scope by itself. The resource %s is the same, with all that it owns.", d.entry.DN, name(d.now.Case.Resource))
		if d.entry.Gone {
			out.Warnings = append(out.Warnings, "It was deleted from its directory, so its values stay as they were last read.")
		}
	case forget:
		out.Summary = "What was decided by hand is forgotten; the match rules decide again."
	}
	out.Operation = string(next.Operation)
	for _, diff := range next.Diffs {
		// That the resource is tied to the entry is said already.
		if diff.Target != "externalId" {
			out.Diffs = append(out.Diffs, diff)
		}
	}
	if next.Problem != nil {
		out.Code = string(next.Problem.Code)
		out.Warnings = append(out.Warnings, fmt.Sprintf("%s: %s", problem.Describe(next.Problem.Code).Title, next.Problem.Detail))
	}
	return out, nil
}

// exchanged is what becomes of the resource that the other entry gets.
func (d *deciding) exchanged(o *decide.Outcome) *wire.DecidedOther {
	out := &wire.DecidedOther{Entry: d.formerDN, ResourceID: d.link.ResourceID, Diffs: []change.Diff{}}
	if o != nil {
		out.Operation, out.Diffs = string(o.Operation), append(out.Diffs, o.Diffs...)
	}
	return out
}

// next is the outcome when the decision counts, and of a swap that of the other entry; of
// a merge that deletes the double, the one after that.
func (d *deciding) next(ctx context.Context) (next, other *decide.Outcome, err error) {
	var what judging.WhatIf
	switch {
	case d.former != nil:
		what.Linked = d.resource
		if d.choice == swap {
			what.Other, what.OtherLinked = d.former, d.now.Case.Resource
		}
	case d.choice == keep || d.choice == giveBack:
		what.Pins = []decide.Pin{d.pin()}
	case d.choice == forget:
		what.Chosen = &decide.Chosen{}
	default:
		what.Chosen = d.chosen()
	}
	next, imagined, err := d.judge.ImagineOne(ctx, d.ref, what)
	if err == nil {
		other = imagined.Other
	}
	if err == nil && what.Chosen != nil && what.Chosen.Choice == decide.ChooseMerge && next.Operation == plan.Delete {
		what.Unlinked = true
		next, _, err = d.judge.ImagineOne(ctx, d.ref, what)
	}
	return next, other, err
}

// pin is what holds a leaver, against the leaver policy or the scope.
func (d *deciding) pin() decide.Pin {
	if d.choice == keep {
		return decide.Pin{Target: decide.PinDeletion, Value: false, By: d.by}
	}
	return decide.Pin{Target: decide.PinScope, Value: true, By: d.by}
}

// carryOut keeps the decision; the run that follows does what is left.
func (d *deciding) carryOut(ctx context.Context, tx *store.Store) error {
	switch {
	case d.choice == swap:
		if err := tx.Links.Swap(ctx, d.ref, *d.former); err != nil {
			return err
		}
		return tx.Dirty.Set(ctx, []entry.Ref{*d.former, d.ref}, store.DirtyNow, false)
	case d.choice == keep || d.choice == giveBack:
		if err := tx.Pins.Add(ctx, []store.NewPin{{Ref: d.ref, Pin: d.pin()}}); err != nil {
			return err
		}
		if d.choice == keep { // said anew, and counted by the guard, once the pin is lifted
			return tx.Links.Stay(ctx, d.ref)
		}
		return nil
	case d.former != nil:
		if d.choice == takeOver {
			if err := tx.Choices.Keep(ctx, *d.former, decide.Chosen{Choice: decide.ChooseHold, By: d.by}); err != nil {
				return err
			}
		}
		if err := tx.Links.HandOver(ctx, []entry.Ref{*d.former}, []entry.Ref{d.ref}); err != nil {
			return err
		}
		return tx.Dirty.Set(ctx, []entry.Ref{*d.former, d.ref}, store.DirtyNow, false)
	case d.choice == forget:
		if err := tx.Choices.Drop(ctx, []store.NewLink{{Ref: d.ref}}); err != nil {
			return err
		}
		return tx.Dirty.Set(ctx, []entry.Ref{d.ref}, store.DirtyNow, false)
	default:
		return tx.Choices.Keep(ctx, d.ref, *d.chosen())
	}
}

// kinds are the acts by choice.
var kinds = map[decide.Choice]act.Kind{
	decide.ChooseLink: act.Link, decide.ChooseMerge: act.Merge, decide.ChooseHold: act.Unlink, decide.ChooseCreate: act.Create, forget: act.Rematch,
	takeOver: act.TakeOver, swap: act.Swap, keep: act.KeepLeaver, giveBack: act.ReturnLeaver,
}

// tie is how an entry stands: its resource, and what was decided by hand.
type tie struct {
	ResourceID string        `json:"resourceId,omitempty"`
	Choice     decide.Choice `json:"choice,omitempty"`
	By         string        `json:"by,omitempty"`
	// Former is the entry that had the resource.
	Former string `json:"former,omitempty"`
}

// act is the decision as it is noted.
func (d *deciding) act(out wire.Decided) act.Act {
	was := d.now.Chosen()
	before, after := tie{Choice: was.Choice, By: was.By, Former: d.formerDN}, tie{Choice: d.choice, By: d.by, ResourceID: d.resource.ID()}
	if d.link != nil {
		before.ResourceID = d.link.ResourceID
	}
	if d.choice == forget {
		after = tie{}
	}
	return act.Act{Kind: kinds[d.choice], By: d.by, About: about.EntryOf(d.ref), Before: before, After: after, Note: out.Summary}
}

// chosen is the decision as it is kept.
func (d *deciding) chosen() *decide.Chosen {
	return &decide.Chosen{Choice: d.choice, By: d.by, Resource: d.resource, ResourceID: d.resource.ID()}
}
