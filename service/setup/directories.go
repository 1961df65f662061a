package setup

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"kambrel.example/kambrel/core/about"
	"kambrel.example/kambrel/core/act"
	"kambrel.example/kambrel/core/cloudgroups"
	"kambrel.example/kambrel/core/decide"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/rights"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/core/survey"
	protocol "kambrel.example/kambrel/protocol/orders"
	"kambrel.example/kambrel/protocol/wire"
	"kambrel.example/kambrel/service/store"
	"kambrel.example/kambrel/service/views"
)

// undoWithin is how long a directory that was taken away can be brought back.
const undoWithin = 30 * 24 * time.Hour

// Directories lists the directories of the draft and of the active settings.
func (e *Setup) Directories(ctx context.Context) ([]wire.ConnectedDirectory, error) {
	draft, active, err := e.store.Settings.CurrentDraft(ctx)
	if err != nil {
		return nil, err
	}
	agents, err := e.store.Agents.List(ctx)
	if err != nil {
		return nil, err
	}
	connected := []wire.ConnectedDirectory{}
	add := func(d settings.Directory) error {
		view := wire.ConnectedDirectory{Name: d.Name, Dialect: d.Dialect, Base: d.Base, Features: append([]entry.Feature{}, d.Features...), Agents: []wire.Agent{}}
		_, view.Active = active.Document.Directory(d.Name)
		_, view.InDraft = draft.Document.Directory(d.Name)
		for _, agent := range agents {
			if slices.Contains(agent.Serves(), d.Name) {
				view.Agents = append(view.Agents, views.Agent(agent))
				view.Plain = view.Plain || slices.Contains(agent.Plain, d.Name)
			}
		}
		var err error
		if view.Entries, view.Links, err = e.store.Removed.CountsOf(ctx, d.Name); err != nil {
			return err
		}
		state, err := e.store.Entries.StateOf(ctx, d.Name)
		if err != nil {
			return err
		}
		if state.Directory != "" {
			view.LastRead = &state.Read
		}
		order, ok, err := e.store.Orders.LastProbe(ctx, d.Name)
		if ok {
			probe := probeView(order, agents)
			view.Probe = &probe
		}
		connected = append(connected, view)
		return err
	}
	for _, d := range draft.Document.Directories {
		if err := add(d); err != nil {
			return nil, err
		}
	}
	for _, d := range active.Document.Directories {
		if _, both := draft.Document.Directory(d.Name); !both {
			if err := add(d); err != nil {
				return nil, err
			}
		}
	}
	return connected, nil
}

// DirectoryOf shows one directory.
func (e *Setup) DirectoryOf(ctx context.Context, name string) (wire.ConnectedDirectory, error) {
	all, err := e.Directories(ctx)
	if err != nil {
		return wire.ConnectedDirectory{}, err
	}
	for _, d := range all {
		if d.Name == name {
			return d, nil
		}
	}
	return wire.ConnectedDirectory{}, noDirectory(name)
}

// probeView is a probe as the interface shows it.
func probeView(order store.Order, agents []store.Agent) wire.Probe {
	probe := wire.Probe{At: order.Created, Outcome: "good", Verdicts: order.Result}
	for _, agent := range agents {
		if order.AgentID != nil && agent.ID == *order.AgentID {
			probe.Agent = agent.Name
		}
	}
	for _, v := range probe.Verdicts {
		switch {
		case v.Outcome == "bad":
			probe.Outcome = "bad"
		case v.Outcome == "doubtful" && probe.Outcome == "good":
			probe.Outcome = "doubtful"
		}
	}
	return probe
}

// AddDirectory puts a directory into the draft, with the rules and filters that
// suit it where nobody has changed the defaults.
func (e *Setup) AddDirectory(ctx context.Context, by string, in wire.NewDirectory) (wire.Draft, error) {
	d := settings.Directory{Name: in.Name, Dialect: in.Dialect, Base: in.Base, Features: in.Features,
		Containers: settings.Containers{Include: append([]string{}, in.Include...), Exclude: in.Exclude}}
	only := settings.Default(d)
	failure := problem.New(problem.SettingsInvalid, "the directory was not added.")
	for _, fault := range only.Validate() {
		if strings.HasPrefix(fault.Path, "directories[0]") && fault.Path != "directories[0].containers.include" {
			fault.Path = strings.TrimPrefix(fault.Path, "directories[0].")
			failure.Faults = append(failure.Faults, fault)
		}
	}
	if len(failure.Faults) > 0 {
		return wire.Draft{}, failure
	}
	return e.EditDraft(ctx, by, -1, func(document *settings.Document) error {
		if _, taken := document.Directory(d.Name); taken {
			return problem.New(problem.BadInput, "there is a directory called %s already.", d.Name)
		}
		// The lists of the active document must not be changed with the draft's.
		copied, err := document.Clone()
		if err != nil {
			return err
		}
		copied.Add(d)
		*document = copied
		return nil
	})
}

