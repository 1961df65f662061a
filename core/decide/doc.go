// Package decide is the only place where an entry becomes an outcome: whether it
// takes part, who it is one person with, which resource is its own, what that
// should be, and what is to be done, or which problem stands in the way.
//
// A decision needs facts about others: who holds a key or a value, what was
// decided by hand, who leads a person. They are asked for through Facts, by the
// batch. Three things answer: the database in a run, the database with what is
// planned kept in memory in a rehearsal, and the same for one object in a trial,
// a preview or a why. All of them call Decide, so that they cannot disagree.
//
// Nothing here does I/O or reads a clock. Settings are immutable once compiled
// and may be shared; a Decider belongs to one goroutine at a time.
package decide
