package plan

import "kambrel.example/kambrel/core/settings"

// Held tells whether a run's removals must wait for an operator: they are more
// than the number and more than the share (percent of all linked resources)
// that the guard allows. Both must be passed, so that neither a small
// directory nor a large one is stopped by everyday leaving.
func Held(guard settings.Guard, removals, linked int) bool {
	return removals > guard.Removals && removals*100 > linked*guard.Share
}
