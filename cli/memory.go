package cli

import "runtime"

// spareMemory lets garbage gather before it is collected. Go collects whenever the heap has
// doubled; of the few megabytes that service and agent hold most of the time that is so
// often that a third of their time went into it. What is held here is never touched, so it
// takes addresses and no memory. The caller calls the result when it ends.
func spareMemory() (end func()) {
	held := make([]byte, 96<<20)
	return func() { runtime.KeepAlive(held) }
}
