// Package directory speaks LDAP: it opens verified connections and reads
// everything or what changed, in the two dialects. It knows nothing of
// settings or storage. A Session serves one goroutine at a time.
package directory
