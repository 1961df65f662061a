package standin

import (
	"math/rand/v2"
	"slices"
	"sync"
	"time"
)

// Fault is something that goes wrong on purpose.
type Fault string

// The faults.
const (
	Throttle Fault = "throttle" // 429 with Retry-After, before any work
	Broken   Fault = "error"    // 500, before any work
	Reset    Fault = "reset"    // the connection is cut before any work
	Lost     Fault = "lost"     // the work is done, then the connection is cut
)

// Faults is what is switched on; it is the body of POST /standin/faults.
type Faults struct {
	// Rate is the share of requests that go wrong, 0 to 1.
	Rate  float64 `json:"rate"`
	Kinds []Fault `json:"kinds"`
	Seed  uint64  `json:"seed"`
	// PerSecond limits requests; more are throttled. 0 means no limit.
	PerSecond int `json:"perSecond"`
	// TitleLength cuts titles, as a cloud may that keeps something else than it
	// was sent. 0 means no limit.
	TitleLength int `json:"titleLength"`
}

var allFaults = []Fault{Throttle, Broken, Reset, Lost}

func (f Faults) check() *failure {
	if f.Rate < 0 || f.Rate > 1 {
		return invalidValue("rate is from 0 to 1")
	}
	if f.PerSecond < 0 || f.TitleLength < 0 {
		return invalidValue("perSecond and titleLength are 0 or more")
	}
	for _, kind := range f.Kinds {
		if !slices.Contains(allFaults, kind) {
			return invalidValue("%q is no fault; there are %v", kind, allFaults)
		}
	}
	return nil
}

// injector decides which request goes wrong, and how.
type injector struct {
	mu     sync.Mutex
	faults Faults
	random *rand.Rand
	window time.Time
	inside int
}

func (i *injector) set(f Faults) {
	i.mu.Lock()
	defer i.mu.Unlock()
	if f.Rate > 0 && len(f.Kinds) == 0 {
		f.Kinds = allFaults
	}
	i.faults, i.random = f, rand.New(rand.NewPCG(f.Seed, f.Seed))
}

func (i *injector) get() Faults {
	i.mu.Lock()
	defer i.mu.Unlock()
	return i.faults
}

func (i *injector) next(now time.Time) Fault {
	i.mu.Lock()
	defer i.mu.Unlock()
	if i.faults.PerSecond > 0 {
		if now.Sub(i.window) >= time.Second {
			i.window, i.inside = now, 0
		}
		if i.inside++; i.inside > i.faults.PerSecond {
			return Throttle
		}
	}
	if i.faults.Rate > 0 && i.random.Float64() < i.faults.Rate {
		return i.faults.Kinds[i.random.IntN(len(i.faults.Kinds))]
	}
	return ""
}
