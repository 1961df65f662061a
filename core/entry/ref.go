package entry

import (
	"bytes"
	"cmp"
	"strings"
)

// Ref names an entry: the directory and the id by which it is known there.
type Ref struct {
	Directory string
	ID        ID
}

// Ref names the entry.
func (e *Entry) Ref() Ref { return Ref{e.Directory, e.ID} }

// Compare puts references in the order of directories, then of ids.
func (r Ref) Compare(other Ref) int {
	return cmp.Or(strings.Compare(r.Directory, other.Directory), bytes.Compare(r.ID[:], other.ID[:]))
}
