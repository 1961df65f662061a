package survey

import (
	"cmp"
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"kambrel.example/kambrel/core/pause"
	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/core/sheet"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/logkey"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/core/survey"
	protocol "kambrel.example/kambrel/protocol/orders"
	"kambrel.example/kambrel/protocol/wire"
	"kambrel.example/kambrel/service/store"
	"kambrel.example/kambrel/service/views"
)

const (
	// repairsAtOnce is how many values go into one order.
	repairsAtOnce = 200
)

// SurveyOf shows a survey; 0 is the newest.
func (e *Surveys) SurveyOf(ctx context.Context, id int64) (wire.Survey, error) {
	run, err := e.surveyRun(ctx, id)
	if err != nil {
		return wire.Survey{}, err
	}
	groups, domains, err := e.store.Surveys.Of(ctx, run.ID)
	return wire.Survey{Run: views.Run(run), Groups: views.List(groups, views.FindingGroup), Domains: domains}, err
}

func (e *Surveys) surveyRun(ctx context.Context, id int64) (store.Run, error) {
	if id == 0 {
		run, ok, err := e.store.Runs.LastOf(ctx, purpose.Survey)
		if err == nil && !ok {
			err = problem.New(problem.NotFound, "nothing was surveyed yet: run 'kambrel survey run'.")
		}
		return run, err
	}
	run, err := e.store.Runs.Get(ctx, id)
	if store.NotFound(err) || err == nil && run.Purpose != purpose.Survey {
		err = problem.New(problem.NotFound, "run %d is no survey.", id)
	}
	return run, err
}

// Findings lists findings of a survey.
func (e *Surveys) Findings(ctx context.Context, q store.FindingQuery) ([]store.Finding, int, error) {
	run, err := e.surveyRun(ctx, q.Run)
	if err != nil {
		return nil, 0, err
	}
	q.Run = run.ID
	return e.store.Surveys.Findings(ctx, q)
}

// csvColumns is the first line of a survey's CSV (RFC 4180). Reading it back,
// columns are found by their name; code, kind, name and detail are for people.
var csvColumns = []string{"number", "code", "kind", "directory", "entry_id", "dn", "name", "attribute", "value", "action", "proposal", "detail"}

// FindingsCSV writes the findings of a survey.
func (e *Surveys) FindingsCSV(ctx context.Context, q store.FindingQuery, to io.Writer) error {
	q.Limit = 0
	findings, _, err := e.Findings(ctx, q)
	if err != nil {
		return err
	}
	w := csv.NewWriter(to)
	_ = w.Write(csvColumns) // errors are told by Error
	for _, f := range findings {
		_ = w.Write(sheet.Cells(strconv.Itoa(f.Number), f.Code, f.Kind, f.Directory, f.EntryID, f.DN, f.Name, f.Attribute, f.Value, f.Action, f.Proposal, f.Detail))
	}
	w.Flush()
	return w.Error()
}

// ChooseRepairs makes repairs of findings, to be looked at and edited before
// they are written.
func (e *Surveys) ChooseRepairs(ctx context.Context, surveyID int64, c wire.ChooseRepairs) (wire.ChosenRepairs, error) {
	out := wire.ChosenRepairs{Items: []wire.RepairItem{}}
	run, err := e.surveyRun(ctx, surveyID)
	if err != nil {
		return out, err
	}
	if c.CSV != "" {
		out.Items, out.Left, err = e.repairsFromCSV(ctx, run.ID, c.CSV)
		return out, err
	}
	if len(c.Numbers) == 0 && c.Code == "" {
		return out, problem.New(problem.BadInput, "say which findings: some numbers, or a kind.")
	}
	if c.Code != "" && !slices.ContainsFunc(survey.Catalogue(), func(k survey.Kind) bool { return string(k.Code) == c.Code }) {
		return out, problem.New(problem.BadInput, "%q is no kind of finding.", c.Code)
	}
	if c.Pattern != nil {
		if err := c.Pattern.Check(); err != nil {
			return out, err
		}
	}
	findings, _, err := e.store.Surveys.Findings(ctx, store.FindingQuery{Run: run.ID, Code: c.Code, Numbers: c.Numbers})
	if err != nil {
		return out, err
	}
	for _, f := range findings {
		item, ok, err := e.repairOf(ctx, f, c.Pattern)
		if err != nil {
			return out, err
		}
		if !ok {
			out.Left++
			continue
		}
		out.Items = append(out.Items, item)
	}
	return out, nil
}

