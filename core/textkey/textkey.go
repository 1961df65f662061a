// Package textkey makes keys of one small size from texts, for maps with one for every
// person of a large directory.
package textkey

import "crypto/sha256"

// Key stands for a text: the first half of its SHA-256, so that of no two texts the same
// is ever met.
type Key [16]byte

// Of returns the key of a text.
func Of(text string) Key {
	sum := sha256.Sum256([]byte(text))
	return Key(sum[:])
}

// Set holds texts by their keys.
type Set map[Key]struct{}

// Add puts a text into the set.
func (s Set) Add(text string) { s[Of(text)] = struct{}{} }

// Has tells whether a text is in the set, which may be nil.
func (s Set) Has(text string) bool {
	_, has := s[Of(text)]
	return has
}
