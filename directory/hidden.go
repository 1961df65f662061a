package directory

import (
	"context"
	"slices"

	"github.com/go-ldap/ldap/v3"

	"kambrel.example/kambrel/core/entry"
)

// hiding watches a read for attributes that entries had and now have no more: where
// nobody in the directory has one, the right to read it was lost, as far as anybody can
// tell, and the read says so before the first entry without it.
type hiding struct {
	session *Session
	base    string
	open    []string // expected, and not looked for yet
	emit    func(Item) error
}

func (h *hiding) item(ctx context.Context, item Item) error {
	if item.Entry == nil || item.Entry.Kind == entry.Container {
		return h.emit(item)
	}
	for i := 0; i < len(h.open); i++ {
		name := h.open[i]
		if has(item.Entry, name) {
			continue
		}
		h.open = slices.Delete(slices.Clone(h.open), i, i+1)
		i--
		seen, err := h.session.sees(ctx, h.base, name)
		if err != nil {
			return err
		}
		if !seen {
			if err := h.emit(Item{Hidden: name}); err != nil {
				return err
			}
		}
	}
	return h.emit(item)
}

// has tells whether an entry has an attribute; of members, only groups can lack them.
func has(e *entry.Entry, name string) bool {
	if name == entry.MemberAttribute {
		return e.Kind != entry.Group || len(e.Members) > 0
	}
	_, has := e.Attributes[name]
	return has
}

// sees tells whether anybody beneath a base has an attribute that can be read.
func (s *Session) sees(ctx context.Context, base, name string) (bool, error) {
	filter := "(" + name + "=*)"
	if name == entry.MemberAttribute {
		filter = "(|(member=*)(uniqueMember=*))"
	}
	request := search(base, filter, []string{name})
	request.SizeLimit = 1
	result, err := s.askBeside(ctx, request)
	switch {
	case ldap.IsErrorAnyOf(err, ldap.LDAPResultSizeLimitExceeded):
		return true, nil
	case ldap.IsErrorAnyOf(err, ldap.LDAPResultUndefinedAttributeType, ldap.LDAPResultNoSuchAttribute):
		return false, nil
	case err != nil:
		return false, refused(err, "look whether anybody has %s", name)
	}
	return len(result.Entries) > 0, nil
}
