package entry

import (
	"bytes"
	"cmp"
	"fmt"
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

// String is the form in which a reference is a key: directory/id.
func (r Ref) String() string { return r.Directory + "/" + r.ID.String() }

// ParseRef reads what String writes.
func ParseRef(text string) (Ref, error) {
	directory, id, found := strings.Cut(text, "/")
	if !found || directory == "" {
		return Ref{}, fmt.Errorf("%q does not have the form directory/id", text)
	}
	parsed, err := NewID(id)
	return Ref{Directory: directory, ID: parsed}, err
}
