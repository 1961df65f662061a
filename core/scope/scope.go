// Package scope decides which entries take part: the nearest container mark on
// the way up, the filter of the kind, and its group limit must all let an entry
// in. Every verdict carries its reasons.
package scope

import (
	"fmt"
	"slices"
	"strings"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/filter"
	"kambrel.example/kambrel/core/reason"
	"kambrel.example/kambrel/core/settings"
)

// Code tells what decided a verdict.
type Code string

// The codes.
const (
	Included         Code = "included"
	Gone             Code = "gone"
	UnknownDirectory Code = "unknown-directory"
	NoMark           Code = "no-mark"
	Excluded         Code = "excluded-container"
	Filtered         Code = "filtered"
	KindOff          Code = "kind-off"
	NotMember        Code = "not-a-member"
	CloudOwned       Code = "cloud-owned"
	PinnedOut        Code = "put-back" // out since that was put back, whatever the scope says
)

// Verdict is the decision about one entry.
type Verdict struct {
	In      bool          `json:"in"`
	Code    Code          `json:"code"`
	Summary string        `json:"summary" doc:"The decision and what made it, in one sentence"`
	Reasons []reason.Node `json:"reasons,omitempty"`
}

// Scope is the compiled scope of a settings document; it is immutable.
type Scope struct {
	directories map[string][]mark
	bases       map[string]string // paths
	kinds       map[entry.Kind]selection
	ad          map[string]bool                          // directories of the dialect ad
	known       map[string]map[entry.Kind]*filter.Filter // by directories whose schema is known
}

// selection is what a kind asks beside the containers.
type selection struct {
	off    bool
	filter *filter.Filter // as directories of the dialect standard evaluate it
	ad     *filter.Filter // as those of the dialect ad do
	limit  []string       // paths of groups
	nested bool
	groups []string // the same as they were written
}

type mark struct {
	path, dn string
	include  bool
}

// Compile prepares the scope of a valid document.
func Compile(document settings.Document) (*Scope, error) {
	s := &Scope{directories: map[string][]mark{}, bases: map[string]string{}, kinds: map[entry.Kind]selection{}, ad: map[string]bool{}}
	for _, directory := range document.Directories {
		base, err := entry.ParseDN(directory.Base)
		if err != nil {
			return nil, fmt.Errorf("base of directory %s: %w", directory.Name, err)
		}
		s.bases[directory.Name] = base.Path()
		s.ad[directory.Name] = directory.Dialect == entry.AD
		var marks []mark
		add := func(dns []string, include bool) error {
			for _, text := range dns {
				dn, err := entry.ParseDN(text)
				if err != nil {
					return fmt.Errorf("scope of directory %s: %w", directory.Name, err)
				}
				marks = append(marks, mark{dn.Path(), text, include})
			}
			return nil
		}
		if err := add(directory.Containers.Include, true); err != nil {
			return nil, err
		}
		if err := add(directory.Containers.Exclude, false); err != nil {
			return nil, err
		}
		s.directories[directory.Name] = marks
	}
	for _, kind := range entry.Kinds {
		compiled, err := compileSelection(document.Selection(kind))
		if err != nil {
			return nil, fmt.Errorf("scope of %ss: %w", kind, err)
		}
		s.kinds[kind] = compiled
	}
	return s, nil
}

// Knowing returns the scope with filters as directories evaluate them whose schema is
// known.
func (s *Scope) Knowing(schemas map[string]entry.Schema) *Scope {
	out := *s
	out.known = map[string]map[entry.Kind]*filter.Filter{}
	for directory, schema := range schemas {
		for kind, selected := range s.kinds {
			of := selected.filter
			if s.ad[directory] {
				of = selected.ad
			}
			if of == nil || len(schema) == 0 {
				continue
			}
			if out.known[directory] == nil {
				out.known[directory] = map[entry.Kind]*filter.Filter{}
			}
			out.known[directory][kind] = of.By(schema)
		}
	}
	return &out
}

