// Package scope decides which entries take part: the nearest container mark on
// the way up, and the filter of the kind, must both let an entry in. Every
// verdict carries its reasons.
package scope

import (
	"fmt"
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
	OtherKind        Code = "other-kind"
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
	filter      *filter.Filter
}

type mark struct {
	path, dn string
	include  bool
}

// Compile prepares the scope of a valid document.
func Compile(document settings.Document) (*Scope, error) {
	s := &Scope{directories: map[string][]mark{}, bases: map[string]string{}}
	for _, directory := range document.Directories {
		base, err := entry.ParseDN(directory.Base)
		if err != nil {
			return nil, fmt.Errorf("base of directory %s: %w", directory.Name, err)
		}
		s.bases[directory.Name] = base.Path()
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
	if document.Users.Filter != "" {
		parsed, err := filter.Parse(document.Users.Filter)
		if err != nil {
			return nil, fmt.Errorf("scope: %w", err)
		}
		s.filter = parsed
	}
	return s, nil
}

// Marks lists the container names that the scope of a directory mentions.
func (s *Scope) Marks(directory string) []string {
	var names []string
	for _, m := range s.directories[directory] {
		names = append(names, m.dn)
	}
	return names
}

// Attributes lists what the filter asks about.
func (s *Scope) Attributes() []string {
	if s.filter == nil {
		return nil
	}
	return s.filter.Attributes()
}

// Decide gives the verdict without reasons; it is what runs use.
func (s *Scope) Decide(e entry.Entry) Verdict {
	marks, known := s.directories[e.Directory]
	switch {
	case e.Gone:
		return Verdict{Code: Gone, Summary: "out: the directory says that the entry was deleted"}
	case e.Kind != entry.User:
		return Verdict{Code: OtherKind, Summary: fmt.Sprintf("out: a %s is not synced", e.Kind)}
	case !known:
		return Verdict{Code: UnknownDirectory, Summary: fmt.Sprintf("out: the settings name no directory %s", e.Directory)}
	}
	nearest, found := nearestMark(marks, e.DN)
	switch {
	case !found:
		return Verdict{Code: NoMark, Summary: "out: no container above it is included"}
	case !nearest.include:
		return Verdict{Code: Excluded, Summary: fmt.Sprintf("out: the container %s is excluded", nearest.dn)}
	case s.filter != nil && !s.filter.Matches(e):
		return Verdict{Code: Filtered, Summary: fmt.Sprintf("out: the filter %s does not keep it", s.filter)}
	}
	return Verdict{In: true, Code: Included, Summary: fmt.Sprintf("in: the container %s is included", nearest.dn)}
}

// Explain gives the verdict with the whole tree of reasons.
func (s *Scope) Explain(e entry.Entry) Verdict {
	verdict := s.Decide(e)
	add := func(node reason.Node) { verdict.Reasons = append(verdict.Reasons, node) }
	add(reason.Node{Text: "the entry exists in the directory", Outcome: reason.Of(!e.Gone), Deciding: verdict.Code == Gone})
	add(reason.Node{Text: "its kind is synced", Outcome: reason.Of(e.Kind == entry.User), Value: string(e.Kind), Deciding: verdict.Code == OtherKind})
	add(s.explainContainers(e, verdict))
	if s.filter != nil {
		node := s.filter.Explain(e)
		if verdict.Code != Filtered {
			node = undecided(node)
		}
		add(reason.Node{Text: "the filter for users keeps it", Outcome: node.Outcome, Deciding: verdict.Code == Filtered, Children: []reason.Node{node}})
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
