package expect

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"kambrel.example/kambrel/core/decide"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/plan"
	"kambrel.example/kambrel/core/rules"
	"kambrel.example/kambrel/core/settings"
)

// Result is what came of one expectation.
type Result struct {
	Expectation settings.Expectation `json:"expectation"`
	Holds       bool                 `json:"holds"`
	Entry       string               `json:"entry,omitempty"` // the distinguished name of whom it was about
	// Unmet is what does not hold, each with what came instead.
	Unmet []Unmet `json:"unmet,omitempty"`
	Why   string  `json:"why,omitempty"` // the decision and what made it
}

// Unmet is one thing that does not hold.
type Unmet struct {
	What     string `json:"what"`
	Expected string `json:"expected"`
	Got      string `json:"got"`
	Why      string `json:"why,omitempty"` // where the value came from
}

// Broken says what does not hold, each with what it is about, what was expected and what came.
func (r Result) Broken() []string {
	var told []string
	for _, unmet := range r.Unmet {
		message := fmt.Sprintf("%s: %s: expected %s, got %s", r.Expectation.Called(), unmet.What, unmet.Expected, unmet.Got)
		if r.Expectation.Note != "" {
			message += " (" + r.Expectation.Note + ")"
		}
		told = append(told, message)
	}
	return told
}

// Check decides about a world by settings, and holds expectations against that, in their order.
// What is wrong with an expectation itself is a fault of it.
func Check(ctx context.Context, document settings.Document, world World, list []settings.Expectation) ([]Result, error) {
	outcomes, err := Outcomes(ctx, document, world)
	if err != nil {
		return nil, err
	}
	results := make([]Result, len(list))
	for i, e := range list {
		results[i] = check(e, outcomes)
	}
	return results, nil
}

func check(e settings.Expectation, outcomes []*decide.Outcome) Result {
	found := find(e.Entry, outcomes)
	switch len(found) {
	case 0:
		return Nobody(e, "none of the entries is called so")
	case 1:
		return Of(e, found[0])
	}
	var names []string
	for _, o := range found {
		names = append(names, o.Case.Entry.DN)
	}
	return Nobody(e, "several are called so: "+strings.Join(names, "; "))
}

// Nobody is the result of an expectation of which it is not known whom it is about.
func Nobody(e settings.Expectation, why string) Result {
	return Result{Expectation: e, Unmet: []Unmet{{What: "entry", Expected: e.Entry, Got: why}}}
}

// Now is what holds of an outcome: whether it takes part, and the values of attributes, all that
// can be expected of it for the targets given.
func Now(o *decide.Outcome, targets []string) settings.Expectation {
	in := o.Verdict.In
	e := settings.Expectation{Entry: o.Case.Entry.ID.String(), Name: o.Case.Entry.Name(), In: &in}
	for _, target := range targets {
		if value, _, ruled := valueOf(o, target); ruled {
			if e.Values == nil {
				e.Values = map[string]any{}
			}
			e.Values[target] = value
		}
	}
	return e
}

// Of holds an expectation against what was decided about its entry.
func Of(e settings.Expectation, o *decide.Outcome) Result {
	r := Result{Expectation: e, Entry: o.Case.Entry.DN, Why: o.Summary()}
	wrong := func(what, expected, got, why string) {
		r.Unmet = append(r.Unmet, Unmet{what, expected, got, why})
	}
	if e.Empty() {
		wrong("expectation", "something of in, because, becomes, resource, problem and values", "nothing", "")
	}
	if e.In != nil && *e.In != o.Verdict.In {
		wrong("takes part", yesNo(*e.In), yesNo(o.Verdict.In), o.Verdict.Summary)
	}
	if e.Because != "" && !strings.Contains(strings.ToLower(o.Verdict.Summary), strings.ToLower(e.Because)) && !strings.EqualFold(string(o.Verdict.Code), e.Because) {
		wrong("because", e.Because, o.Verdict.Summary, "")
	}
	if e.Becomes != "" && !strings.EqualFold(e.Becomes, becomes(o)) {
		why := ""
		if o.Decision.Problem != nil {
			why = o.Decision.Problem.Error()
		}
		wrong("becomes", e.Becomes, becomes(o), why)
	}
	if e.Problem != "" && e.Problem != codeOf(o) {
		got := codeOf(o)
		if got == "" {
			got = "none"
		}
		wrong("problem", e.Problem, got, "")
	}
	if e.Problem == "" && e.Becomes == "" && len(e.Values) > 0 && o.Desired.Problem != nil {
		wrong("values", "no problem", string(o.Desired.Problem.Code), o.Desired.Problem.Error())
	}
	if e.Resource != "" && !isCalled(o, e.Resource) {
		wrong("resource", e.Resource, resourceOf(o), "")
	}
	for _, target := range slices.Sorted(maps.Keys(e.Values)) {
		value, source, ruled := valueOf(o, target)
		switch {
		case !o.Verdict.In && e.In != nil && *e.In: // said above
		case !ruled && o.Verdict.In:
			wrong(target, rules.Show(e.Values[target]), "no rule sets it", "")
		case !ruled:
			wrong(target, rules.Show(e.Values[target]), "nothing: the entry does not take part", o.Verdict.Summary)
		case show(value) != show(e.Values[target]):
			wrong(target, show(e.Values[target]), show(value), source)
		}
	}
	r.Holds = len(r.Unmet) == 0
	return r
}

