package survey

import (
	"strings"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/problem"
)

// Pattern makes new values for many findings at once, in this order: take the
// value from another attribute, trim, write small, replace the suffix.
type Pattern struct {
	From  string `json:"from,omitempty" doc:"Take the value from this attribute of the entry"`
	Trim  bool   `json:"trim,omitempty" doc:"Take spaces away around the value"`
	Lower bool   `json:"lower,omitempty" doc:"Write it in small letters"`
	// Suffix is replaced by With at the end of the value, without regard to
	// case.
	Suffix string `json:"suffix,omitempty" doc:"Replace this at the end of the value, such as @corp.halvard.example"`
	With   string `json:"with,omitempty" doc:"What takes the suffix's place"`
}

// Check tells what is wrong with a pattern.
func (p Pattern) Check() error {
	if p.Suffix == "" && p.With != "" {
		return problem.New(problem.BadInput, "the pattern says what to put in place of a suffix, but not which suffix")
	}
	return nil
}

// IsZero tells whether the pattern says nothing.
func (p Pattern) IsZero() bool { return p == Pattern{} }

// Apply makes the new value of a finding; false when the pattern has nothing to
// say about it.
func (p Pattern) Apply(value string, e entry.Entry) (string, bool) {
	out := value
	if p.From != "" {
		if out = e.Attributes.First(p.From); out == "" {
			return "", false
		}
	}
	if p.Trim {
		out = strings.TrimSpace(out)
	}
	if p.Lower {
		out = strings.ToLower(out)
	}
	if p.Suffix != "" {
		at := len(out) - len(p.Suffix)
		if at < 0 || !strings.EqualFold(out[at:], p.Suffix) {
			return "", false
		}
		out = out[:at] + p.With
	}
	return out, out != value && out != ""
}
