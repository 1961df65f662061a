package runs

import (
	"context"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"kambrel.example/kambrel/cloud"
	"kambrel.example/kambrel/core/about"
	"kambrel.example/kambrel/core/decide"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/logkey"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/core/textkey"
	protocol "kambrel.example/kambrel/protocol/orders"
	"kambrel.example/kambrel/service/judging"
	"kambrel.example/kambrel/service/store"
)

// read brings both mirrors up to date, all directories and the cloud at once.
func (x *execution) read(ctx context.Context) error {
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(-1)
	progress := &readProgress{x: x, counts: map[string]store.OrderCounts{}}
	for _, directory := range x.Settings.Document.Directories {
		group.Go(func() error { return x.leaveOut(directory.Name, x.readDirectory(ctx, directory, progress)) })
	}
	group.Go(func() error {
		var err error
		x.cloud.Forget() // a domain may have been verified since
		if x.Offer, err = x.judging.Offered(ctx, x.Settings.Document); err != nil {
			return err
		}
		return x.readKinds(ctx, x.run.Purpose.ReadsAll())
	})
	if err := group.Wait(); err != nil {
		return err
	}
	return x.somebodyLeft()
}

// readKinds reads all kinds that the cloud offers: everything, or what has changed.
func (x *execution) readKinds(ctx context.Context, all bool) error {
	group, ctx := errgroup.WithContext(ctx)
	for _, kind := range entry.Kinds {
		if x.Offer.Kinds[kind] {
			group.Go(func() error { return x.readCloud(ctx, kind, all) })
		}
	}
	return group.Wait()
}

