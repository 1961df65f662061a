package directory

import (
	"context"
	"fmt"

	"github.com/go-ldap/ldap/v3"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/problem"
)

// Repair sets one value of one entry. It is done only while the attribute still
// has the value that the repair was made from.
type Repair struct {
	ID        entry.ID
	DN        string // for messages; the entry is found by its id
	Attribute string
	Before    string // the value to replace, "" for none
	After     string // "" takes the value away
}

// Apply carries a repair out. One that was carried out already is well. The
// error is a problem: value-changed when somebody else has changed the value,
// directory-refused with the directory's own reason.
func (s *Session) Apply(ctx context.Context, dialect entry.Dialect, base string, r Repair) error {
	found, err := s.byID(dialect, base, r.ID, r.Attribute)
	if err != nil {
		return err
	}
	values := found.GetAttributeValues(r.Attribute)
	has := func(value string) bool {
		for _, have := range values {
			if have == value {
				return true
			}
		}
		return false
	}
	switch {
	case r.After != "" && has(r.After) && (r.Before == "" || !has(r.Before)), r.After == "" && !has(r.Before):
		return nil // an order that is done again
	case r.Before == "" && len(values) > 0 || r.Before != "" && !has(r.Before):
		return problem.New(problem.ValueChanged, "%s: %s is %q now, not %q", found.DN, r.Attribute, values, r.Before)
	}
	request := ldap.NewModifyRequest(found.DN, nil)
	// One modification, so that it is done wholly or not at all (RFC 4511
	// section 4.6); single-valued attributes take the new value by a replace.
	if len(values) <= 1 {
		replaced := []string{}
		if r.After != "" {
			replaced = append(replaced, r.After)
		}
		request.Replace(r.Attribute, replaced)
	} else {
		request.Delete(r.Attribute, []string{r.Before})
		if r.After != "" && !has(r.After) {
			request.Add(r.Attribute, []string{r.After})
		}
	}
	if err := ctx.Err(); err != nil {
		return err
	}
	if err := s.conn.Modify(request); err != nil {
		code := problem.DirectoryRefused
		if ldap.IsErrorWithCode(err, ldap.LDAPResultInsufficientAccessRights) {
			code = problem.RightMissing
		}
		return problem.Wrap(code, plain(err), "write %s of %s", r.Attribute, found.DN)
	}
	return nil
}

// byID finds an entry by its unchanging id.
func (s *Session) byID(dialect entry.Dialect, base string, id entry.ID, attributes ...string) (*ldap.Entry, error) {
	result, err := s.conn.Search(search(base, dialectOf(dialect).byID(id), attributes))
	if err != nil {
		return nil, refused(err, "look for entry %s", id)
	}
	if len(result.Entries) != 1 {
		return nil, problem.New(problem.NotFound, "the directory has no entry %s any more", id)
	}
	return result.Entries[0], nil
}

// escaped writes octets as a filter takes them (RFC 4515 section 3).
func escaped(octets []byte) string {
	text := ""
	for _, octet := range octets {
		text += fmt.Sprintf(`\%02x`, octet)
	}
	return text
}
