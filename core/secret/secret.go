// Package secret is a text that shows itself to nobody: not when it is printed,
// logged, or written as JSON. Only Reveal gives it out, so that every place that
// needs the text itself can be found by that name.
package secret

// Text is a password, a token or a key. As a value of YAML it is written as it is,
// since a configuration file is where it is kept; nothing else may hold it.
type Text string

// redacted stands in its place.
const redacted = "(secret)"

// Reveal is the text itself.
func (t Text) Reveal() string { return string(t) }

// String hides the text.
func (t Text) String() string {
	if t == "" {
		return ""
	}
	return redacted
}

// GoString hides the text from %#v.
func (t Text) GoString() string { return t.String() }

// MarshalJSON hides the text.
func (t Text) MarshalJSON() ([]byte, error) { return []byte(`"` + t.String() + `"`), nil }