// named finds a directory in the draft, or in the active settings.
func (e *Setup) named(ctx context.Context, name string) (settings.Directory, error) {
	draft, active, err := e.store.Settings.CurrentDraft(ctx)
	if err != nil {
		return settings.Directory{}, err
	}
	if d, ok := draft.Document.Directory(name); ok {
		return d, nil
	}
	if d, ok := active.Document.Directory(name); ok {
		return d, nil
	}
	return settings.Directory{}, noDirectory(name)
}

// Probe has an agent try the connection to a directory. features are tried
// beside those that are switched on. by is the name or id of the agent that is to
// do it, "" for any.
func (e *Setup) Probe(ctx context.Context, name, by string, features []entry.Feature) (wire.Probe, error) {
	agents, err := e.store.Agents.List(ctx)
	if err != nil {
		return wire.Probe{}, err
	}
	only, err := agentFor(agents, by, name)
	if err != nil {
		return wire.Probe{}, err
	}
	d, err := e.named(ctx, name)
	if err != nil {
		return wire.Probe{}, err
	}
	for _, feature := range features {
		if !slices.Contains(entry.Features, feature) {
			return wire.Probe{}, problem.New(problem.BadInput, "%q is no feature; there are %q.", feature, entry.Features)
		}
	}
	repairable := map[entry.Kind][]string{}
	for _, kind := range entry.Kinds {
		repairable[kind] = survey.Repairable(d.Dialect, kind)
	}
	needs, expected, err := e.attributesOf(ctx, d.Name)
	if err != nil {
		return wire.Probe{}, err
	}
	var groups *protocol.Groups
	if d.CloudGroups != nil {
		keeping, err := cloudgroups.Compile(d)
		if err != nil {
			return wire.Probe{}, badInput(err)
		}
		groups = &protocol.Groups{Container: keeping.Container, Mark: keeping.Mark, Class: keeping.ObjectClass(), Member: keeping.MemberAttribute()}
	}
	order, err := e.orders.AskOf(ctx, only, protocol.Order{Directory: d.Name, Dialect: d.Dialect, Base: d.Base, Probe: &protocol.Probe{
		Needs: needs, Expected: expected, Groups: groups,
		Features: slices.Compact(slices.Sorted(slices.Values(slices.Concat(d.Features, features)))), Containers: d.Containers.Include, Repairable: repairable,
	}})
	if err != nil {
		return wire.Probe{}, err
	}
	return probeView(order, agents), nil
}

// agentFor finds the agent of a name or id that is to do something at a directory; nil
// for "".
func agentFor(agents []store.Agent, text, directory string) (*string, error) {
	if text == "" {
		return nil, nil
	}
	for _, agent := range agents {
		switch {
		case agent.Name != text && agent.ID != text:
		case !slices.Contains(agent.Serves(), directory):
			return nil, problem.New(problem.BadInput, "agent %s does not serve the directory %s: its own configuration must name it, and an administrator must have granted it ('kambrel agent list').", agent.Name, directory)
		default:
			return &agent.ID, nil
		}
	}
	return nil, problem.New(problem.NotFound, "there is no agent %q ('kambrel agent list').", text)
}

// attributesOf are those that the draft, or the active settings, need of a directory, and
// those that its entries are known to have; none where the settings have faults.
func (e *Setup) attributesOf(ctx context.Context, directory string) (needs, expected []string, err error) {
	document, err := e.Document(ctx, true)
	if err != nil {
		return nil, nil, err
	}
	state, err := e.store.Entries.StateOf(ctx, directory)
	if err != nil {
		return nil, nil, err
	}
	compiled, err := decide.Compile(document)
	if err != nil {
		return nil, state.Expected, nil // that is told where the settings are edited
	}
	return compiled.Attributes, state.Expected, nil
}

// Rights is the text of rights for a directory. account stands for the agent's
// account in it.
func (e *Setup) Rights(ctx context.Context, name, account string, features []entry.Feature) (string, error) {
	d, err := e.named(ctx, name)
	if err != nil {
		return "", err
	}
	for _, feature := range features {
		if !slices.Contains(d.Features, feature) {
			d.Features = append(slices.Clone(d.Features), feature)
		}
	}
	probe, _, err := e.store.Orders.LastProbe(ctx, name)
	server := ""
	for _, v := range probe.Result {
		if v.Step == "server" {
			server = v.Detail
		}
	}
	return rights.Text(d, account, rights.LanguageOf(server)), err
}

// RemovalOf tells what would go with a directory.
func (e *Setup) RemovalOf(ctx context.Context, name string) (wire.RemovalPreview, error) {
	if _, err := e.named(ctx, name); err != nil {
		return wire.RemovalPreview{}, err
	}
	active, _, err := e.store.Settings.Active(ctx)
	if err != nil {
		return wire.RemovalPreview{}, err
	}
	p := wire.RemovalPreview{Name: name, Until: time.Now().Add(undoWithin).Truncate(time.Second)}
	_, p.Active = active.Document.Directory(name)
	if p.Entries, p.Links, err = e.store.Removed.CountsOf(ctx, name); err != nil {
		return p, err
	}
	if p.Working, err = e.store.Links.CountWorking(ctx, name); err != nil {
		return p, err
	}
	if p.Active {
		p.Text = fmt.Sprintf("Directory %s leaves the settings. Its %d links are put aside and its %d entries forgotten. The %d accounts in the cloud that belong to it stay as they are, %d of them able to sign in; nobody is suspended or deleted, but Kambrel no longer updates them. It can be brought back with its links until %s.",
			name, p.Links, p.Entries, p.Links, p.Working, p.Until.Format(time.DateTime))
	} else {
		p.Text = fmt.Sprintf("Directory %s is in the draft only. It leaves the draft; %d entries that were read are forgotten. Nothing in the cloud belongs to it.", name, p.Entries)
	}
	return p, nil
}

