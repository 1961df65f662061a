package engine

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/join"
	"kambrel.example/kambrel/core/match"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/rules"
	"kambrel.example/kambrel/core/scope"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/core/survey"
	"kambrel.example/kambrel/store"
)

// compiled is a settings revision made ready for deciding. It is immutable.
type compiled struct {
	revision int
	document settings.Document
	// directories are their names, in the order in which they are asked.
	directories []string
	scope       *scope.Scope
	kinds       map[entry.Kind]*taking
	// asksForGroups: a decision needs the groups that hold the entry.
	asksForGroups bool
	// attributes are what directories are asked for, without regard to case
	// and sorted; pointers are those of them by which entries name others.
	attributes, pointers []string
}

// taking is what a kind becomes.
type taking struct {
	rules   *rules.Set
	match   *match.Rules
	join    *join.Rules
	indexed []entry.Path
	leavers settings.Policy
	grace   time.Duration
}

func compileDocument(revision int, document settings.Document) (*compiled, error) {
	c := &compiled{revision: revision, document: document, kinds: map[entry.Kind]*taking{}}
	for _, directory := range document.Directories {
		c.directories = append(c.directories, directory.Name)
	}
	var err error
	if c.scope, err = scope.Compile(document); err != nil {
		return nil, err
	}
	c.asksForGroups = c.scope.AsksForGroups()
	// What people are called is always read, so that they can be found, and what
	// a survey looks at, so that it need not read everything again.
	names := append(append([]string{"objectClass", "uid"}, survey.Attributes()...), c.scope.Attributes()...)
	for _, kind := range entry.Kinds {
		of := document.Of(kind)
		t := &taking{match: match.Compile(*of), leavers: of.Leavers, grace: of.GraceTime()}
		if t.rules, err = rules.Compile(*of); err != nil {
			return nil, fmt.Errorf("%ss: %w", kind, err)
		}
		if t.join, err = join.Compile(*of); err != nil {
			return nil, fmt.Errorf("%ss: %w", kind, err)
		}
		t.indexed = t.match.Indexed()
		c.kinds[kind] = t
		c.asksForGroups = c.asksForGroups || t.rules.AsksForGroups() || t.join.AsksForGroups()
		names = slices.Concat(names, t.rules.Attributes(), t.match.Attributes(), t.join.Attributes())
		for _, reference := range t.rules.References() {
			c.pointers = append(c.pointers, reference.Attribute)
		}
	}
	c.attributes, c.pointers = union(names), union(c.pointers)
	return c, nil
}

// of returns what a kind becomes, that of people for what is no kind.
func (c *compiled) of(kind entry.Kind) *taking {
	if t := c.kinds[kind]; t != nil {
		return t
	}
	return c.kinds[entry.User]
}

// union puts lists of attributes together, without regard to case and sorted.
func union(lists ...[]string) []string {
	names := slices.Concat(lists...)
	slices.SortFunc(names, func(a, b string) int { return strings.Compare(strings.ToLower(a), strings.ToLower(b)) })
	return slices.CompactFunc(names, strings.EqualFold)
}

// compiler keeps the compiled settings that were used last.
type compiler struct {
	store *store.Store
	mu    sync.Mutex
	last  *compiled
}

func (k *compiler) revision(ctx context.Context, revision int) (*compiled, error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.last != nil && k.last.revision == revision {
		return k.last, nil
	}
	r, err := k.store.SettingsRevision(ctx, revision)
	if err != nil {
		return nil, fmt.Errorf("read settings revision %d: %w", revision, err)
	}
	c, err := compileDocument(r.Revision, r.Document)
	if err != nil {
		return nil, problem.Wrap(problem.SettingsInvalid, err, "settings revision %d", revision)
	}
	k.last = c
	return c, nil
}

func (k *compiler) active(ctx context.Context) (*compiled, error) {
	r, ok, err := k.store.ActiveSettings(ctx)
	if err != nil {
		return nil, err
	}
	if !ok {
		return nil, problem.New(problem.NoSettings, "")
	}
	return k.revision(ctx, r.Revision)
}

// covers tells whether a directory was read with all attributes that are
// needed now.
func covers(have, need []string) bool {
	return !slices.ContainsFunc(need, func(name string) bool {
		return !slices.ContainsFunc(have, func(h string) bool { return strings.EqualFold(h, name) })
	})
}