func compileSelection(in settings.Selection) (selection, error) {
	out := selection{off: in.Off, nested: in.MembersOf.Nested, groups: in.MembersOf.Groups}
	if in.Filter != "" {
		parsed, err := filter.Parse(in.Filter)
		if err != nil {
			return out, err
		}
		out.filter, out.ad = parsed.For(false), parsed.For(true)
	}
	for _, group := range in.MembersOf.Groups {
		dn, err := entry.ParseDN(group)
		if err != nil {
			return out, err
		}
		out.limit = append(out.limit, dn.Path())
	}
	return out, nil
}

// selection is what the entry's kind asks, as the entry's directory takes it.
func (s *Scope) selection(e entry.Entry) selection {
	selected := s.kinds[e.Kind]
	if known := s.known[e.Directory][e.Kind]; known != nil {
		selected.filter = known
	} else if s.ad[e.Directory] {
		selected.filter = selected.ad
	}
	return selected
}

// holder returns the group of the limit that holds the entry, "" if none.
func (s selection) holder(e entry.Entry) string {
	groups := e.Groups
	if s.nested {
		groups = e.AllGroups
	}
	for _, group := range groups {
		if dn, err := entry.ParseDN(group); err == nil && slices.Contains(s.limit, dn.Path()) {
			return group
		}
	}
	return ""
}

// Marks lists the container names that the scope of a directory mentions.
func (s *Scope) Marks(directory string) []string {
	var names []string
	for _, m := range s.directories[directory] {
		names = append(names, m.dn)
	}
	return names
}

// Attributes lists what the filters ask about.
func (s *Scope) Attributes() []string {
	var names []string
	for _, kind := range entry.Kinds {
		if f := s.kinds[kind].filter; f != nil {
			names = append(names, f.Attributes()...)
		}
	}
	return names
}

// Kinds lists the kinds that are not switched off.
func (s *Scope) Kinds() []entry.Kind {
	return slices.DeleteFunc(slices.Clone(entry.Kinds), func(kind entry.Kind) bool { return s.kinds[kind].off })
}

// Limits lists the groups that limit who takes part.
func (s *Scope) Limits() []string {
	var names []string
	for _, kind := range entry.Kinds {
		names = append(names, s.kinds[kind].groups...)
	}
	return names
}

// AsksForGroups tells whether a decision needs the groups that hold the entry.
func (s *Scope) AsksForGroups() bool {
	for _, selected := range s.kinds {
		if len(selected.limit) > 0 || selected.filter != nil && selected.filter.AsksForGroups() {
			return true
		}
	}
	return false
}

// AsksForMembers tells whether a decision needs the members of a group.
func (s *Scope) AsksForMembers() bool {
	for _, selected := range s.kinds {
		if selected.filter != nil && selected.filter.AsksForMembers() {
			return true
		}
	}
	return false
}

// Decide gives the verdict without reasons; it is what runs use.
func (s *Scope) Decide(e entry.Entry) Verdict {
	marks, known := s.directories[e.Directory]
	selected := s.selection(e)
	switch {
	case e.Gone:
		return Verdict{Code: Gone, Summary: "out: the directory says that the entry was deleted"}
	case e.CloudGroup != "":
		return Verdict{Code: CloudOwned, Summary: "out: the group " + e.CloudGroup + " of the cloud owns it, and it is never read as a source"}
	case selected.off || e.Kind == entry.Container:
		return Verdict{Code: KindOff, Summary: fmt.Sprintf("out: the kind %s does not take part", e.Kind)}
	case !known:
		return Verdict{Code: UnknownDirectory, Summary: fmt.Sprintf("out: the settings name no directory %s", e.Directory)}
	}
	nearest, found := nearestMark(marks, e.DN)
	switch {
	case !found:
		return Verdict{Code: NoMark, Summary: "out: no container above it is included"}
	case !nearest.include:
		return Verdict{Code: Excluded, Summary: fmt.Sprintf("out: the container %s is excluded", nearest.dn)}
	case selected.filter != nil && !selected.filter.Matches(e):
		return Verdict{Code: Filtered, Summary: fmt.Sprintf("out: the filter %s does not keep it", selected.filter)}
	case len(selected.limit) > 0 && selected.holder(e) == "":
		return Verdict{Code: NotMember, Summary: "out: it is no member of " + strings.Join(selected.groups, "; ")}
	}
	return Verdict{In: true, Code: Included, Summary: fmt.Sprintf("in: the container %s is included", nearest.dn)}
}

