// Package purpose says what a run is for, and what follows from that: whether it
// writes, decides, reads everything or looks at one entry alone.
package purpose

// Purpose is what a run is for.
type Purpose string

// The purposes.
const (
	Sync      Purpose = "sync"      // bring in step what changed
	Full      Purpose = "full"      // read and compare everything
	Release   Purpose = "release"   // let the held removals of a run through
	Single    Purpose = "single"    // bring one entry in step
	Undo      Purpose = "undo"      // put back what a run has done
	Rehearsal Purpose = "rehearsal" // what a sync would do
	Forecast  Purpose = "forecast"  // what would become of everybody
	Impact    Purpose = "impact"    // the same by the draft
	Trial     Purpose = "trial"     // what would become of one entry
	Look      Purpose = "look"      // read, and no more
	Survey    Purpose = "survey"    // look for what the cloud would refuse
)

// Writes tells whether a run of the purpose is there to change the cloud.
func (p Purpose) Writes() bool {
	switch p {
	case Sync, Full, Release, Single, Undo:
		return true
	}
	return false
}

// Plans tells whether it decides about entries.
func (p Purpose) Plans() bool { return p != Look && p != Survey }

// Rehearses tells whether it decides and writes nothing.
func (p Purpose) Rehearses() bool { return p.Plans() && !p.Writes() }

// Everybody tells whether it decides about everybody, whatever has changed.
func (p Purpose) Everybody() bool {
	return p == Full || p == Forecast || p == Impact
}

// ReadsAll tells whether it reads everything and not only what changed.
func (p Purpose) ReadsAll() bool { return p == Full || p == Forecast }

// OfOne tells whether it is about one entry.
func (p Purpose) OfOne() bool { return p == Single || p == Trial }
