package setup

import (
	"context"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"time"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/filter"
	"kambrel.example/kambrel/core/logkey"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/protocol/wire"
	"kambrel.example/kambrel/service/judging"
)

// Check lists what is wrong or doubtful with a settings file, also against what the cloud
// takes and what was read from the directories. Nothing is kept. parse reads the file.
func (e *Setup) Check(ctx context.Context, text string, parse func(string) (settings.Document, error)) (wire.Checked, error) {
	checked := wire.Checked{Faults: []problem.Fault{}, Warnings: []string{}}
	_, checked.Notes = settings.Modern([]byte(text))
	document, err := parse(text)
	if faults := problem.FaultsOf(err); len(faults) > 0 {
		checked.Faults = append(checked.Faults, faults...)
		return checked, nil
	}
	if err != nil {
		return checked, err
	}
	checked.Faults = append(checked.Faults, e.faults(ctx, document)...)
	checked.Warnings, err = e.warnings(ctx, document)
	return checked, err
}

// How long the cloud may take to tell its schemas before settings are checked by what it
// told last, and how long it is then left alone.
const (
	askCloudWithin = 2 * time.Second
	cloudRests     = 30 * time.Second
	// offeredEvery is how often what the cloud takes is kept.
	offeredEvery = 10 * time.Minute
)

// faults are those of a document, also against what the cloud's schemas take, as the
// cloud tells now or has told last.
func (e *Setup) faults(ctx context.Context, document settings.Document) []problem.Fault {
	faults := settings.Faults(document)
	offered, err := e.offered(ctx)
	if err != nil {
		slog.Warn("check settings by what the cloud takes", logkey.Error, err)
		return faults
	}
	return append(faults, document.Against(offered)...)
}

// offered is what the cloud takes.
func (e *Setup) offered(ctx context.Context) (map[entry.Kind][]settings.Offered, error) {
	if time.Since(time.Unix(0, e.cloudAway.Load())) < cloudRests {
		return e.store.Resources.Offered(ctx, e.cloud.URL())
	}
	asking, cancel := context.WithTimeout(ctx, askCloudWithin)
	defer cancel()
	catalogue, err := e.cloud.Catalogue(asking)
	if err != nil {
		e.cloudAway.Store(time.Now().UnixNano())
		return e.store.Resources.Offered(ctx, e.cloud.URL())
	}
	offered := map[entry.Kind][]settings.Offered{}
	for _, kind := range entry.Kinds {
		for _, t := range catalogue.Of(kind) {
			offered[kind] = append(offered[kind], settings.Offered{Path: t.Path, Type: t.Type, MultiValued: t.MultiValued, Required: t.Required, ReadOnly: t.ReadOnly})
		}
	}
	if saved := time.Unix(0, e.offeredSaved.Load()); len(offered) == 0 || time.Since(saved) < offeredEvery {
		return offered, nil
	}
	e.offeredSaved.Store(time.Now().UnixNano())
	return offered, e.store.Resources.SaveOffered(ctx, e.cloud.URL(), offered)
}

// warnings are what a document asks of the directories that nobody has there.
func (e *Setup) warnings(ctx context.Context, document settings.Document) ([]string, error) {
	warnings := []string{}
	for _, kind := range entry.Kinds {
		of := document.Of(kind)
		parsed, err := filter.Parse(of.Filter)
		if of.Filter == "" || err != nil { // told as a fault
			continue
		}
		names := parsed.Attributes()
		slices.Sort(names)
		for _, name := range slices.Compact(names) {
			nobody, err := e.nobodyHas(ctx, document, kind, name)
			if err != nil {
				return nil, err
			}
			if len(nobody) == 0 {
				continue
			}
			then := "so it keeps nobody by that"
			if parsed.Turned(name) {
				then = "so, with '!', it lets everybody in by that"
			}
			warnings = append(warnings, fmt.Sprintf("%ss.filter: no %s of %s has %s, %s", kind, kind, strings.Join(nobody, ", "), name, then))
		}
	}
	return warnings, nil
}

// nobodyHas lists the directories whose entries of a kind all lack an attribute, although
// it was read; none where one of them has it.
func (e *Setup) nobodyHas(ctx context.Context, document settings.Document, kind entry.Kind, name string) ([]string, error) {
	var nobody []string
	for _, d := range document.Directories {
		state, err := e.store.Entries.StateOf(ctx, d.Name)
		if err != nil {
			return nil, err
		}
		if state.Directory == "" || !judging.Covers(state.Attributes, []string{name}) {
			return nil, nil
		}
		has, err := e.store.Entries.AnyHas(ctx, d.Name, kind, name)
		if err != nil || has {
			return nil, err
		}
		nobody = append(nobody, d.Name)
	}
	return nobody, nil
}
