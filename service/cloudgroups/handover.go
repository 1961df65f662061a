package cloudgroups

import (
	"context"
	"errors"
	"fmt"
	"strconv"

	"kambrel.example/kambrel/core/about"
	"kambrel.example/kambrel/core/act"
	"kambrel.example/kambrel/core/change"
	core "kambrel.example/kambrel/core/cloudgroups"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/core/rules"
	"kambrel.example/kambrel/protocol/wire"
	"kambrel.example/kambrel/service/jobs"
	"kambrel.example/kambrel/service/judging"
	"kambrel.example/kambrel/service/store"
)

// Try starts a run of one group, chosen or not, with a few of its members.
func (g *Groups) Try(ctx context.Context, by, directory, text string, in wire.TryCloudGroup) (int64, error) {
	k, listed, c, err := g.one(ctx, directory, text)
	if err != nil {
		return 0, err
	}
	if c.Subject.Owner != "" {
		return 0, problem.New(problem.BadInput, "%s comes from %s, and that directory owns it: 'kambrel cloud-groups hand-over' turns that", listed.Name, c.Subject.Owner)
	}
	why := purpose.Trial
	if in.Write {
		why = purpose.Single
	}
	var id int64
	return id, g.store.Tx(ctx, func(tx *store.Store) error {
		var err error
		if id, err = jobs.Request(ctx, tx, store.Run{Purpose: why, By: by, Subject: store.GroupSubject(k.Directory, listed.ResourceID), Members: in.Members}); err != nil || !in.Write {
			return err
		}
		return tx.Acts.Record(ctx, act.Act{Kind: act.TryGroup, By: by, About: about.CloudGroupOf(k.Directory, listed.ResourceID), Note: "run " + strconv.FormatInt(id, 10)})
	})
}

// DecideAgain ends what somebody has said of a group, and asks for a run.
func (g *Groups) DecideAgain(ctx context.Context, by, directory, text string) (int64, error) {
	k, listed, _, err := g.one(ctx, directory, text)
	if err != nil {
		return 0, err
	}
	var id int64
	return id, g.store.Tx(ctx, func(tx *store.Store) error {
		found, err := tx.CloudGroups.DecideAgain(ctx, k.Directory, listed.ResourceID)
		if err == nil && !found {
			err = problem.New(problem.BadInput, "nothing was decided by hand about %s in %s", listed.Name, k.Directory)
		}
		if err != nil {
			return err
		}
		if id, err = jobs.Request(ctx, tx, store.Run{Purpose: purpose.Sync, By: by}); err != nil {
			return err
		}
		return tx.Acts.Record(ctx, act.Act{Kind: act.DecideAgain, By: by, About: about.CloudGroupOf(k.Directory, listed.ResourceID)})
	})
}

// errPreview takes back what was done to look at it.
var errPreview = errors.New("only looked at")

// HandOver previews that a group is owned by the other side, and with Do does it: the next
// run goes by that. Entry and resource stay, with their identities.
func (g *Groups) HandOver(ctx context.Context, by, directory, text string, in wire.HandOver) (wire.HandedOver, error) {
	out := wire.HandedOver{Diffs: []change.Diff{}, Warnings: []string{}}
	k, listed, c, err := g.one(ctx, directory, text)
	if err != nil {
		return out, err
	}
	work := func(tx *store.Store) error { return g.toCloud(ctx, tx, k, listed, c, &out) }
	if in.To == string(change.Directory) {
		work = func(tx *store.Store) error { return g.toDirectory(ctx, tx, k, listed, c, &out) }
	}
	err = g.store.Tx(ctx, func(tx *store.Store) error {
		if err := work(tx); err != nil {
			return err
		}
		if !in.Do {
			return errPreview
		}
		var err error
		if out.RunID, err = jobs.Request(ctx, tx, store.Run{Purpose: purpose.Sync, By: by}); err != nil {
			return err
		}
		return tx.Acts.Record(ctx, act.Act{Kind: act.HandOver, By: by, About: about.CloudGroupOf(k.Directory, listed.ResourceID), After: map[string]string{"owner": in.To}, Note: out.Summary})
	})
	if errors.Is(err, errPreview) {
		err = nil
	}
	out.Done = err == nil && in.Do
	return out, err
}