// show writes a value; those of YAML are of other types than those of rules.
func show(value any) string {
	switch v := value.(type) {
	case nil:
		return "nothing"
	case string:
		return v
	case []string:
		return strings.Join(v, ", ")
	case []any:
		texts := make([]string, len(v))
		for i, one := range v {
			texts[i] = fmt.Sprint(one)
		}
		return strings.Join(texts, ", ")
	}
	return fmt.Sprint(value)
}

func yesNo(yes bool) string {
	if yes {
		return "yes"
	}
	return "no"
}

// becomes is what would be done with an entry, in one word.
func becomes(o *decide.Outcome) string {
	if o.Decision.Problem != nil && o.Operation == "" {
		return string(plan.Blocked)
	}
	if o.Operation != "" {
		return string(o.Operation)
	}
	return string(o.Decision.Code)
}

func codeOf(o *decide.Outcome) string {
	if o.Decision.Problem == nil {
		return ""
	}
	return string(o.Decision.Problem.Code)
}

func valueOf(o *decide.Outcome, target string) (value any, source string, ruled bool) {
	for _, v := range o.Desired.Values {
		if strings.EqualFold(v.Path.String(), target) {
			return v.Value, v.Source, true
		}
	}
	return nil, "", false
}

func resourceOf(o *decide.Outcome) string {
	r := resource(o)
	if r == nil {
		return "none"
	}
	if r.Login() != "" {
		return r.Login()
	}
	return r.ID()
}

func resource(o *decide.Outcome) entry.Resource {
	if o.Case.Resource != nil {
		return o.Case.Resource
	}
	return o.Match.Resource
}

func isCalled(o *decide.Outcome, text string) bool {
	r := resource(o)
	if r == nil {
		return false
	}
	name, _ := r["displayName"].(string)
	return strings.EqualFold(r.Login(), text) || r.ID() == text || strings.EqualFold(name, text)
}

// find finds entries by what people call them: first by what is unique.
func find(text string, outcomes []*decide.Outcome) []*decide.Outcome {
	text = strings.TrimSpace(text)
	for _, called := range []func(entry.Entry) bool{
		func(e entry.Entry) bool { return entry.SameDN(e.DN, text) },
		func(e entry.Entry) bool { return strings.EqualFold(e.ID.String(), text) },
		func(e entry.Entry) bool { return has(e, text, "userPrincipalName", "sAMAccountName", "uid") },
		func(e entry.Entry) bool { return has(e, text, "mail") },
		func(e entry.Entry) bool { return has(e, text, "displayName", "cn") || named(e, text) },
	} {
		var found []*decide.Outcome
		for _, o := range outcomes {
			if called(o.Case.Entry) {
				found = append(found, o)
			}
		}
		if len(found) > 0 {
			return found
		}
	}
	return nil
}

// named tells whether a text is the value of the first part of an entry's name.
func named(e entry.Entry, text string) bool {
	dn, err := entry.ParseDN(e.DN)
	return err == nil && strings.EqualFold(dn.Name(), text)
}

func has(e entry.Entry, text string, attributes ...string) bool {
	return slices.ContainsFunc(attributes, func(attribute string) bool {
		return slices.ContainsFunc(e.Attributes.All(attribute), func(value string) bool { return strings.EqualFold(value, text) })
	})
}

// Difference is what two settings do otherwise with one entry.
type Difference struct {
	Entry  string  `json:"entry"`
	Before string  `json:"before"` // the decision and what made it
	After  string  `json:"after"`
	Values []Unmet `json:"values,omitempty"` // what was there, and what comes
}

// Compare tells for whom two settings differ, and in what.
func Compare(ctx context.Context, before, after settings.Document, world World) ([]Difference, error) {
	one, err := Outcomes(ctx, before, world)
	if err != nil {
		return nil, fmt.Errorf("by the first settings: %w", err)
	}
	other, err := Outcomes(ctx, after, world)
	if err != nil {
		return nil, fmt.Errorf("by the second settings: %w", err)
	}
	var out []Difference
	for i, a := range one {
		b := other[i]
		d := Difference{Entry: a.Case.Entry.DN, Before: a.Summary(), After: b.Summary()}
		if a.Verdict.In && b.Verdict.In {
			targets := map[string]bool{}
			for _, o := range []*decide.Outcome{a, b} {
				for _, v := range o.Desired.Values {
					targets[v.Path.String()] = true
				}
			}
			for _, target := range slices.Sorted(maps.Keys(targets)) {
				was, _, _ := valueOf(a, target)
				is, source, _ := valueOf(b, target)
				if show(was) != show(is) {
					d.Values = append(d.Values, Unmet{target, show(was), show(is), source})
				}
			}
		}
		if becomes(a) != becomes(b) || codeOf(a) != codeOf(b) || a.Verdict.In != b.Verdict.In || len(d.Values) > 0 {
			out = append(out, d)
		}
	}
	return out, nil
}
