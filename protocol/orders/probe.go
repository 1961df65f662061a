package orders

import "kambrel.example/kambrel/core/entry"

// Probe asks to try the connection step by step, and the rights that features need.
// The answer is of Verdict lines.
type Probe struct {
	Features   []entry.Feature `json:"features,omitempty"`
	Containers []string        `json:"containers,omitempty"`
	// Needs are the attributes that the settings read, and Expected those that entries are
	// known to have.
	Needs    []string `json:"needs,omitempty"`
	Expected []string `json:"expected,omitempty"`
	// Repairable are the attributes that repairs write, by kind.
	Repairable map[entry.Kind][]string `json:"repairable,omitempty"`
	// Groups is where groups of the cloud are kept; of its changes there are none.
	Groups *Groups `json:"groups,omitempty"`
}

// ConnectingSteps are those of a probe that an agent's own configuration decides.
var ConnectingSteps = []string{"configuration", "name", "connect", "tls", "bind"}

// Verdict is the result of one step of a probe.
type Verdict struct {
	Step    string `json:"step" doc:"configuration, name, connect, tls, bind, base, server, read, attributes, changes, deleted-objects, clock or right"`
	Subject string `json:"subject,omitempty" doc:"The kind or feature that was tried"`
	Outcome string `json:"outcome" enum:"good,doubtful,bad,skipped"`
	Detail  string `json:"detail" doc:"What was found"`
	Advice  string `json:"advice,omitempty" doc:"What to do about it"`
}

// FirstBad is the first that is bad.
func FirstBad(verdicts []Verdict) (Verdict, bool) {
	for _, v := range verdicts {
		if v.Outcome == "bad" {
			return v, true
		}
	}
	return Verdict{}, false
}

// Name is the step with its subject.
func (v Verdict) Name() string {
	if v.Subject == "" {
		return v.Step
	}
	return v.Step + " (" + v.Subject + ")"
}
