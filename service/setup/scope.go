package setup

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"kambrel.example/kambrel/core/decide"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/filter"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/scope"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/protocol/wire"
	"kambrel.example/kambrel/service/judging"
)

const previewBatch = 2000

var verdictTitles = map[scope.Code]string{
	scope.Included: "take part", scope.NoMark: "no container above is included", scope.Excluded: "in an excluded container",
	scope.Filtered: "not kept by the filter", scope.NotMember: "no member of the named groups", scope.KindOff: "the kind does not take part", scope.CloudOwned: "owned by groups of the cloud",
}

// verdictOrder is the order in which verdicts are shown.
var verdictOrder = []scope.Code{scope.Included, scope.Filtered, scope.NotMember, scope.Excluded, scope.NoMark, scope.KindOff, scope.CloudOwned}

// PreviewScope counts who would take part by a document, from the mirror, with
// samples of each verdict whose name holds text.
func (e *Setup) PreviewScope(ctx context.Context, document settings.Document, samples int, text string) (wire.ScopeCounts, error) {
	out := wire.ScopeCounts{Kinds: []wire.KindScope{}, Missing: []string{}, Vanished: []wire.Vanished{}}
	c, err := scope.Compile(document)
	if err != nil {
		return out, badInput(err)
	}
	schemas, err := e.store.Entries.Schemas(ctx)
	if err != nil {
		return out, err
	}
	c = c.Knowing(schemas)
	if out.Vanished, err = Vanished(ctx, e.store, &decide.Settings{Document: document, Scope: c}); err != nil {
		return out, err
	}
	var directories []string
	for _, directory := range document.Directories {
		directories = append(directories, directory.Name)
		state, err := e.store.Entries.StateOf(ctx, directory.Name)
		if err != nil {
			return out, err
		}
		for _, name := range decide.Union(c.Attributes()) {
			if !judging.Covers(state.Attributes, []string{name}) {
				out.Missing = append(out.Missing, directory.Name+": "+name)
			}
		}
	}
	counts := map[entry.Kind]map[scope.Code]*wire.VerdictCount{}
	for _, kind := range entry.Kinds {
		counts[kind] = map[scope.Code]*wire.VerdictCount{}
		for _, code := range verdictOrder {
			counts[kind][code] = &wire.VerdictCount{Code: string(code), Title: verdictTitles[code], Samples: []wire.Sample{}}
		}
	}
	text = strings.ToLower(text)
	err = e.store.Entries.Each(ctx, directories, entry.Kinds, previewBatch, func(batch []*entry.Entry) error {
		if err := FillFor(ctx, e.store, c, batch); err != nil {
			return err
		}
		for _, one := range batch {
			verdict := c.Decide(*one)
			count := counts[one.Kind][verdict.Code]
			if count == nil {
				continue
			}
			count.Count++
			if name := one.Name(); len(count.Samples) < samples && (text == "" || strings.Contains(strings.ToLower(name+"\n"+one.DN), text)) {
				count.Samples = append(count.Samples, wire.Sample{Directory: one.Directory, EntryID: one.ID.String(), Name: name, DN: one.DN, Summary: verdict.Summary})
			}
		}
		return nil
	})
	if err != nil {
		return out, fmt.Errorf("count who takes part: %w", err)
	}
	for _, kind := range entry.Kinds {
		of := wire.KindScope{Kind: string(kind), Off: document.Selection(kind).Off, Verdicts: []wire.VerdictCount{}, In: counts[kind][scope.Included].Count}
		for _, code := range verdictOrder {
			if count := counts[kind][code]; count.Count > 0 {
				of.Total += count.Count
				of.Verdicts = append(of.Verdicts, *count)
			}
		}
		out.Kinds = append(out.Kinds, of)
	}
	return out, nil
}

// CheckFilter reads a filter into a tree, or tells what is wrong with it.
func CheckFilter(text string) wire.CheckedFilter {
	parsed, err := filter.Parse(text)
	if err != nil {
		fault := problem.Fault{Message: err.Error()}
		var syntax *filter.SyntaxError
		if errors.As(err, &syntax) {
			fault.Message, fault.Column = syntax.Reason, syntax.Offset+1
		}
		return wire.CheckedFilter{Fault: &fault}
	}
	tree := parsed.Tree()
	return wire.CheckedFilter{Tree: &tree}
}
