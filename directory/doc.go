// Package directory speaks LDAP: it opens verified connections, reads everything
// or what changed, tries rights, and writes repairs, in the two dialects. It knows nothing of
// settings or storage. A Session serves one goroutine at a time.
package directory