func (e *Surveys) repairOf(ctx context.Context, f store.Finding, pattern *survey.Pattern) (wire.RepairItem, bool, error) {
	item := wire.RepairItem{Number: f.Number, Directory: f.Directory, EntryID: f.EntryID, DN: f.DN, Name: f.Name, Attribute: f.Attribute, Before: f.Value}
	if f.Attribute == "" {
		return item, false, nil
	}
	if pattern == nil || pattern.IsZero() {
		item.After = f.Proposal
		return item, f.Action == string(survey.Set) && f.Proposal != f.Value || f.Action == string(survey.Remove) && f.Value != "", nil
	}
	id, err := entry.NewID(f.EntryID)
	if err != nil {
		return item, false, err
	}
	one, err := e.store.Entries.Get(ctx, f.Directory, id)
	if store.NotFound(err) {
		return item, false, nil
	}
	if err != nil {
		return item, false, err
	}
	var ok bool
	item.After, ok = pattern.Apply(f.Value, one)
	return item, ok, nil
}

// repairsFromCSV reads a survey's CSV back. All lines that are wrong are told
// at once, and then nothing of it is used.
func (e *Surveys) repairsFromCSV(ctx context.Context, run int64, text string) ([]wire.RepairItem, int, error) {
	reader := csv.NewReader(strings.NewReader(strings.TrimPrefix(text, "\ufeff")))
	reader.FieldsPerRecord = -1
	failure := problem.New(problem.BadInput, "the CSV cannot be used; nothing of it was applied.")
	header, err := reader.Read()
	if err != nil {
		return nil, 0, problem.Wrap(problem.BadInput, err, "read the first line of the CSV")
	}
	column := map[string]int{}
	for i, name := range header {
		column[strings.ToLower(strings.TrimSpace(name))] = i
	}
	for _, name := range []string{"directory", "entry_id", "attribute", "value", "action", "proposal"} {
		if _, ok := column[name]; !ok {
			failure.Faults = append(failure.Faults, problem.Fault{Path: "line 1", Message: "there is no column " + name})
		}
	}
	if len(failure.Faults) > 0 {
		return nil, 0, failure
	}
	findings, _, err := e.store.Surveys.Findings(ctx, store.FindingQuery{Run: run})
	if err != nil {
		return nil, 0, err
	}
	known := map[string]store.Finding{}
	for _, f := range findings {
		known[strings.Join([]string{f.Directory, f.EntryID, strings.ToLower(f.Attribute), f.Value}, "\x00")] = f
	}
	items, left := []wire.RepairItem{}, 0
	for {
		record, err := reader.Read()
		if errors.Is(err, io.EOF) {
			break
		}
		line, _ := reader.FieldPos(0)
		place := "line " + strconv.Itoa(line)
		if err != nil {
			var syntax *csv.ParseError
			if errors.As(err, &syntax) {
				place, err = fmt.Sprintf("line %d, column %d", syntax.Line, syntax.Column), syntax.Err
			}
			failure.Faults = append(failure.Faults, problem.Fault{Path: place, Message: err.Error()})
			break
		}
		get := func(name string) string {
			if i := column[name]; i < len(record) {
				return sheet.Value(record[i])
			}
			return ""
		}
		fault := func(format string, facts ...any) {
			failure.Faults = append(failure.Faults, problem.Fault{Path: place, Message: fmt.Sprintf(format, facts...)})
		}
		f, ok := known[strings.Join([]string{get("directory"), strings.ToLower(get("entry_id")), strings.ToLower(get("attribute")), get("value")}, "\x00")]
		item := wire.RepairItem{Number: f.Number, Directory: f.Directory, EntryID: f.EntryID, DN: f.DN, Name: f.Name, Attribute: f.Attribute, Before: f.Value, After: get("proposal")}
		switch action := strings.ToLower(strings.TrimSpace(get("action"))); {
		case action == "none" || action == "" && get("proposal") == "":
			left++
			continue
		case !ok:
			fault("the survey has no finding for %s of entry %s with the value %q", get("attribute"), get("entry_id"), get("value"))
			continue
		case action == "remove":
			item.After = ""
		case action != "set" && action != "":
			fault("the action is %q; write set, remove or none", get("action"))
			continue
		case item.After == "":
			fault("the action is set, but there is no proposal; write remove to take the value away")
			continue
		case f.Attribute == "":
			fault("this finding names no attribute to repair; the action must be none")
			continue
		}
		if item.After == item.Before {
			left++
			continue
		}
		items = append(items, item)
	}
	if len(failure.Faults) > 0 {
		return nil, 0, failure
	}
	return items, left, nil
}

