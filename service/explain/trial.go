package explain

import (
	"context"
	"strconv"
	"strings"

	"kambrel.example/kambrel/core/about"
	"kambrel.example/kambrel/core/act"
	"kambrel.example/kambrel/core/decide"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/core/reason"
	protocol "kambrel.example/kambrel/protocol/orders"
	"kambrel.example/kambrel/protocol/wire"
	"kambrel.example/kambrel/service/jobs"
	"kambrel.example/kambrel/service/store"
	"kambrel.example/kambrel/service/views"
)

// Trial fetches one entry from its directory, explains each step that a run
// would go, and starts a run for it alone, with or without the write.
func (e *Explain) Trial(ctx context.Context, by string, in wire.NewTrial) (wire.Trial, error) {
	read, err := e.fetch(ctx, in.Text)
	if err != nil {
		return wire.Trial{}, err
	}
	hit, err := e.ResolveEntry(ctx, in.Text)
	if err != nil {
		return wire.Trial{}, err
	}
	if hit.EntryID == "" {
		return wire.Trial{}, problem.New(problem.BadInput, "%q is a resource that no entry owns; a trial needs an entry.", in.Text)
	}
	object, err := e.ObjectOf(ctx, hit)
	if err != nil {
		return wire.Trial{}, err
	}
	out := wire.Trial{EntryID: hit.EntryID, DN: object.Entry.DN, Steps: append([]reason.Node{read}, object.Why.Steps...)}
	why := purpose.Trial
	if in.Write {
		why = purpose.Single
	}
	subject := object.Entry.Ref()
	err = e.store.Tx(ctx, func(tx *store.Store) error {
		var err error
		out.RunID, err = jobs.Request(ctx, tx, store.Run{Purpose: why, By: by, Subject: subject.String()})
		if err != nil || !in.Write {
			return err
		}
		return tx.Acts.Record(ctx, act.Act{Kind: act.SyncOne, By: by, About: about.EntryOf(subject), Note: "run " + strconv.FormatInt(out.RunID, 10)})
	})
	return out, err
}

// fetch has the directories look for an entry, so that it is judged as it is
// now, and so that one that was never read is known.
func (e *Explain) fetch(ctx context.Context, text string) (reason.Node, error) {
	settings, err := e.judging.Settings(ctx)
	if err != nil {
		return reason.Node{}, err
	}
	node := reason.Node{Text: "Read: is it there?", Outcome: reason.No}
	for _, directory := range settings.Document.Directories {
		// What the mirror holds more, for a draft or a survey, is read too.
		state, err := e.store.Entries.StateOf(ctx, directory.Name)
		if err != nil {
			return node, err
		}
		order, err := e.orders.Ask(ctx, protocol.Order{
			Directory: directory.Name, Dialect: directory.Dialect, Base: directory.Base, Fetch: &protocol.Fetch{
				Find: strings.TrimSpace(text), Attributes: decide.Union(state.Attributes, settings.Attributes), Pointers: decide.Union(state.Pointers, settings.Pointers),
			},
		})
		child := reason.Node{Text: "directory " + directory.Name, Outcome: reason.No, Value: "has none of this name"}
		switch {
		case err != nil && ctx.Err() != nil:
			return node, ctx.Err()
		case err != nil:
			child.Outcome, child.Value = reason.Bad, err.Error()
		case order.Counts.Read > 0:
			child.Outcome, child.Value, child.Deciding = reason.Yes, "was asked just now", true
			node.Outcome = reason.Yes
		}
		node.Children = append(node.Children, child)
	}
	if node.Outcome != reason.Yes {
		node.Value = "judged by what was read last"
	}
	return node, nil
}

// nameOthers tells who else is called as the object was asked for.
func (e *Explain) nameOthers(ctx context.Context, object *wire.Object, others []store.Hit) error {
	for _, other := range others {
		if object.Entry != nil && other.EntryID == object.Entry.ID.String() || object.Link != nil && other.ResourceID == object.Link.ResourceID && other.EntryID == "" {
			continue
		}
		named, err := e.store.Search.Named(ctx, other)
		if err != nil {
			return err
		}
		object.Why.Others = append(object.Why.Others, views.Hit(named))
	}
	return nil
}

// Explain is Resolve for an object that may never have been read: the
// directories are asked for what the mirrors do not know.
func (e *Explain) Explain(ctx context.Context, text string) (wire.Object, error) {
	hit, others, err := e.resolve(ctx, text, store.AnyObject)
	if problem.CodeOf(err) == problem.NotFound {
		if _, fetchErr := e.fetch(ctx, text); fetchErr == nil {
			hit, others, err = e.resolve(ctx, text, store.AnyObject)
		}
	}
	if err != nil {
		return wire.Object{}, err
	}
	object, err := e.ObjectOf(ctx, hit)
	if err != nil {
		return object, err
	}
	return object, e.nameOthers(ctx, &object, others)
}
