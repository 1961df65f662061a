// Package expect checks what settings would do to entries that somebody has written down, without a
// directory, a cloud or records: for settings that are kept in version control, with what must hold
// beside them. It asks core/decide, as everything does.
package expect

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"kambrel.example/kambrel/core/decide"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/match"
	"kambrel.example/kambrel/core/person"
	"kambrel.example/kambrel/core/plan"
	"kambrel.example/kambrel/core/settings"
)

// World is what settings are tried on.
type World struct {
	Entries   []entry.Entry
	Resources []entry.Resource // that the cloud has already
	Domains   []string         // that it has verified; nil for those of the settings, none for any
	Now       time.Time
}

// memory answers what decisions ask about others from a world (decide.Facts).
type memory struct {
	settings *decide.Settings
	groups   map[string][]string // by the name of the entry in small letters: who holds it, also through others
	kin      map[entry.Ref]decide.Kin
	holders  map[string][]decide.Holder // by match.Key texts
	claims   map[string]decide.Claimant
	names    map[entry.Ref]string
}

// Outcomes decides about everybody of a world, in its order.
func Outcomes(ctx context.Context, document settings.Document, world World) ([]*decide.Outcome, error) {
	compiled, err := decide.Compile(document)
	if err != nil {
		return nil, err
	}
	m := &memory{settings: compiled, kin: map[entry.Ref]decide.Kin{}, holders: map[string][]decide.Holder{}, claims: map[string]decide.Claimant{}, names: map[entry.Ref]string{}}
	m.groups = holdersOf(world.Entries)
	linked := map[string]entry.Resource{} // by link key
	byKey := map[string]entry.Entry{}
	for _, e := range world.Entries {
		byKey[e.LinkKey()] = e
		m.names[e.Ref()] = e.DN
	}
	for i, r := range world.Resources {
		if r.ID() == "" {
			r["id"] = fmt.Sprintf("resource-%d", i+1)
		}
		holder := decide.Holder{Resource: r, Kind: kindOf(r)}
		if e, known := byKey[r.ExternalID()]; known && r.ExternalID() != "" {
			linked[r.ExternalID()] = r
			holder.Ref, holder.LinkedDN, holder.Gone = e.Ref(), e.DN, e.Gone
		}
		for _, key := range keysOf(compiled.Of(holder.Kind), holder) {
			m.holders[key] = append(m.holders[key], holder)
		}
	}
	var cases []decide.Case
	for _, e := range world.Entries {
		if e.Kind == entry.Container {
			continue
		}
		c := decide.Case{Entry: e}
		if r, is := linked[e.LinkKey()]; is {
			c.Link, c.LinkKey, c.Resource = &plan.Link{ResourceID: r.ID()}, r.ExternalID(), r
		}
		cases = append(cases, c)
	}
	if err := m.persons(ctx, cases); err != nil {
		return nil, err
	}
	cloud := decide.AnyCloud()
	cloud.Domains = world.Domains
	if world.Domains == nil {
		cloud.Domains = document.Cloud.Domains
	}
	decider := &decide.Decider{Settings: compiled, Cloud: cloud, Facts: m, Now: world.Now, Last: true}
	return decider.Decide(ctx, cases)
}

// persons finds who is one person with whom.
func (m *memory) persons(ctx context.Context, cases []decide.Case) error {
	var members []person.Member
	entries := map[entry.Ref]entry.Entry{}
	for i := range cases {
		c := cases[i]
		if c.Entry.Kind != entry.User {
			continue
		}
		e := c.Entry
		if err := m.FillGroups(ctx, []*entry.Entry{&e}); err != nil {
			return err
		}
		entries[e.Ref()] = e
		one := person.Member{Directory: e.Directory, ID: e.ID, DN: e.DN, Order: slices.Index(m.settings.Directories, e.Directory), Inside: m.settings.Scope.Decide(e).In}
		if c.Link != nil {
			one.ResourceID = c.Link.ResourceID
		}
		if one.Inside || c.Link != nil {
			one.Keys = slices.Sorted(slices.Values(m.settings.Of(entry.User).Person.Keys(e)))
		}
		if len(one.Keys) > 0 {
			members = append(members, one)
		}
	}
	slices.SortFunc(members, func(a, b person.Member) int { return a.Ref().Compare(b.Ref()) })
	for _, o := range person.Decide(members) {
		kin := m.kin[o.Ref()]
		switch {
		case o.Lead != nil:
			kin.Follows = &decide.Following{Lead: o.Lead.Ref(), LeadDN: o.Lead.DN, Rule: o.Rule}
			lead := m.kin[o.Lead.Ref()]
			lead.Followers = append(lead.Followers, decide.Follower{Entry: entries[o.Ref()], Rule: o.Rule})
			m.kin[o.Lead.Ref()] = lead
		case o.Problem != nil:
			kin.Follows = &decide.Following{Rule: o.Rule, Problem: o.Problem}
		default:
			continue
		}
		m.kin[o.Ref()] = kin
	}
	return nil
}

