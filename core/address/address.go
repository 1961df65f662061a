// Package address judges network addresses by their text; it looks nothing up.
package address

import "net/netip"

// Loopback tells whether a host is this machine, by its address or as localhost,
// so that nothing that is sent there can be seen on a network. A name that only
// begins like an address is none.
func Loopback(host string) bool {
	address, err := netip.ParseAddr(host)
	return host == "localhost" || err == nil && address.IsLoopback()
}