// toCloud gives a group that the directory owns to the cloud.
func (g *Groups) toCloud(ctx context.Context, tx *store.Store, k *core.Keeping, listed store.ListedGroup, c store.GroupCase, out *wire.HandedOver) error {
	if c.Row != nil {
		return problem.New(problem.BadInput, "the cloud owns %s already", listed.Name)
	}
	ref, err := tx.Links.EntryOf(ctx, listed.ResourceID)
	if store.NotFound(err) {
		return problem.New(problem.BadInput, "no directory owns %s: the settings say whether it is kept in %s", listed.Name, k.Directory)
	}
	if err != nil {
		return err
	}
	if ref.Directory != k.Directory {
		return problem.New(problem.BadInput, "the directory %s owns %s, and not %s", ref.Directory, listed.Name, k.Directory)
	}
	if v := k.Chosen(c.Subject.Group, "", true); !v.In {
		return problem.New(problem.BadInput, "the settings would not keep it, so that it would go from the directory: %s", v.Summary)
	}
	e, err := tx.Entries.Get(ctx, ref.Directory, ref.ID)
	if err != nil {
		return err
	}
	if err := tx.CloudGroups.HandToCloud(ctx, ref, listed.ResourceID, listed.Name, e.DN); err != nil {
		return err
	}
	cases, err := tx.CloudGroups.Cases(ctx, k.Directory, []string{listed.ResourceID})
	if err != nil {
		return err
	}
	d, err := tx.CloudGroups.Judge(ctx, k, cases[0])
	if err != nil {
		return err
	}
	if d.Problem != nil {
		return d.Problem
	}
	out.Summary = fmt.Sprintf("The cloud owns %s from now on, and it is kept in %s as the entry that it is, with its identity.", listed.Name, k.Directory)
	out.Diffs = append(out.Diffs, d.Diffs...)
	members, err := tx.CloudGroups.MemberDiffs(ctx, store.MemberQuery{Keeping: k, Groups: []store.MarkedGroup{{ResourceID: listed.ResourceID, Members: true}}})
	if err != nil {
		return err
	}
	if m := members[listed.ResourceID]; m != nil {
		out.Diffs = append(out.Diffs, memberDiff(*m))
		if len(m.Removed) > 0 {
			out.Warnings = append(out.Warnings, fmt.Sprintf("%d members of the entry are none of the group in the cloud, and are removed.", len(m.Removed)))
		}
	}
	out.Warnings = append(out.Warnings, "What is changed of it in the directory is put back from now on.")
	return nil
}

func memberDiff(m store.GroupMembers) change.Diff {
	of := func(list []store.GroupMember) []change.Member {
		var out []change.Member
		for _, one := range list {
			out = append(out, change.Member{Value: one.DN, Name: one.Name})
		}
		return out
	}
	return change.Diff{Target: rules.Members, Added: of(m.Added), Removed: of(m.Removed), Source: "members of the group in the cloud"}
}

// toDirectory gives a group that the cloud owns to the directory that it is in.
func (g *Groups) toDirectory(ctx context.Context, tx *store.Store, k *core.Keeping, listed store.ListedGroup, c store.GroupCase, out *wire.HandedOver) error {
	if c.Row == nil || c.Subject.Group == nil || c.Subject.Entry == nil || c.Subject.Entry.Gone {
		return problem.New(problem.BadInput, "%s is not both in the cloud and in %s", listed.Name, k.Directory)
	}
	settings, err := g.judging.Settings(ctx)
	if err != nil {
		return err
	}
	e := *c.Subject.Entry
	e.CloudGroup = ""
	if v := settings.Scope.Decide(e); !v.In {
		return problem.New(problem.BadInput, "%s is not in the scope of what goes to the cloud, so that the group there would be taken for one that has left: %s. Include its container first.", e.DN, v.Summary)
	}
	if settings.Of(entry.Group).Rules.Empty() {
		return problem.New(problem.BadInput, "the settings have no rules for groups, so that none is written to the cloud")
	}
	key := c.Subject.Group.ExternalID()
	if key == "" {
		key = e.LinkKey()
	}
	if err := tx.CloudGroups.HandToDirectory(ctx, e.Ref(), listed.ResourceID, key); err != nil {
		return err
	}
	out.Summary = fmt.Sprintf("The directory %s owns %s from now on: what is changed there goes to the group in the cloud, which stays the same one.", k.Directory, listed.Name)
	judge, err := g.judging.Judge(ctx)
	if err != nil {
		return err
	}
	judge.DB = tx
	next, _, err := judge.ImagineOne(ctx, e.Ref(), judging.WhatIf{})
	if err != nil {
		return err
	}
	if next.Problem != nil {
		return next.Problem
	}
	out.Diffs = append(out.Diffs, next.Diffs...)
	members, err := tx.References.MemberDiffs(ctx, 0, []entry.Ref{e.Ref()}, judge.Offer.Members)
	if err != nil {
		return err
	}
	if m := members[e.Ref()]; m != nil {
		out.Diffs = append(out.Diffs, change.Diff{Target: rules.Members, Added: m.Added, Removed: m.Removed, Source: "reference member"})
		if len(m.Removed) > 0 {
			out.Warnings = append(out.Warnings, fmt.Sprintf("%d members of the group in the cloud are none of the entry, and are removed there.", len(m.Removed)))
		}
	}
	out.Warnings = append(out.Warnings, "What is changed of it in the cloud is put back from now on.")
	return nil
}