// Explain gives the verdict with the whole tree of reasons.
func (s *Scope) Explain(e entry.Entry) Verdict {
	verdict := s.Decide(e)
	add := func(node reason.Node) { verdict.Reasons = append(verdict.Reasons, node) }
	add(reason.Node{Text: "the entry exists in the directory", Outcome: reason.Of(!e.Gone), Deciding: verdict.Code == Gone})
	if e.Kind == entry.Group {
		add(reason.Node{Text: "no group of the cloud owns it", Outcome: reason.Of(e.CloudGroup == ""), Value: e.CloudGroup, Deciding: verdict.Code == CloudOwned})
	}
	add(reason.Node{Text: "its kind takes part", Outcome: reason.Of(verdict.Code != KindOff), Value: string(e.Kind), Deciding: verdict.Code == KindOff})
	add(s.explainContainers(e, verdict))
	selected := s.selection(e)
	if selected.filter != nil {
		node := selected.filter.Explain(e)
		if verdict.Code != Filtered {
			node = undecided(node)
		}
		add(reason.Node{Text: fmt.Sprintf("the filter for %ss keeps it", e.Kind), Outcome: node.Outcome, Deciding: verdict.Code == Filtered, Children: []reason.Node{node}})
	}
	if len(selected.limit) > 0 {
		holder := selected.holder(e)
		node := reason.Node{Text: "one of the named groups holds it: " + strings.Join(selected.groups, "; "), Outcome: reason.Of(holder != ""), Value: holder, Deciding: verdict.Code == NotMember}
		if holder == "" {
			node.Value = "(none)"
		}
		add(node)
	}
	return verdict
}

func (s *Scope) explainContainers(e entry.Entry, verdict Verdict) reason.Node {
	marks := s.directories[e.Directory]
	nearest, found := nearestMark(marks, e.DN)
	node := reason.Node{
		Text:     "the nearest marked container above it is included",
		Outcome:  reason.Of(found && nearest.include),
		Deciding: verdict.Code == NoMark || verdict.Code == Excluded || verdict.Code == UnknownDirectory || verdict.In,
	}
	dn, err := entry.ParseDN(e.DN)
	if err != nil {
		node.Value = err.Error()
		return node
	}
	path := dn.Path()
	for above := e.DN; above != ""; {
		_, above, _ = cutRDN(above)
		parent, err := entry.ParseDN(above)
		if err != nil || !entry.PathUnder(parent.Path(), s.bases[e.Directory]) {
			break
		}
		child := reason.Node{Text: above, Outcome: reason.Note, Value: "not marked"}
		for _, m := range marks {
			if parent.Path() == m.path {
				child.Value = map[bool]string{true: "included", false: "excluded"}[m.include]
				child.Outcome = reason.Of(m.include)
				child.Deciding = found && m == nearest && node.Deciding && entry.PathUnder(path, m.path)
			}
		}
		node.Children = append(node.Children, child)
	}
	if found {
		node.Value = nearest.dn
	} else {
		node.Value = "none is marked"
	}
	return node
}

// cutRDN splits a name at its first comma that is not escaped.
func cutRDN(dn string) (rdn, rest string, ok bool) {
	for i := 0; i < len(dn); i++ {
		switch dn[i] {
		case '\\':
			i++
		case ',':
			return dn[:i], strings.TrimSpace(dn[i+1:]), true
		}
	}
	return dn, "", false
}

func nearestMark(marks []mark, dn string) (mark, bool) {
	parsed, err := entry.ParseDN(dn)
	if err != nil {
		return mark{}, false
	}
	path := parsed.Path()
	var nearest mark
	found := false
	for _, m := range marks {
		if entry.PathUnder(path, m.path) && (!found || len(m.path) > len(nearest.path)) {
			nearest, found = m, true
		}
	}
	return nearest, found
}

func undecided(node reason.Node) reason.Node {
	node.Deciding = false
	for i := range node.Children {
		node.Children[i] = undecided(node.Children[i])
	}
	return node
}