func kindOf(r entry.Resource) entry.Kind {
	switch kind, _ := r["kind"].(string); {
	case kind == string(entry.Group) || kind == string(entry.Contact):
		return entry.Kind(kind)
	}
	return entry.User
}

func keysOf(of *decide.Kind, h decide.Holder) []string {
	keys := []string{}
	add := func(attribute, value string) {
		if value != "" {
			keys = append(keys, match.KeyText(h.Kind, attribute, value))
		}
	}
	add("userName", h.Resource.Login())
	add("externalId", h.Resource.ExternalID())
	for _, address := range h.Resource.Addresses() {
		add("emails.value", address)
	}
	for _, path := range of.Indexed {
		if text, ok := path.Get(h.Resource).(string); ok {
			add(path.Key(), text)
		}
	}
	if h.Kind == entry.User {
		keys = append(keys, match.LikenessOf(h.Resource).Indexed()...)
	}
	slices.Sort(keys)
	return slices.Compact(keys)
}

// holdersOf finds for each name the groups that hold it, also through others.
func holdersOf(entries []entry.Entry) map[string][]string {
	direct := map[string][]string{}
	for _, e := range entries {
		for _, member := range e.Members {
			direct[strings.ToLower(member)] = append(direct[strings.ToLower(member)], e.DN)
		}
	}
	out := map[string][]string{}
	for name := range direct {
		var all []string
		met := map[string]bool{}
		next := []string{name}
		for len(next) > 0 {
			for _, group := range direct[next[0]] {
				if key := strings.ToLower(group); !met[key] {
					met[key] = true
					all, next = append(all, group), append(next, key)
				}
			}
			next = next[1:]
		}
		out[name] = all
	}
	return out
}

// FillGroups gives entries the groups that hold them.
func (m *memory) FillGroups(_ context.Context, entries []*entry.Entry) error {
	for _, e := range entries {
		e.AllGroups = m.groups[strings.ToLower(e.DN)]
	}
	return nil
}

// Kin tells whom entries follow, or who follows them.
func (m *memory) Kin(_ context.Context, refs []entry.Ref) (map[entry.Ref]decide.Kin, error) {
	out := map[entry.Ref]decide.Kin{}
	for _, ref := range refs {
		if kin, known := m.kin[ref]; known {
			out[ref] = kin
		}
	}
	return out, nil
}

// Formers are none: a world has no past.
func (m *memory) Formers(context.Context, []entry.Ref) (map[entry.Ref][]decide.Former, error) {
	return nil, nil
}

// Heirs are none.
func (m *memory) Heirs(context.Context, []entry.Ref) (map[entry.Ref][]decide.Former, error) {
	return nil, nil
}

// Holders finds resources by match.Key texts.
func (m *memory) Holders(_ context.Context, keys []string) (map[string][]decide.Holder, error) {
	out := map[string][]decide.Holder{}
	for _, key := range keys {
		if found := m.holders[key]; len(found) > 0 {
			out[key] = found
		}
	}
	return out, nil
}

// FreeHolders finds those that bear no link key.
func (m *memory) FreeHolders(ctx context.Context, keys []string) (map[string][]decide.Holder, error) {
	all, err := m.Holders(ctx, keys)
	for key, list := range all {
		all[key] = slices.DeleteFunc(slices.Clone(list), func(h decide.Holder) bool { return h.Resource.ExternalID() != "" })
	}
	return all, err
}

// Chosen is nothing: nobody has decided by hand.
func (m *memory) Chosen(context.Context, []entry.Ref) (map[entry.Ref]decide.Chosen, error) {
	return nil, nil
}

// Claim gives out unique values in their order.
func (m *memory) Claim(_ context.Context, _ []entry.Ref, claims []decide.Claim) (map[string]decide.Claimant, error) {
	taken := map[string]decide.Claimant{}
	for _, c := range claims {
		if holder, held := m.claims[c.Key]; held && holder.Ref != c.Ref {
			taken[c.Key] = holder
		} else {
			m.claims[c.Key] = decide.Claimant{Ref: c.Ref, DN: m.names[c.Ref]}
		}
	}
	return taken, nil
}

// Unclaim keeps what was claimed: nobody comes after it.
func (m *memory) Unclaim(context.Context, []entry.Ref) error { return nil }
