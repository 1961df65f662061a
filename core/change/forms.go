package change

import (
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/rules"
)

// Form is a value that the cloud writes its own way: what it was sent, and what it keeps
// of that.
type Form struct {
	Sent any `json:"sent"`
	Kept any `json:"kept"`
	// Untyped: it is kept in an element without the type that it was sent with.
	Untyped bool `json:"untyped,omitempty"`
}

// Forms are those of one resource, by target.
type Forms map[string]Form

// FormOf is the form that a resource gives a value which a diff has sent; false when it
// has it as it was sent.
func FormOf(resource entry.Resource, d Diff) (Form, bool) {
	path, err := entry.ParsePath(d.Target)
	if err != nil || path.Attribute == rules.Members || d.Elements() || Same(path.Get(resource), d.After) {
		return Form{}, false
	}
	return Form{Sent: d.After, Kept: path.Get(resource), Untyped: path.Untyped(resource, d.After)}, true
}

// Stale is a value that was sent before another, and that lies in an element without the
// type it was sent with, where the new one does not replace it; "" for none.
func (f Forms) Stale(path entry.Path, resource entry.Resource, value any) string {
	form, known := f[path.String()]
	if sent, _ := form.Sent.(string); known && !Same(form.Sent, value) && path.Untyped(resource, sent) {
		return sent
	}
	return ""
}

// Means tells whether what a resource has at a path is what a value becomes there: the
// value itself, the form that the cloud is known to give it, or an element without the
// type that it was sent with.
func (f Forms) Means(path entry.Path, resource entry.Resource, value any) bool {
	have := path.Get(resource)
	if Same(have, value) || Same(have, nil) && path.Untyped(resource, value) {
		return true
	}
	form, known := f[path.String()]
	return known && !form.Untyped && Same(form.Sent, value) && Same(form.Kept, have)
}
