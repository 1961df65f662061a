// Package filter parses, evaluates and explains LDAP search filters (RFC 4515)
// against entries of the mirror. Without the directory's schema every value is
// compared without regard to case, and as a number where both sides are
// numbers; the two bitwise matching rules of AD-compatible directories are
// known. Parsing never panics; an error tells the byte where it stopped.
package filter
