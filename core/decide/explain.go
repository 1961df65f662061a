package decide

import (
	"fmt"
	"strings"
	"time"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/plan"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/reason"
)

// Explain tells step by step how the outcome came about. linked says what the
// link is and since when, "" where there is none.
func (o *Outcome) Explain(settings *Settings, linked string) []reason.Node {
	scope := o.pinned.verdict(settings.Scope.Explain(o.Case.Entry))
	steps := []reason.Node{{Text: "Scope: does it take part?", Outcome: reason.Of(scope.In), Value: scope.Summary, Deciding: !scope.In, Children: scope.Reasons}}
	if scope.In && settings.HasPersons() && o.Case.Entry.Kind == entry.User {
		steps = append(steps, o.explainPerson(settings))
	}
	if o.Kin.Follows != nil && scope.In {
		return steps
	}
	steps = append(steps, o.explainMatch(linked))
	if scope.In {
		steps = append(steps, o.explainRules(settings))
	}
	step := PlanStep(o.Decision.Explain())
	step.Children = append(append(step.Children, o.explainKept()...), o.explainPins()...)
	return append(steps, step)
}

// explainPerson tells which entries of other directories are the same person.
func (o *Outcome) explainPerson(settings *Settings) reason.Node {
	node := reason.Node{Text: "Person: does the person have other entries?", Outcome: reason.Note, Value: "none: it stands for itself"}
	switch f := o.Kin.Follows; {
	case f != nil && f.Problem != nil:
		node.Outcome, node.Value, node.Deciding = reason.Bad, f.Problem.Detail, true
	case f != nil:
		node.Outcome, node.Deciding = reason.Yes, true
		node.Value = fmt.Sprintf("one person with %s of %s, by %s; that entry bears the link, and this one lends its values", f.LeadDN, f.Lead.Directory, f.Rule)
	case len(o.Kin.Followers) > 0:
		node.Outcome, node.Value = reason.Yes, "this entry leads, and the values of these count too"
		for _, f := range o.Kin.Followers {
			node.Children = append(node.Children, reason.Node{Text: f.Entry.DN, Outcome: reason.Yes, Value: "by " + f.Rule, Source: "directory " + f.Entry.Directory})
		}
	}
	for _, key := range settings.Of(entry.User).Person.Keys(o.Case.Entry) {
		name, value, _ := strings.Cut(key, "=")
		node.Children = append(node.Children, reason.Node{Text: "compares " + name, Outcome: reason.Note, Value: value})
	}
	return node
}

func (o *Outcome) explainMatch(linked string) reason.Node {
	node := reason.Node{Text: "Match: which resource is it?", Outcome: reason.Note}
	switch {
	case o.Case.Link != nil:
		node.Outcome, node.Value = reason.Yes, linked
		node.Children = []reason.Node{{Text: "the lasting link, by link key", Outcome: reason.Yes, Value: o.LinkKey, Deciding: true}}
	case !o.Verdict.In:
		node.Value = "not asked, since it is out of scope and has no resource"
	case !o.Written:
		node.Value = "not asked, since entries of this kind are not written to the cloud"
	case o.Match.Problem != nil:
		node.Outcome, node.Value, node.Children = reason.Bad, o.Match.Problem.Detail, o.Match.Reasons
	case o.Match.Resource != nil:
		node.Outcome, node.Children = reason.Yes, o.Match.Reasons
		node.Value = fmt.Sprintf("%s (%s), by %s", o.Match.Resource.Login(), o.Match.Resource.ID(), o.Match.Rule)
	default:
		node.Value, node.Children = "none fits: a new one is made", o.Match.Reasons
	}
	return node
}

func (o *Outcome) explainRules(settings *Settings) reason.Node {
	node := reason.Node{
		Text: "Rules: what should the resource be?", Outcome: reason.Yes,
		Children: settings.Of(o.Case.Entry.Kind).Rules.Explain(settings.PersonOf(o.Case.Entry, o.Kin.Followers)),
	}
	if o.Desired.Problem != nil {
		node.Outcome, node.Value, node.Deciding = reason.Bad, o.Desired.Problem.Detail, true
	}
	return node
}

// PlanStep is the last step of an explanation, by what decided it.
func PlanStep(node reason.Node) reason.Node {
	children := append([]reason.Node{}, node.Children...)
	if node.Value != "" {
		children = append([]reason.Node{{Text: node.Value, Outcome: node.Outcome, Deciding: true}}, children...)
	}
	return reason.Node{Text: "Plan: what is to be done?", Outcome: node.Outcome, Value: node.Text, Children: children}
}

// Summary tells in one line what a run would do.
func (o *Outcome) Summary() string {
	scope := o.Verdict.Summary
	switch d := o.Decision; {
	case d.Problem != nil:
		return scope + "; " + problem.Describe(d.Problem.Code).Title + ": " + d.Problem.Detail
	case d.Operation != "":
		return scope + "; " + d.Will()
	case d.Code == plan.Follows:
		return scope + "; one person with " + o.Kin.Follows.LeadDN
	case d.Code == plan.InStep:
		return scope + "; its resource is in step"
	case d.Code == plan.NotSent && o.Verdict.In:
		return scope + "; entries of this kind are not written to the cloud"
	case d.Code == plan.Returns:
		return scope + "; it was made again under the same name, and the new entry takes the resource over"
	case d.Code == plan.Kept:
		return scope + "; its removal was discarded by " + o.kept[0].By + ": " + o.kept[0].Reason
	case d.Code == plan.Left && d.Due != nil:
		return scope + "; its resource is deleted on " + d.Due.UTC().Format(time.DateOnly)
	case d.Code == plan.Left && o.Case.Entry.Kind != entry.User:
		return scope + "; its resource is left as it is"
	case d.Code == plan.Left:
		return scope + "; its resource is suspended"
	}
	return scope
}
