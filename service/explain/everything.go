package explain

import (
	"cmp"
	"context"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/protocol/wire"
	"kambrel.example/kambrel/service/store"
	"kambrel.example/kambrel/service/views"
)

// mostCounted is how many objects of a text are gathered: it is asked for while somebody
// types.
const mostCounted = 500

// Of everything a search shows so many of one sort.
const perSort = 8

// numbered is a number, alone or after what it is the number of.
var numbered = regexp.MustCompile(`^(?:(run|problem|revision)\s*)?#?(\d{1,18})$`)

// Everything searches all that has a name or a number: objects of both sides,
// containers, directories and agents, problems and their causes, runs and revisions.
func (e *Explain) Everything(ctx context.Context, text string) (wire.Everything, error) {
	text = strings.TrimSpace(text)
	hits, total, err := e.Find(ctx, store.FindQuery{Text: text, Limit: perSort, Most: mostCounted})
	if err != nil {
		return wire.Everything{}, err
	}
	out := wire.Everything{Objects: views.List(hits, views.Hit), Total: total.N, AtLeast: total.AtLeast, Others: []wire.Found{}}
	if text == "" || strings.HasPrefix(text, "(") { // a filter is about objects only
		return out, nil
	}
	for _, part := range []func(context.Context, string) ([]wire.Found, error){e.byNumber, e.containersCalled, e.placesCalled, e.causesCalled} {
		found, err := part(ctx, strings.ToLower(text))
		if err != nil {
			return out, err
		}
		out.Others = append(out.Others, found...)
	}
	slices.SortStableFunc(out.Others, func(a, b wire.Found) int { // those that are called just so
		if a.Exact == b.Exact {
			return 0
		}
		if a.Exact {
			return -1
		}
		return 1
	})
	return out, nil
}

// byNumber finds the run, the problem and the revision that a number may mean.
func (e *Explain) byNumber(ctx context.Context, text string) ([]wire.Found, error) {
	parts := numbered.FindStringSubmatch(text)
	if parts == nil {
		return nil, nil
	}
	number, err := strconv.ParseInt(parts[2], 10, 64)
	if err != nil {
		return nil, nil
	}
	var found []wire.Found
	for _, look := range []struct {
		sort string
		name func() (name, more string, err error)
	}{
		{"problem", func() (string, string, error) {
			p, err := e.store.Problems.Get(ctx, number)
			state := "open"
			if p.Closed != nil {
				state = "closed"
			}
			return problem.Describe(p.Code).Title, fmt.Sprintf("%s, %s", cmp.Or(p.Name, string(p.About.Type)), state), err
		}},
		{"run", func() (string, string, error) {
			run, err := e.store.Runs.Get(ctx, number)
			return fmt.Sprintf("%s by %s", run.Purpose, run.By), string(run.State), err
		}},
		{"revision", func() (string, string, error) {
			revision, err := e.store.Settings.Revision(ctx, int(number))
			return cmp.Or(revision.Note, "Settings"), "activated by " + revision.By, err
		}},
	} {
		if parts[1] != "" && parts[1] != look.sort {
			continue
		}
		name, more, err := look.name()
		if store.NotFound(err) {
			continue
		}
		if err != nil {
			return nil, fmt.Errorf("look for %s %d: %w", look.sort, number, err)
		}
		found = append(found, wire.Found{Sort: look.sort, Key: parts[2], Name: fmt.Sprintf("%s %d: %s", strings.ToUpper(look.sort[:1])+look.sort[1:], number, name), More: more, Exact: true})
	}
	return found, nil
}

func (e *Explain) containersCalled(ctx context.Context, text string) ([]wire.Found, error) {
	containers, err := e.store.Search.Containers(ctx, text, perSort)
	var found []wire.Found
	for _, c := range containers {
		found = append(found, wire.Found{Sort: "container", Key: c.DN, Directory: c.Directory, Name: c.Name, More: c.DN, Exact: strings.EqualFold(c.Name, text) || strings.EqualFold(c.DN, text)})
	}
	return found, err
}

// placesCalled finds directories and agents.
func (e *Explain) placesCalled(ctx context.Context, text string) ([]wire.Found, error) {
	var found []wire.Found
	document, err := e.setup.Document(ctx, false)
	if err == nil {
		for _, d := range document.Directories {
			if strings.Contains(strings.ToLower(d.Name+"\n"+d.Base), text) {
				found = append(found, wire.Found{Sort: "directory", Key: d.Name, Name: d.Name, More: d.Base, Exact: d.Name == text})
			}
		}
	} else if problem.CodeOf(err) != problem.NoSettings {
		return nil, err
	}
	agents, err := e.store.Agents.List(ctx)
	for _, a := range agents {
		if strings.Contains(strings.ToLower(a.Name), text) || strings.EqualFold(a.ID, text) {
			found = append(found, wire.Found{Sort: "agent", Key: a.ID, Name: a.Name, More: "agent " + a.Version, Exact: strings.EqualFold(a.Name, text)})
		}
	}
	return found, err
}

// causesCalled finds what open problems have in common, by their titles, codes and
// causes.
func (e *Explain) causesCalled(ctx context.Context, text string) ([]wire.Found, error) {
	open, err := e.store.Problems.Groups(ctx, time.Now())
	var found []wire.Found
	for _, c := range open {
		kind := problem.Describe(c.Code)
		if c.Count > 0 && strings.Contains(strings.ToLower(kind.Title+"\n"+string(kind.Code)), text) {
			found = append(found, wire.Found{Sort: "cause", Key: string(c.Code), Name: kind.Title, More: fmt.Sprintf("%d open", c.Count), Exact: strings.EqualFold(kind.Title, text) || string(kind.Code) == text})
		}
	}
	return found, err
}
