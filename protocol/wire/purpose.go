package wire

// Purpose is what a run is for.
type Purpose string

// The purposes.
const (
	PurposeSync      Purpose = "sync"      // bring in step what changed
	PurposeFull      Purpose = "full"      // read and compare everything
	PurposeRelease   Purpose = "release"   // let the held removals of a run through
	PurposeSingle    Purpose = "single"    // bring one entry in step
	PurposeRehearsal Purpose = "rehearsal" // what a sync would do
	PurposeForecast  Purpose = "forecast"  // what would become of everybody
	PurposeImpact    Purpose = "impact"    // the same by the draft
	PurposeTrial     Purpose = "trial"     // what would become of one entry
	PurposeLook      Purpose = "look"      // read, and no more
	PurposeSurvey    Purpose = "survey"    // look for what the cloud would refuse
)

// Writes tells whether a run of the purpose is there to change the cloud.
func (p Purpose) Writes() bool {
	switch p {
	case PurposeSync, PurposeFull, PurposeRelease, PurposeSingle:
		return true
	}
	return false
}

// Plans tells whether it decides about entries.
func (p Purpose) Plans() bool { return p != PurposeLook && p != PurposeSurvey }

// Rehearses tells whether it decides and writes nothing.
func (p Purpose) Rehearses() bool { return p.Plans() && !p.Writes() }

// Everybody tells whether it decides about everybody, whatever has changed.
func (p Purpose) Everybody() bool {
	return p == PurposeFull || p == PurposeForecast || p == PurposeImpact
}

// ReadsAll tells whether it reads everything and not only what changed.
func (p Purpose) ReadsAll() bool { return p == PurposeFull || p == PurposeForecast }

// OfOne tells whether it is about one entry.
func (p Purpose) OfOne() bool { return p == PurposeSingle || p == PurposeTrial }