// RemoveDirectory takes a directory out of the draft and the active settings,
// and puts its links aside.
func (e *Setup) RemoveDirectory(ctx context.Context, by, name, confirm string) error {
	if confirm != name {
		return problem.New(problem.BadInput, "type the directory's name, %s, to take it away; %q was typed.", name, confirm)
	}
	return e.store.Tx(ctx, func(tx *store.Store) error {
		if err := tx.Settings.Lock(ctx); err != nil {
			return err
		}
		draft, active, err := tx.Settings.CurrentDraft(ctx)
		if err != nil {
			return err
		}
		directory, isActive := active.Document.Directory(name)
		drafted, inDraft := draft.Document.Directory(name)
		if !isActive && !inDraft {
			return noDirectory(name)
		}
		if !isActive {
			directory = drafted
		}
		if isActive {
			if len(active.Document.Directories) == 1 {
				return problem.New(problem.BadInput, "%s is the only directory, and settings need one: activate settings with another directory first.", name)
			}
			if _, err := tx.Removed.TakeAway(ctx, directory, by, time.Now().Add(undoWithin)); err != nil {
				return err
			}
			revision := store.Revision{Document: active.Document.Without(name), By: by, Note: "Directory " + name + " taken away"}
			if err := e.activate(ctx, tx, &revision, active, nil); err != nil {
				return err
			}
			draft.Base = revision.Revision
		} else if err := tx.Removed.Forget(ctx, name); err != nil {
			return err
		}
		if draft.Version > 0 {
			draft.Document, draft.By = draft.Document.Without(name), by
			if err := tx.Settings.SaveDraft(ctx, &draft); err != nil {
				return err
			}
		}
		return tx.Acts.Record(ctx, act.Act{Kind: act.RemoveDirectory, By: by, About: about.Thing{Type: about.Directory, Key: name}, Before: directory})
	})
}

// Removals lists directories that can be brought back.
func (e *Setup) Removals(ctx context.Context) ([]wire.Removal, error) {
	removals, err := e.store.Removed.List(ctx)
	views := make([]wire.Removal, len(removals))
	for i, r := range removals {
		views[i] = wire.Removal{ID: r.ID, Name: r.Name, By: r.By, Removed: r.Removed, Until: r.Until, Links: r.Links}
	}
	return views, err
}

// BringBack puts a directory that was taken away back, with its links.
func (e *Setup) BringBack(ctx context.Context, by string, id int64) (wire.BroughtBack, error) {
	var out wire.BroughtBack
	err := e.store.Tx(ctx, func(tx *store.Store) error {
		if err := tx.Settings.Lock(ctx); err != nil {
			return err
		}
		removals, err := tx.Removed.List(ctx)
		if err != nil {
			return err
		}
		at := slices.IndexFunc(removals, func(r store.Removal) bool { return r.ID == id })
		if at < 0 {
			return problem.New(problem.NotFound, "there is no such directory to bring back, or its time is over.")
		}
		removal := removals[at]
		draft, active, err := tx.Settings.CurrentDraft(ctx)
		if err != nil {
			return err
		}
		if _, taken := active.Document.Directory(removal.Name); taken {
			return problem.New(problem.BadInput, "there is a directory called %s again: rename or remove it first.", removal.Name)
		}
		revision := store.Revision{Document: active.Document, By: by, Note: "Directory " + removal.Name + " brought back"}
		revision.Document.Directories = append(slices.Clone(active.Document.Directories), removal.Directory)
		if out.Links, err = tx.Removed.BringBack(ctx, id); err != nil {
			return err
		}
		if err := e.activate(ctx, tx, &revision, active, nil); err != nil {
			return err
		}
		if draft.Version > 0 {
			draft.Base, draft.By = revision.Revision, by
			if _, has := draft.Document.Directory(removal.Name); !has {
				draft.Document.Directories = append(slices.Clone(draft.Document.Directories), removal.Directory)
			}
			if err := tx.Settings.SaveDraft(ctx, &draft); err != nil {
				return err
			}
		}
		out.Name, out.Lost, out.Revision = removal.Name, removal.Links-out.Links, revision.Revision
		return tx.Acts.Record(ctx, act.Act{Kind: act.BringBack, By: by, About: about.Thing{Type: about.Directory, Key: removal.Name}, After: removal.Directory,
			Note: fmt.Sprintf("%d links came back, %d did not", out.Links, out.Lost)})
	})
	return out, err
}
