package directory

import (
	"cmp"
	"context"
	"errors"
	"slices"
	"strconv"
	"strings"

	"github.com/go-ldap/ldap/v3"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/problem"
)

// adUsers keeps people, adFilter also groups, contacts and what can contain them.
const (
	adUsers  = "(&(objectClass=user)(!(objectClass=computer)))"
	adFilter = "(|" + adUsers + "(objectClass=group)(objectClass=contact)(objectClass=organizationalUnit)(objectClass=container)(objectClass=builtinDomain))"
)

// ad is the dialect of AD-compatible domain controllers ([MS-ADTS]).
type ad struct{}

func (ad) everything() string { return adFilter }

func (ad) ofKind(kind entry.Kind) string {
	return map[entry.Kind]string{entry.User: adUsers, entry.Group: "(objectClass=group)", entry.Contact: "(objectClass=contact)"}[kind]
}

func (ad) logins() []string { return []string{"sAMAccountName", "userPrincipalName"} }

func (ad) names() []string { return []string{"userPrincipalName", "sAMAccountName", "mail", "cn"} }

func (ad) ids() []string { return []string{"objectGUID"} }

func (ad) byID(id entry.ID) string { return "(objectGUID=" + escaped(id.ObjectGUID()) + ")" }

// disabledFlag is ACCOUNTDISABLE of userAccountControl.
const disabledFlag = 2

func (ad) standing() []string {
	return []string{"userAccountControl", "accountExpires", "primaryGroupID", "objectSid"}
}

func (ad) disabled(found *ldap.Entry) bool {
	control, _ := strconv.Atoi(found.GetAttributeValue("userAccountControl"))
	return control&disabledFlag != 0
}

func (ad) locks() []string { return []string{"lockoutTime"} }

func (ad) unlock(a Account) *ldap.ModifyRequest {
	request := ldap.NewModifyRequest(a.DN, nil)
	request.Replace("lockoutTime", []string{"0"})
	return request
}

func (ad) stored() string { return "unicodePwd" }

func (ad) marks() []string { return []string{"pwdLastSet"} }

func (ad) passwordSet(since string) string {
	return "(&" + adUsers + "(pwdLastSet>=" + cmp.Or(since, "1") + "))"
}

func (ad) setPassword(s *Session, a Account, p NewPassword) (note string, err error) {
	request := ldap.NewModifyRequest(a.DN, nil)
	if p.Old == "" {
		request.Replace("unicodePwd", []string{quoted(p.New)})
		if p.MustChange {
			request.Replace("pwdLastSet", []string{"0"})
		}
		if p.Own {
			request.Controls = []ldap.Control{ldap.NewControlString(policyHints, false, "\x30\x03\x02\x01\x01")}
		}
	} else {
		request.Delete("unicodePwd", []string{quoted(p.Old)})
		request.Add("unicodePwd", []string{quoted(p.New)})
	}
	if err := s.conn.Modify(request); err != nil {
		return "", s.worked(a, p, s.why(err))
	}
	return "", nil
}

// controlNotification asks an AD-compatible server to leave a search open and to answer it
// with each entry that changes (MS-ADTS section 3.1.1.3.4.1.9, LDAP_SERVER_NOTIFICATION_OID).
const controlNotification = "1.2.840.113556.1.4.528"

// watch leaves a search open by the notification control. Of what is deleted only who asks
// for the deleted hears.
func (ad) watch(ctx context.Context, s *Session, base entry.DN) (ldap.Response, error) {
	root, err := s.namingContext(base)
	if err != nil {
		return nil, err
	}
	request := search(root, "(objectClass=*)", []string{"objectGUID"})
	request.Controls = []ldap.Control{ldap.NewControlString(controlNotification, true, ""), ldap.NewControlString(showDeletedControl, true, "")}
	return s.conn.SearchAsync(ctx, request, watchBuffer), nil
}

func (ad) look(s *Session, base entry.DN) look { return s.lookByUSN(base) }

func (ad) probeChanges(ctx context.Context, p *probe) {
	base, err := entry.ParseDN(p.request.Base)
	if err == nil {
		var root string
		if root, err = p.session.namingContext(base); err == nil {
			_, _, err = p.session.dirSyncPage(ctx, search(root, "(objectClass=domainDNS)", []string{"objectClass"}), nil, func(*ldap.Entry) error { return nil })
		}
	}
	if err != nil {
		p.bad(StepChanges, "", err, "Allow the account to read changes: on the domain, the right 'Replicating Directory Changes' or plain read access with object security.")
		return
	}
	p.good(StepChanges, "", "changes can be read (DirSync with object security)")
	p.deletedObjects()
}

// fetchBatch is how many changed entries are fetched by one search.
const fetchBatch = 100

// read reads by the DirSync control with object security, which needs no
// right beyond reading. Its answers to a change hold only what changed, so
// changed entries are fetched whole: what is sent on is always complete.
func (ad) read(ctx context.Context, s *Session, r Request, base entry.DN, emit func(Item) error) (Result, error) {
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
