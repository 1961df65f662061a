package onhost

import "runtime"

// SpareMemory lets garbage gather before it is collected. Go collects whenever the heap has
// doubled; of the few megabytes that service and agent hold most of the time that is so
// often that a third of their time went into it. What is held here is never touched, so it
// takes addresses and no memory; twice as many megabytes are used before garbage is collected.
// The caller calls the result when it ends.
func SpareMemory(megabytes int) (end func()) {
	held := make([]byte, megabytes<<20)
	return func() { runtime.KeepAlive(held) }
}
