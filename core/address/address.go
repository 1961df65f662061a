// Package address judges network addresses by their text; it looks nothing up.
package address

import (
	"errors"
	"net/netip"
	"strings"
	"sync/atomic"
)

// Loopback tells whether a host is this machine, by its address or as localhost,
// so that nothing that is sent there can be seen on a network. A name that only
// begins like an address is none.
func Loopback(host string) bool {
	address, err := netip.ParseAddr(host)
	return host == "localhost" || err == nil && address.IsLoopback()
}

// List are the base URLs of the services on one database, of which a text names one or
// several with commas between; without slashes at their ends, and each once.
func List(text string) []string {
	var list []string
	seen := map[string]bool{}
	for _, one := range strings.Split(text, ",") {
		one = strings.TrimSuffix(strings.TrimSpace(one), "/")
		if key := strings.ToLower(one); one != "" && !seen[key] {
			seen[key] = true
			list = append(list, one)
		}
	}
	return list
}

// Services are those on one database, of which the one that has answered last is asked
// first. It may be used from many goroutines.
type Services struct {
	urls     []string
	answered atomic.Int32
}

// ServicesOf are the services that a text names; see List.
func ServicesOf(text string) *Services { return &Services{urls: List(text)} }

// URLs are their base URLs.
func (s *Services) URLs() []string { return s.urls }

// Asked is the one that is asked first.
func (s *Services) Asked() string { return s.urls[s.answered.Load()] }

// Ask tries one after the other until one is done with, answered or not to be followed by
// another; otherwise it returns the failures of all.
func (s *Services) Ask(try func(base string) (done bool, err error)) error {
	if len(s.urls) == 0 {
		return errors.New("no service is named")
	}
	first, failures := int(s.answered.Load()), []error{}
	for i := range s.urls {
		at := (first + i) % len(s.urls)
		done, err := try(s.urls[at])
		if done {
			s.answered.Store(int32(at))
			return err
		}
		failures = append(failures, err)
	}
	return errors.Join(failures...)
}