// Repair writes values to directories through their agents. Every item is
// checked before the first is written; the results come one by one.
func (e *Surveys) Repair(ctx context.Context, by string, items []wire.RepairItem, undoes int64) (int64, error) {
	document, err := e.setup.Document(ctx, true)
	if err != nil {
		return 0, err
	}
	failure := problem.New(problem.BadInput, "nothing was written.")
	values, seen := make([]store.RepairItem, len(items)), map[string]bool{}
	for i, item := range items {
		values[i] = store.RepairItem{Directory: item.Directory, EntryID: item.EntryID, DN: item.DN, Attribute: item.Attribute, Before: item.Before, After: item.After}
		place := fmt.Sprintf("items[%d]", i)
		fault := func(format string, facts ...any) {
			if len(failure.Faults) < 100 {
				failure.Faults = append(failure.Faults, problem.Fault{Path: place, Message: fmt.Sprintf(format, facts...)})
			}
		}
		directory, ok := document.Directory(item.Directory)
		key := strings.Join([]string{item.Directory, item.EntryID, strings.ToLower(item.Attribute), item.Before}, "\x00")
		switch {
		case !ok:
			fault("the settings name no directory %q", item.Directory)
			continue
		case !slices.Contains(directory.Features, entry.FeatureRepair):
			fault("the feature repair is not switched on for directory %s; switch it on in the settings, and see that the account has the rights", item.Directory)
			continue
		case item.Before == item.After:
			fault("the new value is the old one")
		case seen[key]:
			fault("the same value of %s is to be repaired twice", item.DN)
		case undoes == 0 && item.After != "": // what was there before comes back as it was
			if wrong := survey.CheckValue(item.Attribute, item.After); wrong != "" {
				fault("%s of %s: %s", item.Attribute, cmp.Or(item.DN, item.EntryID), wrong)
			}
		}
		seen[key] = true
		id, err := entry.NewID(item.EntryID)
		if err != nil {
			fault("%q is no entry id", item.EntryID)
			continue
		}
		if one, err := e.store.Entries.Get(ctx, item.Directory, id); err == nil {
			values[i].DN = one.DN
			if names := survey.Repairable(directory.Dialect, one.Kind); !slices.ContainsFunc(names, func(name string) bool { return strings.EqualFold(name, item.Attribute) }) {
				fault("%q is not among the attributes that are repaired on entries of the kind %s: %s", item.Attribute, one.Kind, strings.Join(names, ", "))
			}
		} else if store.NotFound(err) {
			fault("the mirror of %s has no entry %s", item.Directory, item.EntryID)
		} else {
			return 0, err
		}
	}
	if len(failure.Faults) > 0 {
		return 0, failure
	}
	pauses, err := e.store.Pauses.Now(ctx)
	if err != nil {
		return 0, err
	}
	for _, value := range values {
		if p, stopped := pauses.ToDirectory(value.Directory); stopped {
			return 0, p.Problem()
		}
	}
	id, err := e.store.Repairs.Add(ctx, by, undoes, values)
	if err != nil {
		return 0, err
	}
	e.startRepair(id, document)
	return id, nil
}

// startRepair carries the values of a repair out in the background, each directory
// for itself, unless another service is at it.
func (e *Surveys) startRepair(id int64, document settings.Document) {
	e.group.Go(func() {
		_, err := e.store.Own(e.context, store.Repairing, id, func(ctx context.Context) error {
			// Another may have carried it out since it was listed.
			waiting, err := e.store.Repairs.Waiting(ctx)
			if err != nil {
				return err
			}
			byDirectory, err := changesByDirectory(waiting[id])
			if err != nil {
				return err
			}
			var group sync.WaitGroup
			for name, changes := range byDirectory {
				directory, ok := document.Directory(name)
				if !ok {
					directory.Name = name // no agent serves it any more, and that is told
				}
				group.Go(func() { e.carryOut(ctx, directory, id, changes) })
			}
			group.Wait()
			return nil
		})
		if err != nil && e.context.Err() == nil {
			slog.Error("the repair stopped and will be taken up again", logkey.Repair, id, logkey.Error, err)
		}
	})
}

