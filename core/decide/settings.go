package decide

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"kambrel.example/kambrel/core/cloudgroups"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/match"
	"kambrel.example/kambrel/core/person"
	"kambrel.example/kambrel/core/rules"
	"kambrel.example/kambrel/core/scope"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/core/survey"
)

// Settings is a settings document made ready for deciding. It is immutable.
type Settings struct {
	Document settings.Document
	Scope    *scope.Scope
	// Directories are their names, in the order in which they are asked.
	Directories []string
	// AsksForGroups: a decision needs the groups that hold the entry.
	AsksForGroups bool
	// Attributes are what directories are asked for, without regard to case and
	// sorted; Pointers are those of them by which entries name others.
	Attributes, Pointers []string
	// Schemas are how directories compare values, by their names, see Knowing.
	Schemas map[string]entry.Schema

	// CloudGroups are the directories in which groups of the cloud are kept.
	CloudGroups []*cloudgroups.Keeping

	kinds map[entry.Kind]*Kind
}

// Kind is what entries of one kind become.
type Kind struct {
	Rules   *rules.Set
	Match   *match.Rules
	Person  *person.Rules
	Indexed []entry.Path // what the cloud mirror must be searched by
	Leavers settings.Policy
	Grace   time.Duration
}

// Compile makes a valid document ready.
func Compile(document settings.Document) (*Settings, error) {
	c := &Settings{Document: document, kinds: map[entry.Kind]*Kind{}}
	for _, directory := range document.Directories {
		c.Directories = append(c.Directories, directory.Name)
	}
	var err error
	if c.Scope, err = scope.Compile(document); err != nil {
		return nil, err
	}
	c.AsksForGroups = c.Scope.AsksForGroups()
	// What people are called is always read, so that they can be found, and what
	// a survey looks at, so that it need not read everything again.
	names := append(append([]string{"objectClass", "uid"}, survey.Attributes()...), c.Scope.Attributes()...)
	for _, directory := range document.Directories {
		if !directory.KeepsCloudGroups() {
			continue
		}
		keeping, err := cloudgroups.Compile(directory)
		if err != nil {
			return nil, err
		}
		c.CloudGroups = append(c.CloudGroups, keeping)
		names = append(names, keeping.Attributes()...)
	}
	for _, kind := range entry.Kinds {
		of := document.Of(kind)
		k := &Kind{Match: match.Compile(*of), Leavers: of.Leavers, Grace: of.GraceTime()}
		if k.Rules, err = rules.Compile(*of); err != nil {
			return nil, fmt.Errorf("%ss: %w", kind, err)
		}
		if k.Person, err = person.Compile(*of); err != nil {
			return nil, fmt.Errorf("%ss: %w", kind, err)
		}
		k.Indexed = k.Match.Indexed()
		c.kinds[kind] = k
		c.AsksForGroups = c.AsksForGroups || k.Rules.AsksForGroups() || k.Person.AsksForGroups()
		names = slices.Concat(names, k.Rules.Attributes(), k.Match.Attributes(), k.Person.Attributes())
		for _, reference := range k.Rules.References() {
			c.Pointers = append(c.Pointers, reference.Attribute)
		}
	}
	c.Attributes, c.Pointers = Union(names), Union(c.Pointers)
	return c, nil
}

// Knowing returns the settings with filters as directories evaluate them whose schema is
// known.
func (c *Settings) Knowing(schemas map[string]entry.Schema) *Settings {
	out := *c
	out.Scope, out.Schemas = c.Scope.Knowing(schemas), schemas
	return &out
}

// Of returns what a kind becomes, that of users for what is no kind.
func (c *Settings) Of(kind entry.Kind) *Kind {
	if k := c.kinds[kind]; k != nil {
		return k
	}
	return c.kinds[entry.User]
}

// KeepingOf is what a directory keeps of the groups of the cloud, nil if nothing.
func (c *Settings) KeepingOf(directory string) *cloudgroups.Keeping {
	for _, k := range c.CloudGroups {
		if k.Directory == directory {
			return k
		}
	}
	return nil
}

// CloudGroupOf is the group of the cloud that an entry is kept for: the one that is known, or,
// of an entry without a link that is where such groups are kept and bears a mark, its id.
func (c *Settings) CloudGroupOf(e entry.Entry) string {
	if k := c.KeepingOf(e.Directory); k != nil && e.CloudGroup == "" && e.Kind == entry.Group {
		return k.MarkOf(e)
	}
	return e.CloudGroup
}

// HasPersons tells whether entries of several directories may be one person.
func (c *Settings) HasPersons() bool { return !c.Of(entry.User).Person.Empty() }

// Union puts lists of attributes together, without regard to case and sorted.
func Union(lists ...[]string) []string {
	names := slices.Concat(lists...)
	slices.SortFunc(names, func(a, b string) int { return strings.Compare(strings.ToLower(a), strings.ToLower(b)) })
	return slices.CompactFunc(names, strings.EqualFold)
}

// Cloud is what the cloud takes, as far as decisions ask.
type Cloud struct {
	Domains []string                // verified login domains, nil when unknown
	Kinds   map[entry.Kind]bool     // those that it has resources for
	Unique  map[entry.Kind][]string // keys of paths whose values are unique
	// Required are keys of paths that its schemas ask for.
	Required map[entry.Kind][]string
	Members  []entry.Kind // what groups can hold
}

// AnyCloud is one about which nothing is known, and which takes every kind.
func AnyCloud() Cloud {
	return Cloud{Kinds: map[entry.Kind]bool{entry.User: true, entry.Group: true, entry.Contact: true}}
}
