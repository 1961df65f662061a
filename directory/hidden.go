package directory

import (
	"context"
	"slices"
	"strings"

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

// attributes sees whether the attributes that the settings need can be read: one that
// entries had and that nobody has is told as one that was hidden.
func (p *probe) attributes(ctx context.Context) {
	var none []string
	seen := 0
	for _, name := range p.request.Needs {
		sees, err := p.session.sees(ctx, p.request.Base, name)
		switch {
		case err != nil:
			p.bad(StepAttributes, name, err, "Allow the account to read the attribute below the base.")
		case sees:
			seen++
		case slices.ContainsFunc(p.request.Expected, func(one string) bool { return strings.EqualFold(one, name) }):
			p.tell(Verdict{StepAttributes, name, Bad, "entries had " + name + ", and nobody has it that the account can read",
				"Give the account the right to read it back; until then what entries had of it stays."})
		default:
			none = append(none, name)
		}
	}
	switch {
	case seen > 0 && len(none) == 0:
		p.good(StepAttributes, "", "all %d attributes that the settings need can be read", seen)
	case seen+len(none) > 0:
		p.good(StepAttributes, "", "%d attributes that the settings need can be read; nobody has %s, or the account may not read it", seen, strings.Join(none, ", "))
	}
}

// containers sees whether there is anything to be seen in the containers of the scope.
func (p *probe) containers() {
	for _, container := range p.request.Containers {
		request := search(container, "(objectClass=*)", []string{"1.1"})
		request.SizeLimit = 2
		result, err := p.session.conn.Search(request)
		switch {
		case ldap.IsErrorWithCode(err, ldap.LDAPResultNoSuchObject):
			p.tell(Verdict{StepRead, container, Bad, "it does not exist, or the account may not see it", "Correct the container in the settings, or allow the account to read it."})
		case err != nil && !ldap.IsErrorWithCode(err, ldap.LDAPResultSizeLimitExceeded):
			p.bad(StepRead, container, err, "Allow the account to read below it.")
		case result == nil || len(result.Entries) < 2:
			p.tell(Verdict{StepRead, container, Doubtful, "it is there, and nothing can be seen in it", "If it is not empty, allow the account to read below it."})
		}
	}
}
