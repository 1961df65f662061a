package decide

import (
	"context"
	"fmt"
	"slices"

	"kambrel.example/kambrel/core/plan"
	"kambrel.example/kambrel/core/problem"
)

// claims gives every outcome the unique values that it takes.
func (d *Decider) claims(outcomes []*Outcome) {
	for _, o := range outcomes {
		kind := o.Case.Entry.Kind
		if o.Verdict.In && (o.Problem == nil || o.ResourceID != "") && o.Written && o.Code != plan.Follows && o.Operation != plan.Unlink {
			o.claims = plan.Claims(kind, o.Desired, d.Cloud.Unique[kind])
		}
		if o.Unmatched() && o.ResourceID != "" {
			o.claims = append(o.claims, plan.ResourceClaim(o.ResourceID))
		}
	}
}

// claim takes the unique values of the batch: first those that a resource has
// already, then those that it shall get, then those of newcomers.
func (d *Decider) claim(ctx context.Context, outcomes []*Outcome) error {
	d.claims(outcomes)
	refs := refsOf(outcomes)
	var ranked [3][]Claim
	for _, o := range outcomes {
		for _, c := range o.claims {
			rank := 2
			if o.Case.Link != nil && o.sends(c) {
				rank = 1
			} else if o.Case.Link != nil {
				rank = 0
			}
			ranked[rank] = append(ranked[rank], Claim{Ref: o.Ref(), Key: c.Key()})
		}
	}
	taken, err := d.Facts.Claim(ctx, refs, slices.Concat(ranked[:]...))
	if err != nil {
		return fmt.Errorf("claim unique values: %w", err)
	}
	var unclaim []*Outcome
	for _, o := range outcomes {
		for _, c := range o.claims {
			holder, clash := taken[c.Key()]
			if !clash || holder.Ref == o.Ref() {
				continue
			}
			if holder.Dirty && !d.Last {
				o.Waits = true
				continue
			}
			o.Decision = plan.Clash(o.Decision, c, problem.Facts{Entries: []problem.Entry{problem.EntryOf(holder.Ref, holder.DN)}})
			if o.Waits = false; o.ResourceID == "" {
				break
			}
		}
		if o.Waits || o.Problem != nil && o.ResourceID == "" {
			unclaim = append(unclaim, o)
		}
	}
	return d.unclaim(ctx, unclaim)
}

// clashWithCloud finds resources that have a value the plan would give to
// another, and that no entry in scope owns.
func (d *Decider) clashWithCloud(ctx context.Context, outcomes []*Outcome) error {
	var keys []string
	for _, o := range outcomes {
		for _, c := range o.claims {
			if o.sends(c) {
				keys = append(keys, c.Key())
			}
		}
	}
	holders, err := d.Facts.Holders(ctx, keys)
	if err != nil {
		return fmt.Errorf("look for resources with the same values: %w", err)
	}
	var unclaim []*Outcome
	for _, o := range outcomes {
		for _, c := range o.claims {
			if !o.sends(c) {
				continue
			}
			for _, holder := range holders[c.Key()] {
				if holder.Resource.ID() == o.ResourceID || holder.Linked() && !holder.Left {
					continue
				}
				if o.Operation == plan.Create && holder.Kind == o.Case.Entry.Kind && holder.Resource.ExternalID() == o.Case.Entry.LinkKey() {
					continue
				}
				resource := problem.ResourceOf(holder.Resource)
				resource.Owner = holder.owner()
				o.Decision = plan.Clash(o.Decision, c, problem.Facts{Resources: []problem.Resource{resource}})
				if o.ResourceID == "" {
					unclaim = append(unclaim, o)
				}
			}
		}
	}
	return d.unclaim(ctx, unclaim)
}

// unclaim gives back what outcomes had claimed that come to nothing.
func (d *Decider) unclaim(ctx context.Context, outcomes []*Outcome) error {
	if len(outcomes) == 0 {
		return nil
	}
	return d.Facts.Unclaim(ctx, refsOf(outcomes))
}
