package setup

import (
	"context"
	"errors"
	"fmt"
	"math"
	"strings"
	"sync"

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

// PreviewScope counts who would take part by a document, from the mirror, with samples of
// each verdict whose name holds a text. A later one of the same page ends it, as what is
// counted has been edited since.
func (e *Setup) PreviewScope(ctx context.Context, by string, document settings.Document, in wire.ScopePreview) (wire.ScopeCounts, error) {
	if in.Page != "" {
		var done func()
		ctx, done = e.previews.begin(ctx, by+"\n"+in.Page)
		defer done()
	}
	counts, err := e.previewScope(ctx, document, in)
	if errors.Is(context.Cause(ctx), errEdited) {
		err = problem.New(problem.Cancelled, "")
	}
	return counts, err
}

// previews are what is counted, by page.
type previews struct {
	mu     sync.Mutex
	latest map[string]*context.CancelCauseFunc
}

var errEdited = errors.New("something else is counted")

// begin ends what is counted for a page, and returns the context of what follows.
func (p *previews) begin(ctx context.Context, page string) (context.Context, func()) {
	ctx, cancel := context.WithCancelCause(ctx)
	p.mu.Lock()
	defer p.mu.Unlock()
	if before := p.latest[page]; before != nil {
		(*before)(errEdited)
	}
	if p.latest == nil {
		p.latest = map[string]*context.CancelCauseFunc{}
	}
	p.latest[page] = &cancel
	return ctx, func() {
		cancel(nil)
		p.mu.Lock()
		defer p.mu.Unlock()
		if p.latest[page] == &cancel {
			delete(p.latest, page)
		}
	}
}

func (e *Setup) previewScope(ctx context.Context, document settings.Document, in wire.ScopePreview) (wire.ScopeCounts, error) {
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
	tally := newScopeTally(in)
	there, err := e.store.Entries.CountKinds(ctx, directories)
	if err != nil {
		return out, err
	}
	look := func(batch []*entry.Entry) error {
		if err := FillFor(ctx, e.store, c, batch); err != nil {
			return err
		}
		for _, one := range batch {
			tally.add(one, c.Decide(*one))
		}
		return nil
	}
	estimated := map[entry.Kind]bool{}
	for _, kind := range entry.Kinds {
		if n := there[kind]; in.LookAt > 0 && n > manyTimes*in.LookAt {
			err = e.store.Entries.Some(ctx, directories, kind, float64(in.LookAt)/float64(n), previewBatch, look)
			estimated[kind] = tally.of(kind).Total > 0
		}
		if err == nil && !estimated[kind] {
			err = e.store.Entries.Each(ctx, directories, []entry.Kind{kind}, previewBatch, look)
		}
		if err != nil {
			return out, fmt.Errorf("count who takes part: %w", err)
		}
	}
	for _, kind := range entry.Kinds {
		of := tally.of(kind)
		of.Off = document.Selection(kind).Off
		if estimated[kind] {
			estimate(&of, there[kind])
		}
		out.Kinds = append(out.Kinds, of)
	}
	return out, nil
}

// manyTimes is from how many times as many on some are looked at in the place of all.
const manyTimes = 4

// estimate scales counts of some to all.
func estimate(of *wire.KindScope, all int) {
	of.LookedAt = of.Total
	scaled := func(n int) int { return int(math.Round(float64(n) * float64(all) / float64(of.LookedAt))) }
	for i := range of.Verdicts {
		of.Verdicts[i].Count = scaled(of.Verdicts[i].Count)
	}
	of.In, of.Total = scaled(of.In), all
}

// scopeTally counts verdicts by kind.
type scopeTally struct {
	samples int
	text    string
	counts  map[entry.Kind]map[scope.Code]*wire.VerdictCount
}

func newScopeTally(in wire.ScopePreview) *scopeTally {
	t := &scopeTally{in.Samples, strings.ToLower(in.Text), map[entry.Kind]map[scope.Code]*wire.VerdictCount{}}
	for _, kind := range entry.Kinds {
		t.counts[kind] = map[scope.Code]*wire.VerdictCount{}
		for _, code := range verdictOrder {
			t.counts[kind][code] = &wire.VerdictCount{Code: string(code), Title: verdictTitles[code], Samples: []wire.Sample{}}
		}
	}
	return t
}

func (t *scopeTally) add(one *entry.Entry, verdict scope.Verdict) {
	count := t.counts[one.Kind][verdict.Code]
	if count == nil {
		return
	}
	count.Count++
	if name := one.Name(); len(count.Samples) < t.samples && (t.text == "" || strings.Contains(strings.ToLower(name+"\n"+one.DN), t.text)) {
		count.Samples = append(count.Samples, wire.Sample{Directory: one.Directory, EntryID: one.ID.String(), Name: name, DN: one.DN, Summary: verdict.Summary})
	}
}

func (t *scopeTally) of(kind entry.Kind) wire.KindScope {
	of := wire.KindScope{Kind: string(kind), Verdicts: []wire.VerdictCount{}, In: t.counts[kind][scope.Included].Count}
	for _, code := range verdictOrder {
		if count := t.counts[kind][code]; count.Count > 0 {
			of.Total += count.Count
			of.Verdicts = append(of.Verdicts, *count)
		}
	}
	return of
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