// lookBack has the cloud list what the run wrote, if that is much: the next run is most
// often of one live change, which then need not wait until all of it was listed. It tells
// whether the cloud has something else than Kambrel knows of.
func (x *execution) lookBack(ctx context.Context) (changed bool, err error) {
	can, err := x.cloud.Discover(ctx)
	x.mu.Lock()
	before, done := x.run.Counts.ResourcesChanged, x.run.Counts.Done
	x.mu.Unlock()
	if err != nil || done < muchPlanned || !can.Filter || !can.Sort {
		return false, err
	}
	err = x.stage(ctx, "write", func(ctx context.Context) error { return x.readKinds(ctx, false) })
	if code := problem.CodeOf(err); code != "" && problem.Describe(code).Touches == about.Cloud {
		slog.Warn("list what was written: the next run does", logkey.Run, x.run.ID, logkey.Error, err)
		err = nil
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	return x.run.Counts.ResourcesChanged > before, err
}

// readProgress adds the counts of several directories up.
type readProgress struct {
	x      *execution
	counts map[string]store.OrderCounts // guarded by the run's mutex
}

func (p *readProgress) set(ctx context.Context, directory string, counts store.OrderCounts) error {
	return p.x.count(ctx, func(c *progress.Counts) {
		p.counts[directory] = counts
		c.EntriesRead, c.EntriesChanged, c.EntriesGone = 0, 0, 0
		for _, one := range p.counts {
			c.EntriesRead += one.Read
			c.EntriesChanged += one.Changed
			c.EntriesGone += one.Gone
		}
	})
}

// readDirectory has an agent read a directory and waits until it has. An order
// that an earlier attempt at this run gave is waited for, not given again. Where changes
// were not told, everything is read.
func (x *execution) readDirectory(ctx context.Context, directory settings.Directory, progress *readProgress) error {
	order, found, err := x.store.Orders.OfRun(ctx, x.run.ID, directory.Name)
	if err != nil {
		return err
	}
	if !found || order.State == "failed" {
		if order, err = x.giveOrder(ctx, directory); err != nil {
			return err
		}
	}
	state, err := x.awaitRead(ctx, directory.Name, order, progress)
	if err == nil && len(state.Cookie) == 0 && state.MissedAt != nil && state.MissedAt.After(order.Created) {
		slog.Warn("a directory did not tell all its changes: everything is read", logkey.Directory, directory.Name, logkey.Missed, state.Missed)
		if order, err = x.giveOrder(ctx, directory); err == nil {
			state, err = x.awaitRead(ctx, directory.Name, order, progress)
		}
	}
	if err == nil && len(state.Hidden) > 0 {
		x.hidden(directory.Name, state.Hidden)
	}
	return err
}

// awaitRead waits for the end of a read, and returns what is known of the directory then.
func (x *execution) awaitRead(ctx context.Context, directory string, order store.Order, progress *readProgress) (store.DirectoryState, error) {
	patience, err := x.patience(ctx, directory)
	if err != nil {
		return store.DirectoryState{}, err
	}
	if _, err := x.orders.Await(ctx, order, patience, func(o store.Order) error { return progress.set(ctx, directory, o.Counts) }); err != nil {
		return store.DirectoryState{}, problem.Concerning(about.Thing{Type: about.Directory, Key: directory}, err)
	}
	return x.store.Entries.StateOf(ctx, directory)
}

func (x *execution) giveOrder(ctx context.Context, directory settings.Directory) (store.Order, error) {
	state, err := x.store.Entries.StateOf(ctx, directory.Name)
	if err != nil {
		return store.Order{}, err
	}
	read := protocol.Read{Attributes: x.Settings.Attributes, Pointers: x.Settings.Pointers}
	switch {
	case state.Base != directory.Base:
	case !x.run.Purpose.ReadsAll() && judging.Covers(state.Attributes, x.Settings.Attributes) && judging.Covers(state.Pointers, x.Settings.Pointers):
		// What the mirror holds more, for a draft or a survey, is kept true.
		read.Cookie, read.Attributes, read.Pointers = state.Cookie, state.Attributes, state.Pointers
	case !x.run.Purpose.ReadsAll():
		read.Attributes, read.Pointers = decide.Union(state.Attributes, x.Settings.Attributes), decide.Union(state.Pointers, x.Settings.Pointers)
	}
	known := func(name string) bool {
		return name == entry.MemberAttribute || slices.ContainsFunc(read.Attributes, func(asked string) bool { return strings.EqualFold(asked, name) })
	}
	if state.Base == directory.Base {
		read.Expected, read.Hidden = only(state.Expected, known), only(state.Hidden, known)
	}
	if checked := state.Checked; len(read.Cookie) > 0 && directory.Dialect != entry.AD && (checked == nil || time.Since(*checked) > x.options.CheckEvery) {
		from := state.Read
		if checked != nil {
			from = *checked
		}
		from = from.Add(-checkOverlap)
		read.Check = &from
	}
	read.Schema = len(read.Cookie) == 0 && directory.Dialect != entry.AD
	order := store.Order{RunID: &x.run.ID, Directory: directory.Name, Request: protocol.Order{Directory: directory.Name, Dialect: directory.Dialect, Base: directory.Base, Read: &read}}
	return order, x.store.Orders.Add(ctx, &order)
}

// checkOverlap is how far back of the last comparison the next one begins: the clocks of
// service and directory may differ.
const checkOverlap = 10 * time.Minute

func only(names []string, known func(string) bool) []string {
	return slices.DeleteFunc(slices.Clone(names), func(name string) bool { return !known(name) })
}

// readCloud reads what changed of a kind in the cloud, or everything.
func (x *execution) readCloud(ctx context.Context, kind entry.Kind, all bool) error {
	state, err := x.store.Resources.State(ctx, kind)
	if err != nil {
		return err
	}
	since := state.Watermark
	switch {
	case all:
		since = ""
	case since == "" && !state.Read.IsZero():
		since = beforeAll // it was empty when it was read, and what came since is most often ours
	}
	seen := textkey.Set{}
	reading, err := x.cloud.Read(ctx, kind, since, x.store.Resources.Differing, func(page []entry.Resource) error {
		changed, err := x.store.Resources.Store(ctx, kind, page, x.Settings.Of(kind).Indexed, true)
		if err != nil {
			return err
		}
		ids := make([]string, len(page))
		for i, resource := range page {
			ids[i] = resource.ID()
			seen.Add(ids[i])
		}
		if kind == entry.Group && all { // the members are compared of those too that look the same
			if err := x.readMembers(ctx, ids); err != nil {
				return err
			}
		}
		return x.count(ctx, func(c *progress.Counts) { c.ResourcesRead += len(page); c.ResourcesChanged += len(changed) })
	})
	if err != nil {
		return fmt.Errorf("read the cloud: %w", err)
	}
	if !reading.Complete && kind == entry.Group && len(x.Settings.CloudGroups) > 0 {
		if err := x.groupsDeleted(ctx, &reading, seen); err != nil {
			return fmt.Errorf("read the cloud: %w", err)
		}
	}
	var gone []string
	if reading.Complete {
		if gone, err = x.notListed(ctx, kind, seen, all); err != nil {
			return fmt.Errorf("read the cloud: %w", err)
		}
	}
	if kind == entry.Group {
		unread, err := x.store.Resources.Unread(ctx)
		if err == nil {
			err = x.readMembers(ctx, unread)
		}
		if err != nil {
			return fmt.Errorf("read the members of groups that changed: %w", err)
		}
	}
	return x.store.Fenced(ctx, func(tx *store.Store) error {
		if err := tx.Resources.Drop(ctx, gone); err != nil {
			return err
		}
		return tx.Resources.SaveState(ctx, kind, reading.Watermark)
	})
}

// beforeAll is a time before anything in a cloud.
const beforeAll = "1970-01-01T00:00:00Z"

// groupsDeleted looks whether the cloud has fewer groups than the mirror, since no list of
// changes tells what was deleted, and if so reads the ids of all.
func (x *execution) groupsDeleted(ctx context.Context, reading *cloud.Reading, seen textkey.Set) error {
	has, err := x.cloud.Count(ctx, entry.Group)
	if err != nil {
		return err
	}
	had, err := x.store.Resources.CountOf(ctx, entry.Group)
	if err != nil || has >= had {
		return err
	}
	whole, err := x.cloud.Read(ctx, entry.Group, "", nil, func(page []entry.Resource) error {
		for _, resource := range page {
			seen.Add(resource.ID())
		}
		return nil
	})
	reading.Complete = whole.Complete
	return err
}

// notListed asks for those by their ids that the mirror has and a list does not,
// since a list may lag behind, and returns those that are gone.
func (x *execution) notListed(ctx context.Context, kind entry.Kind, seen textkey.Set, all bool) ([]string, error) {
	others, err := x.store.Resources.Except(ctx, kind, seen)
	if err != nil || len(others) == 0 {
		return nil, err
	}
	gone, there, err := x.goneOf(ctx, kind, others)
	if err != nil {
		return nil, err
	}
	if _, err := x.store.Resources.Store(ctx, kind, there, x.Settings.Of(kind).Indexed, true); err != nil || kind != entry.Group || !all {
		return gone, err
	}
	ids := make([]string, len(there))
	for i, resource := range there {
		ids[i] = resource.ID()
	}
	return gone, x.readMembers(ctx, ids)
}

// memberReaders is how many groups are asked for their members at once.
const memberReaders = 4

// readMembers reads the members of groups from the cloud.
func (x *execution) readMembers(ctx context.Context, groups []string) error {
	shown, err := x.store.Resources.MembersShown(ctx, x.cloud.URL())
	if err != nil {
		return err
	}
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(memberReaders)
	for _, id := range groups {
		group.Go(func() error {
			members, found, err := x.cloud.Members(ctx, id)
			if err != nil || !found {
				return err
			}
			return x.store.Resources.SetMembers(ctx, id, members, shown == 0 || len(members) < shown)
		})
	}
	return group.Wait()
}
