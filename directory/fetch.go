package directory

import (
	"context"
	"errors"
	"strings"

	"github.com/go-ldap/ldap/v3"

	"kambrel.example/kambrel/core/entry"
)

// mostFetched is how many entries one look for a name may bring.
const mostFetched = 20

// Fetch looks for entries by distinguished name, id in any form, login, address
// or common name, and sends them whole. None is no error.
func (s *Session) Fetch(ctx context.Context, r Request, text string, emit func(Item) error) error {
	base, err := entry.ParseDN(r.Base)
	if err != nil {
		return err
	}
	d := dialectOf(r.Dialect)
	request := search(base.String(), named(d, text), wanted(r, identified(d, "member", "uniqueMember")...))
	if dn, err := entry.ParseDN(text); err == nil && entry.PathUnder(dn.Path(), base.Path()) {
		request.BaseDN, request.Scope, request.Filter = text, ldap.ScopeBaseObject, "(objectClass=*)"
	}
	request.SizeLimit = mostFetched
	result, err := s.conn.Search(request)
	switch {
	case ldap.IsErrorWithCode(err, ldap.LDAPResultNoSuchObject):
		return nil
	case err != nil && !ldap.IsErrorWithCode(err, ldap.LDAPResultSizeLimitExceeded):
		return refused(err, "look for %q", text)
	}
	for _, raw := range result.Entries {
		id, err := idOf(raw, d.ids())
		if err != nil {
			return badID(raw.DN, err)
		}
		kind := kindOf(raw.GetAttributeValues("objectClass"))
		if kind == "" || kind == entry.Container || !under(raw.DN, base) {
			continue
		}
		e, err := s.convert(ctx, kind, id, raw)
		if errors.Is(err, errVanished) {
			continue
		}
		if err != nil {
			return err
		}
		if err := emit(Item{Entry: e}); err != nil {
			return err
		}
	}
	return ctx.Err()
}

// named is the filter that finds an entry by what people call it (RFC 4515 section 3).
func named(d dialect, text string) string {
	var b strings.Builder
	b.WriteString("(|")
	for _, name := range d.names() {
		b.WriteString("(" + name + "=" + ldap.EscapeFilter(text) + ")")
	}
	ids, _ := entry.ParseIDs(text) // text that is no id has none
	for _, id := range ids {
		b.WriteString(d.byID(id))
	}
	return b.String() + ")"
}
