package directory

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"github.com/go-ldap/ldif"

	"kambrel.example/kambrel/core/entry"
)

var (
	// besideLDIF are values that lie in files of the host, which are not read.
	besideLDIF = regexp.MustCompile(`(?m)^[A-Za-z0-9.;-]+:<`)
	// emptyLDIF are values of nothing, which the library refuses and which say nothing.
	emptyLDIF = regexp.MustCompile(`(?m)^[A-Za-z0-9.;-]+: *\r?\n`)
)

// anyID are the ids of servers of all dialects.
var anyID = []string{"objectGUID", "entryUUID", "nsUniqueId"}

// FromLDIF reads entries that somebody has written down (RFC 2849) as if a directory of a name had
// told them. One without objectGUID, entryUUID or nsUniqueId gets an id of its name.
func FromLDIF(text, name string) ([]entry.Entry, error) {
	if besideLDIF.MatchString(text) {
		return nil, errors.New("a value is to be read from another file (attribute:<URL): write the value itself")
	}
	read, err := ldif.Parse(emptyLDIF.ReplaceAllString(text, ""))
	if err != nil {
		return nil, fmt.Errorf("this is no LDIF: %w", err)
	}
	var out []entry.Entry
	seen := map[entry.ID]string{}
	for i, one := range read.Entries {
		raw := one.Entry
		if raw == nil {
			return nil, fmt.Errorf("record %d is a change and no entry: write entries as they are", i+1)
		}
		kind := kindOf(raw.GetAttributeValues("objectClass"))
		if kind == "" {
			continue
		}
		id, err := idOf(raw, anyID)
		if !slices.ContainsFunc(anyID, func(name string) bool { return len(raw.GetRawAttributeValue(name)) > 0 }) {
			sum := sha256.Sum256([]byte(name + "/" + strings.ToLower(raw.DN)))
			copy(id[:], sum[:])
			err = nil
		}
		if err != nil {
			return nil, fmt.Errorf("%s: its id cannot be read: %w", raw.DN, err)
		}
		if other, twice := seen[id]; twice {
			return nil, fmt.Errorf("%s has the id of %s", raw.DN, other)
		}
		seen[id] = raw.DN
		e, err := (&Session{}).convert(context.Background(), kind, id, raw)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", raw.DN, err)
		}
		e.Directory = name
		out = append(out, *e)
	}
	return out, nil
}