func changesByDirectory(items []store.RepairItem) (map[string][]protocol.ValueChange, error) {
	out := map[string][]protocol.ValueChange{}
	for _, item := range items {
		id, err := entry.NewID(item.EntryID)
		if err != nil {
			return nil, err
		}
		out[item.Directory] = append(out[item.Directory], protocol.ValueChange{Number: item.Number, EntryID: id, DN: item.DN, Attribute: item.Attribute, Before: item.Before, After: item.After})
	}
	return out, nil
}

// resumeEvery is how often a service looks for repairs that another has left.
const resumeEvery = 15 * time.Second

// resume takes up repairs that a service has left behind, as they are found.
func (e *Surveys) resume(ctx context.Context) {
	ticker := time.NewTicker(resumeEvery)
	defer ticker.Stop()
	for ctx.Err() == nil {
		if err := e.resumeRepairs(ctx); err != nil && ctx.Err() == nil {
			slog.Error("look for repairs that were left", logkey.Error, err)
		}
		select {
		case <-ctx.Done():
		case <-ticker.C:
		}
	}
}

// resumeRepairs takes up each repair of which values wait and that nobody is at.
// What was written already is written once more, which changes nothing.
func (e *Surveys) resumeRepairs(ctx context.Context) error {
	waiting, err := e.store.Repairs.Waiting(ctx)
	if err != nil || len(waiting) == 0 {
		return err
	}
	document, err := e.setup.Document(ctx, true)
	if err != nil {
		return err
	}
	for id := range waiting {
		e.startRepair(id, document)
	}
	return nil
}

// carryOut sends the values of a repair to an agent, some at a time.
func (e *Surveys) carryOut(ctx context.Context, directory settings.Directory, repair int64, changes []protocol.ValueChange) {
	for part := range slices.Chunk(changes, repairsAtOnce) {
		err := e.store.Pauses.Allow(ctx, pause.ToDirectory(directory.Name))
		if err == nil {
			_, err = e.orders.Ask(ctx, protocol.Order{Directory: directory.Name, Dialect: directory.Dialect, Base: directory.Base, Repair: &protocol.Repair{Number: repair, Values: part}})
		}
		if err == nil {
			continue
		}
		if ctx.Err() != nil {
			return // the order is kept; an agent carries it out
		}
		numbers := make([]int, len(part))
		for i, change := range part {
			numbers[i] = change.Number
		}
		code := problem.CodeOf(err)
		if code == "" {
			code = problem.DirectoryRefused
		}
		if err := e.store.Repairs.Fail(ctx, repair, numbers, string(code), err.Error()); err != nil {
			slog.Error("keep the end of a repair", logkey.Repair, repair, logkey.Error, err)
		}
	}
}

// UndoRepair writes back what the done items of a repair have replaced.
func (e *Surveys) UndoRepair(ctx context.Context, by string, id int64) (int64, error) {
	repair, err := e.RepairOf(ctx, id)
	if err != nil {
		return 0, err
	}
	if repair.State == "running" {
		return 0, problem.New(problem.BadInput, "repair %d still goes on.", id)
	}
	var items []wire.RepairItem
	for _, item := range repair.Items {
		if item.State == "done" {
			item.Before, item.After = item.After, item.Before
			items = append(items, item)
		}
	}
	if len(items) == 0 {
		return 0, problem.New(problem.BadInput, "repair %d has written nothing that could be undone.", id)
	}
	return e.Repair(ctx, by, items, id)
}

// RepairOf returns a repair with its items.
func (e *Surveys) RepairOf(ctx context.Context, id int64) (wire.Repair, error) {
	repair, err := e.store.Repairs.Get(ctx, id)
	if store.NotFound(err) {
		err = problem.New(problem.NotFound, "there is no repair %d.", id)
	}
	return views.Repair(repair), err
}
