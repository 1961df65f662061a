// Package address judges network addresses by their text; it looks nothing up.
package address

import (
	"net/netip"
	"strings"
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
