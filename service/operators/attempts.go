package operators

import (
	"log/slog"
	"sync"
	"time"

	"kambrel.example/kambrel/core/logkey"
)

// attempts slows guessing of passwords down: for each address, for each name from
// one address, and for each name from all addresses together. Whoever has signed
// in from an address before has a budget of their own there, so that nobody can
// use it up for them from elsewhere.
type attempts struct {
	mu        sync.Mutex
	addresses map[string]*budget // by address
	names     map[string]*budget // by name, for addresses that are new to it
	pairs     map[[2]string]*failures
	known     map[[2]string]time.Time // name and address that have signed in
}

// budget is refilled with time.
type budget struct {
	left float64
	at   time.Time
}

// failures in a row of one name from one address.
type failures struct {
	count int
	last  time.Time
	told  time.Time // when the log was last told that it is refused
}

const (
	addressBurst, addressRefill = 30.0, 0.5 // attempts, and more each second
	nameBurst, nameRefill       = 10.0, 0.2
	freeFailures                = 4 // before one has to wait
	longestWait                 = 5 * time.Minute
	forgetAfter                 = time.Hour
	knownFor                    = 30 * 24 * time.Hour
	mostRemembered              = 20_000
)

func (b *budget) take(burst, refill float64, now time.Time) bool {
	b.left = min(burst, b.left+now.Sub(b.at).Seconds()*refill)
	b.at = now
	if b.left < 1 {
		return false
	}
	b.left--
	return true
}

// wait tells how long an attempt has to wait, 0 for not at all.
func (a *attempts) wait(name, address string, now time.Time) time.Duration {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.init(now)
	pair := [2]string{name, address}
	if f := a.pairs[pair]; f != nil && f.count > freeFailures {
		pause := min(time.Second<<min(f.count-freeFailures, 16), longestWait)
		if left := pause - now.Sub(f.last); left > 0 {
			if now.Sub(f.told) > time.Minute {
				f.told = now
				slog.Warn("sign-in is slowed down", logkey.Operator, name, logkey.Address, address, logkey.Failures, f.count)
			}
			return left
		}
	}
	if a.addresses[address] == nil {
		a.addresses[address] = &budget{addressBurst, now}
	}
	if !a.addresses[address].take(addressBurst, addressRefill, now) {
		return 2 * time.Second
	}
	if _, known := a.known[pair]; known {
		return 0
	}
	if a.names[name] == nil {
		a.names[name] = &budget{nameBurst, now}
	}
	if !a.names[name].take(nameBurst, nameRefill, now) {
		return 5 * time.Second
	}
	return 0
}

func (a *attempts) failed(name, address string, now time.Time) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.init(now)
	pair := [2]string{name, address}
	if a.pairs[pair] == nil {
		a.pairs[pair] = &failures{}
	}
	a.pairs[pair].count++
	a.pairs[pair].last = now
}

func (a *attempts) succeeded(name, address string, now time.Time) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.init(now)
	pair := [2]string{name, address}
	delete(a.pairs, pair)
	a.known[pair] = now
}

// init makes the maps, and empties them of what is old when they grow.
func (a *attempts) init(now time.Time) {
	if a.addresses == nil {
		a.addresses, a.names, a.pairs, a.known = map[string]*budget{}, map[string]*budget{}, map[[2]string]*failures{}, map[[2]string]time.Time{}
	}
	if len(a.addresses)+len(a.names)+len(a.pairs)+len(a.known) < mostRemembered {
		return
	}
	for key, b := range a.addresses {
		if now.Sub(b.at) > time.Minute {
			delete(a.addresses, key)
		}
	}
	for key, b := range a.names {
		if now.Sub(b.at) > time.Minute {
			delete(a.names, key)
		}
	}
	for key, f := range a.pairs {
		if now.Sub(f.last) > forgetAfter {
			delete(a.pairs, key)
		}
	}
	for key, at := range a.known {
		if now.Sub(at) > knownFor {
			delete(a.known, key)
		}
	}
}
