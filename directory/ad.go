package directory

import (
	"context"
	"errors"
	"slices"
	"strings"

	"github.com/go-ldap/ldap/v3"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/problem"
)

// adFilter keeps people, groups, contacts and what can contain them.
const adFilter = "(|(&(objectClass=user)(!(objectClass=computer)))(objectClass=group)(objectClass=contact)(objectClass=organizationalUnit)(objectClass=container)(objectClass=builtinDomain))"

// fetchBatch is how many changed entries are fetched by one search.
const fetchBatch = 100

// readAD reads by the DirSync control with object security, which needs no
// right beyond reading. Its answers to a change hold only what changed, so
// changed entries are fetched whole: what is sent on is always complete.
func (s *Session) readAD(ctx context.Context, r Request, base entry.DN, emit func(Item) error) (Result, error) {
	root, err := s.namingContext(base)
	if err != nil {
		return Result{}, err
	}
	everything := len(r.Cookie) == 0
	// All attributes of interest, since DirSync reports an entry only when one
	// of the attributes asked for has changed.
	attributes := wanted(r, "objectClass", "isDeleted", "name", "member")
	if !everything {
		attributes = wanted(r, append(attributes, "userAccountControl")...)
	}
	cookie := r.Cookie
	changed := &fetcher{session: s, root: root, attributes: wanted(r, "objectClass", "objectGUID", "member"), base: base, emit: emit}
	for {
		next, more, err := s.dirSyncPage(ctx, search(root, adFilter, attributes), cookie, func(raw *ldap.Entry) error {
			return s.handleAD(ctx, raw, everything, r, base, changed, emit)
		})
		if err != nil {
			return Result{}, err
		}
		cookie = next
		if !more {
			break
		}
	}
	if err := changed.flush(ctx); err != nil {
		return Result{}, err
	}
	return Result{Cookie: cookie, Complete: everything}, nil
}

func (s *Session) handleAD(ctx context.Context, raw *ldap.Entry, everything bool, r Request, base entry.DN, changed *fetcher, emit func(Item) error) error {
	id, err := entry.IDFromObjectGUID(raw.GetRawAttributeValue("objectGUID"))
	if err != nil {
		return badID(raw.DN, err)
	}
	switch {
	case strings.EqualFold(raw.GetAttributeValue("isDeleted"), "TRUE"):
		if everything {
			return nil
		}
		return emit(Item{Gone: &id})
	case !everything:
		return changed.add(ctx, id)
	}
	kind := kindOf(raw.GetAttributeValues("objectClass"))
	if kind == "" || !under(raw.DN, base) {
		return nil
	}
	if !asksFor(r, "name") {
		drop(raw, "name") // asked for to learn of renames only
	}
	e, err := s.convert(ctx, kind, id, raw)
	if errors.Is(err, errVanished) {
		return nil
	}
	if err != nil {
		return err
	}
	addRDN(e)
	return emit(Item{Entry: e})
}

// addRDN adds the naming attribute, which DirSync leaves out although a search
// gives it: an entry must look the same however it was read.
func addRDN(e *entry.Entry) {
	dn, err := ldap.ParseDN(e.DN)
	if err != nil || len(dn.RDNs) == 0 {
		return
	}
	for _, pair := range dn.RDNs[0].Attributes {
		if name := strings.ToLower(pair.Type); e.Attributes.First(name) == "" {
			e.Attributes[name] = []string{pair.Value}
		}
	}
}

// drop takes an attribute out of what was read.
func drop(raw *ldap.Entry, name string) {
	raw.Attributes = slices.DeleteFunc(raw.Attributes, func(a *ldap.EntryAttribute) bool { return strings.EqualFold(a.Name, name) })
}

// dirSyncPage makes one DirSync request. The request must be new each time,
// since the call adds its control to it.
func (s *Session) dirSyncPage(ctx context.Context, request *ldap.SearchRequest, cookie []byte, each func(*ldap.Entry) error) ([]byte, bool, error) {
	response := s.stream(ctx, func(ctx context.Context) ldap.Response {
		return s.conn.DirSyncAsync(ctx, request, 256, ldap.DirSyncObjectSecurity, 0, cookie)
	})
	defer response.end()
	for response.Next() {
		for _, control := range response.Controls() {
			if done, ok := control.(*ldap.ControlDirSync); ok {
				return done.Cookie, done.Flags != 0, nil
			}
		}
		if raw := response.Entry(); raw != nil {
			if err := each(raw); err != nil {
				return nil, false, err
			}
		}
	}
	if err := response.Err(); err != nil {
		return nil, false, refused(err, "read changes of %s", request.BaseDN)
	}
	if ctx.Err() != nil {
		return nil, false, ctx.Err()
	}
	return nil, false, noEnd(Request{Base: request.BaseDN})
}

// namingContext finds the root that DirSync must be asked at.
func (s *Session) namingContext(base entry.DN) (string, error) {
	result, err := s.conn.Search(&ldap.SearchRequest{Scope: ldap.ScopeBaseObject, Filter: "(objectClass=*)", Attributes: []string{"namingContexts"}})
	if err != nil {
		return "", refused(err, "read what the directory holds")
	}
	best := ""
	if len(result.Entries) == 1 {
		for _, name := range result.Entries[0].GetAttributeValues("namingContexts") {
			root, err := entry.ParseDN(name)
			if err == nil && entry.PathUnder(base.Path(), root.Path()) && len(name) > len(best) {
				best = name
			}
		}
	}
	if best == "" {
		return "", problem.New(problem.DirectoryRefused, "the directory does not hold the base %s", base)
	}
	return best, nil
}

// fetcher reads changed entries whole, many in one search.
type fetcher struct {
	session    *Session
	root       string
	attributes []string
	base       entry.DN
	emit       func(Item) error
	ids        []entry.ID
}

func (f *fetcher) add(ctx context.Context, id entry.ID) error {
	f.ids = append(f.ids, id)
	if len(f.ids) < fetchBatch {
		return nil
	}
	return f.flush(ctx)
}

func (f *fetcher) flush(ctx context.Context) error {
	if len(f.ids) == 0 {
		return nil
	}
	var filter strings.Builder
	filter.WriteString("(|")
	for _, id := range f.ids {
		filter.WriteString("(objectGUID=" + escaped(id.ObjectGUID()) + ")")
	}
	filter.WriteString(")")
	f.ids = f.ids[:0]
	result, err := f.session.askBeside(ctx, search(f.root, filter.String(), f.attributes))
	if err != nil {
		return refused(err, "fetch changed entries of %s", f.root)
	}
	for _, raw := range result.Entries {
		id, err := entry.IDFromObjectGUID(raw.GetRawAttributeValue("objectGUID"))
		if err != nil {
			return badID(raw.DN, err)
		}
		item := Item{Gone: &id}
		if kind := kindOf(raw.GetAttributeValues("objectClass")); kind != "" && under(raw.DN, f.base) {
			e, err := f.session.convert(ctx, kind, id, raw)
			switch {
			case err == nil:
				item = Item{Entry: e}
			case !errors.Is(err, errVanished):
				return err
			}
		}
		if err := f.emit(item); err != nil {
			return err
		}
	}
	return nil
}
