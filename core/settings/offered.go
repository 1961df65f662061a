package settings

import (
	"fmt"
	"slices"
	"strings"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/formula"
	"kambrel.example/kambrel/core/problem"
)

// Offered is one attribute of resources as the cloud's schemas have it (RFC 7643
// section 7).
type Offered struct {
	Path                            string
	Type                            string // string, boolean, integer, complex and so on
	MultiValued, Required, ReadOnly bool
}

// Against returns the faults of rules that the cloud's schemas do not take: an
// attribute that is unknown or cannot be written, a value of the wrong type, a
// required attribute without a rule. A kind of which nothing is known is left out.
func (d *Document) Against(offered map[entry.Kind][]Offered) []problem.Fault {
	v := &validation{}
	for _, kind := range entry.Kinds {
		attributes, rules := offered[kind], d.Of(kind).Rules
		if len(attributes) == 0 || len(rules) == 0 {
			continue
		}
		for i, rule := range rules {
			v.against(fmt.Sprintf("%ss.rules[%d]", kind, i), kind, rule, attributes)
		}
		for _, a := range attributes {
			if path, err := entry.ParsePath(a.Path); err == nil && a.Required && !a.ReadOnly &&
				!slices.Contains(needed[kind], a.Path) && !slices.ContainsFunc(rules, func(r Rule) bool { return sets(r.Target, path) }) {
				v.add(string(kind)+"s.rules", "the cloud requires %s of every %s, and no rule sets it", a.Path, kind)
			}
		}
	}
	return v.faults
}

// sets tells whether a target is an attribute or a part of it.
func sets(target string, attribute entry.Path) bool {
	path, err := entry.ParsePath(target)
	return err == nil && strings.EqualFold(path.Schema, attribute.Schema) && strings.EqualFold(path.Attribute, attribute.Attribute) &&
		(attribute.Sub == "" || strings.EqualFold(path.Sub, attribute.Sub))
}

func (v *validation) against(place string, kind entry.Kind, rule Rule, attributes []Offered) {
	target, err := entry.ParsePath(rule.Target)
	if err != nil {
		return // told already
	}
	at := slices.IndexFunc(attributes, func(a Offered) bool {
		path, err := entry.ParsePath(a.Path)
		return err == nil && strings.EqualFold(path.Key(), target.Key()) && (path.SelectorAttribute == "") == (target.SelectorAttribute == "")
	})
	if at < 0 {
		message := fmt.Sprintf("the cloud's %ss have no %s", kind, rule.Target)
		if near := nearest(target, attributes); near != "" {
			message += "; it has " + near
		}
		v.add(place+".target", "%s", message)
		return
	}
	attribute := attributes[at]
	if attribute.ReadOnly {
		v.add(place+".target", "%s can only be read in the cloud", rule.Target)
		return
	}
	if attribute.Type == "complex" && rule.Reference == "" && len(rule.Granted) == 0 {
		v.add(place+".target", `%s has parts: name one, as in emails[type eq "work"].value`, rule.Target)
		return
	}
	if len(rule.Granted) > 0 && !attribute.MultiValued {
		v.add(place+".target", "%s holds one value in the cloud; memberships grant values of attributes that hold several", rule.Target)
	}
	if rule.From != "" {
		v.fits(place+".from", "the text of "+rule.From, formula.Text, attribute)
	}
	if rule.Always != nil {
		kind := formula.Text
		switch rule.Always.(type) {
		case bool:
			kind = formula.Truth
		case int, int64, uint64, float64:
			kind = formula.Number
		}
		v.fits(place+".always", fmt.Sprint(rule.Always), kind, attribute)
	}
	for _, part := range []struct{ name, text string }{{"formula", rule.Formula}, {"fallback", rule.Fallback}} {
		if compiled, err := formula.Compile(part.text); part.text != "" && err == nil && len(rule.Granted) == 0 {
			v.fits(place+"."+part.name, "what it gives", compiled.Gives(), attribute)
		}
	}
}

// fits tells whether a value of a kind can be that of an attribute.
func (v *validation) fits(place, what string, have formula.Kind, attribute Offered) {
	want := formula.Text
	switch attribute.Type {
	case "boolean":
		want = formula.Truth
	case "integer":
		want = formula.Number
	case "decimal":
		return
	}
	switch {
	case have == formula.Any || have == want:
	case have == formula.List && attribute.MultiValued && want == formula.Text:
	case have == formula.List:
		v.add(place, "%s is a list, and %s takes one %s", what, attribute.Path, want)
	default:
		v.add(place, "%s is a %s, and %s takes a %s", what, have, attribute.Path, want)
	}
}

// nearest is the offered attribute that a misspelt or incomplete target may mean.
func nearest(target entry.Path, attributes []Offered) string {
	var same string
	for _, a := range attributes {
		path, err := entry.ParsePath(a.Path)
		switch {
		case err != nil:
		case strings.EqualFold(path.Attribute, target.Attribute):
			return a.Path
		case same == "" && len(target.Attribute) > 2 && strings.HasPrefix(strings.ToLower(path.Attribute), strings.ToLower(target.Attribute[:3])):
			same = a.Path
		}
	}
	return same
}
