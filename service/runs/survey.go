package runs

import (
	"context"
	"fmt"
	"slices"
	"sync"

	"kambrel.example/kambrel/core/decide"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/core/survey"
)

// surveyBatch is how many entries a survey looks at in one go.
const surveyBatch = 2000

// survey looks at every entry in scope.
func (x *execution) survey(ctx context.Context) error {
	work := survey.New(survey.Options{Domains: x.Offer.Domains, Rules: x.Settings.Of(entry.User).Rules, Person: x.Settings.Of(entry.User).Person})
	var directories []string
	for _, directory := range x.Settings.Document.Directories {
		directories = append(directories, directory.Name)
	}
	err := x.store.Entries.Each(ctx, directories, x.Settings.Scope.Kinds(), surveyBatch, func(batch []*entry.Entry) error {
		if x.Settings.AsksForGroups {
			if err := x.store.Facts.FillGroups(ctx, batch); err != nil {
				return err
			}
		}
		people := make([]entry.Ref, 0, len(batch))
		for _, one := range batch {
			if !x.Settings.Scope.Decide(*one).In {
				continue
			}
			work.Add(*one)
			if one.Kind == entry.User {
				people = append(people, one.Ref())
			}
		}
		if err := x.collisions(ctx, work, people); err != nil {
			return err
		}
		return x.count(ctx, func(c *progress.Counts) { c.Surveyed = work.Looked })
	})
	if err != nil {
		return fmt.Errorf("survey: %w", err)
	}
	findings, domains := work.Finish()
	if err := x.store.Surveys.SaveFindings(ctx, x.run.ID, findings, domains); err != nil {
		return err
	}
	return x.count(ctx, func(c *progress.Counts) { c.Findings = len(findings) })
}

// collisions are where people would meet a resource that they do not take over, as
// the plan itself would find it: by a match rule, by a likeness, or by a value
// that the cloud gives once only.
func (x *execution) collisions(ctx context.Context, work *survey.Survey, people []entry.Ref) error {
	unlinked, err := x.store.Links.Unlinked(ctx, people)
	if err != nil {
		return err
	}
	people = slices.DeleteFunc(people, func(ref entry.Ref) bool { return !unlinked[ref] })
	if len(people) == 0 {
		return nil
	}
	m, pages, err := x.ImagineAmong(ctx, people)
	if err != nil {
		return err
	}
	var mu sync.Mutex // guards work
	return x.PlanImagined(ctx, m, pages, func(_ context.Context, outcomes []*decide.Outcome) error {
		mu.Lock()
		defer mu.Unlock()
		for _, o := range outcomes {
			if o.Case.Link == nil && o.Problem != nil && len(o.Problem.Facts.Resources) > 0 {
				work.Collision(o.Entry, o.Problem.Detail)
			}
		}
		return nil
	})
}
