package directory

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/go-ldap/ldap/v3"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/problem"
)

// GroupPlace is where groups of the cloud are kept, and what they are there.
type GroupPlace struct {
	Dialect    entry.Dialect
	Base       string
	Container  string
	Mark       string // the attribute that bears the id of a group
	Class      string
	Member     string   // the attribute that holds members
	Attributes []string // to be read of an entry that was made
}

// GroupChange is what is done to one group. Make takes the entry of the container that
// bears the group's id, where there is one; Delete deletes only what bears it.
type GroupChange struct {
	Make, Delete bool
	Group        string
	ID           entry.ID
	DN           string // "" leaves the name
	Values       entry.Attributes
	Placeholder  string
	Add, Remove  []string
	Drift        bool
}

// GroupResult is what became of a change: Refusal, when set, of the whole, Refused of
// single members.
type GroupResult struct {
	Entry   *entry.Entry
	DN      string
	SID     string
	By      string
	At      *time.Time
	Refusal *problem.Error
	Refused []RefusedMember
}

// RefusedMember is a member that was not added, or not removed.
type RefusedMember struct {
	DN      string
	Refusal *problem.Error
}

// membersAtOnce is how many members one request adds or removes; directories of the
// dialect ad take 5,000.
const membersAtOnce = 1000

// permissiveModify lets a request add what is there and remove what is not, so that one
// that is done again changes nothing ([MS-ADTS] section 3.1.1.3.4.1.8).
const permissiveModify = "1.2.840.113556.1.4.1413"

// FindContainer tells whether the container is there.
func (s *Session) FindContainer(place GroupPlace) error {
	_, err := s.conn.Search(&ldap.SearchRequest{BaseDN: place.Container, Scope: ldap.ScopeBaseObject, Filter: "(objectClass=*)", Attributes: []string{"1.1"}})
	switch {
	case ldap.IsErrorAnyOf(err, ldap.LDAPResultNoSuchObject, ldap.LDAPResultReferral):
		return problem.Of(problem.CloudGroupContainer, problem.Facts{Names: []string{place.Container}})
	case err != nil:
		return refused(err, "look for %s", place.Container)
	}
	return nil
}

// WriteGroup carries a change out. What was done already is found done. The error is of the
// directory as a whole; what it refuses is in the result.
func (s *Session) WriteGroup(ctx context.Context, place GroupPlace, c GroupChange) (GroupResult, error) {
	if err := ctx.Err(); err != nil {
		return GroupResult{}, err
	}
	w := &groupWriter{session: s, place: place, change: c}
	err := w.write(ctx)
	var p *problem.Error
	switch {
	case err == nil:
	case errors.As(err, &p) && p.Code != problem.DirectoryUnreachable:
		w.result.Refusal, err = p, nil
	}
	return w.result, err
}

// groupWriter is one change on its way.
type groupWriter struct {
	session *Session
	place   GroupPlace
	change  GroupChange
	result  GroupResult
}

// groupFacts are read of a group before it is written.
func (w *groupWriter) facts() []string {
	return []string{"objectClass", w.place.Mark, "groupType", "objectSid", "modifiersName", "modifyTimestamp", "whenChanged"}
}

func (w *groupWriter) write(ctx context.Context) error {
	if w.change.Make {
		return w.make(ctx)
	}
	found, err := w.session.byID(w.place.Dialect, w.place.Base, w.change.ID, w.facts()...)
	if w.change.Delete {
		return w.delete(found, err)
	}
	if err != nil {
		return err
	}
	return w.update(found)
}

// make makes the entry, unless one bears the id of the group already.
func (w *groupWriter) make(ctx context.Context) error {
	result, err := w.session.conn.Search(search(w.place.Container, fmt.Sprintf("(&(objectClass=%s)(%s=%s))", w.place.Class, w.place.Mark, ldap.EscapeFilter(w.change.Group)), w.facts()))
	if err != nil {
		return refused(err, "look for group %s in %s", w.change.Group, w.place.Container)
	}
	switch len(result.Entries) {
	case 0:
		if err := w.add(); err != nil {
			return err
		}
		w.result.DN = w.change.DN
	case 1:
		if err := w.update(result.Entries[0]); err != nil {
			return err
		}
	default:
		return problem.New(problem.CloudGroupRefused, "%s and %s both bear the id of the group in %s", result.Entries[0].DN, result.Entries[1].DN, w.place.Mark)
	}
	return w.readBack(ctx)
}

func (w *groupWriter) add() error {
	request := ldap.NewAddRequest(w.change.DN, nil)
	request.Attribute("objectClass", []string{"top", w.place.Class})
	for _, name := range slices.Sorted(maps.Keys(w.change.Values)) {
		if values := w.change.Values[name]; len(values) > 0 {
			request.Attribute(name, values)
		}
	}
	if w.place.Dialect != entry.AD {
		name, err := entry.ParseDN(w.change.DN)
		if err != nil {
			return problem.Wrap(problem.CloudGroupRefused, err, "make the group")
		}
		request.Attribute("cn", []string{name.Name()})
	}
	if w.change.Placeholder != "" {
		request.Attribute(w.place.Member, []string{w.change.Placeholder})
	}
	return w.said(w.session.conn.Add(request), "make %s", w.change.DN)
}

// update writes what differs: the name first, since what follows goes by it.
func (w *groupWriter) update(found *ldap.Entry) error {
	if kindOf(found.GetAttributeValues("objectClass")) != entry.Group {
		return problem.New(problem.CloudGroupRefused, "%s is no group", found.DN)
	}
	w.result.DN, w.result.SID = found.DN, sidText(found.GetRawAttributeValue("objectSid"))
	if w.change.Drift {
		w.tellWho(found)
	}
	if err := w.rename(found.DN); err != nil {
		return err
	}
	if err := w.replace(found); err != nil {
		return err
	}
	return w.members()
}

// tellWho keeps who has changed the entry last: operational attributes of RFC 4512 section
// 3.4, of which the dialect ad has the time alone.
func (w *groupWriter) tellWho(found *ldap.Entry) {
	w.result.By = found.GetAttributeValue("modifiersName")
	for _, name := range []string{"modifyTimestamp", "whenChanged"} {
		for _, form := range []string{"20060102150405Z", "20060102150405.0Z"} {
			if at, err := time.Parse(form, found.GetAttributeValue(name)); err == nil {
				w.result.At = &at
				return
			}
		}
	}
}

// rename gives the entry its name, and moves it into its container.
func (w *groupWriter) rename(is string) error {
	if w.change.DN == "" || is == w.change.DN {
		return nil
	}
	rdn, container := cutDN(w.change.DN)
	_, was := cutDN(is)
	if entry.SameDN(container, was) {
		container = ""
	}
	if err := w.said(w.session.conn.ModifyDN(ldap.NewModifyDNRequest(is, rdn, true, container)), "call %s %s", is, w.change.DN); err != nil {
		return err
	}
	w.result.DN = w.change.DN
	return nil
}

// cutDN divides a name into its first part and that of the container.
func cutDN(dn string) (rdn, container string) {
	for i := 0; i < len(dn); i++ {
		switch dn[i] {
		case '\\':
			i++
		case ',':
			return dn[:i], strings.TrimSpace(dn[i+1:])
		}
	}
	return dn, ""
}

func (w *groupWriter) replace(found *ldap.Entry) error {
	if len(w.change.Values) == 0 {
		return nil
	}
	if between := betweenScopes(found.GetAttributeValue("groupType"), w.change.Values.First("groupType")); between != "" {
		request := ldap.NewModifyRequest(w.result.DN, nil)
		request.Replace("groupType", []string{between})
		if err := w.said(w.session.conn.Modify(request), "change the scope of %s", w.result.DN); err != nil {
			return err
		}
	}
	request := ldap.NewModifyRequest(w.result.DN, nil)
	for _, name := range slices.Sorted(maps.Keys(w.change.Values)) {
		request.Replace(name, w.change.Values[name])
	}
	return w.said(w.session.conn.Modify(request), "write %s", w.result.DN)
}

// betweenScopes is the groupType by way of which one becomes another: from global to
// domain-local and back a group must be universal in passing ([MS-ADTS] section
// 3.1.1.5.3.2).
func betweenScopes(from, to string) string {
	const global, local, universal = 2, 4, 8
	a, err := strconv.Atoi(from)
	b, err2 := strconv.Atoi(to)
	if err != nil || err2 != nil || (a&global == 0 || b&local == 0) && (a&local == 0 || b&global == 0) {
		return ""
	}
	return strconv.Itoa(b&^(global|local) | universal)
}

func (w *groupWriter) delete(found *ldap.Entry, err error) error {
	if problem.CodeOf(err) == problem.NotFound {
		return nil // an order that is done again
	}
	if err != nil {
		return err
	}
	w.result.DN = found.DN
	if !slices.Contains(found.GetAttributeValues(w.place.Mark), w.change.Group) {
		return problem.New(problem.ValueChanged, "%s no longer bears the id of the group in %s, so it was not deleted", found.DN, w.place.Mark)
	}
	return w.said(w.session.conn.Del(ldap.NewDelRequest(found.DN, nil)), "delete %s", found.DN)
}

// members adds and removes members, many at once; where the directory refuses some, those
// are found by halves.
func (w *groupWriter) members() error {
	add, remove := w.change.Add, w.change.Remove
	for len(add)+len(remove) > 0 {
		// Both in one request as far as they fit, so that a group that must have a member
		// has one at each moment.
		comes := min(len(add), membersAtOnce)
		goes := min(len(remove), membersAtOnce-comes)
		if comes+goes == 0 {
			goes = min(len(remove), membersAtOnce)
		}
		if err := w.changeMembers(add[:comes], remove[:goes]); err != nil {
			return err
		}
		add, remove = add[comes:], remove[goes:]
	}
	return nil
}

func (w *groupWriter) changeMembers(add, remove []string) error {
	request := w.memberRequest(add, remove)
	if w.change.Placeholder != "" && len(add) > 0 { // somebody is there now
		request = w.memberRequest(add, append(slices.Clone(remove), w.change.Placeholder))
	}
	err := w.session.conn.Modify(request)
	if w.change.Placeholder != "" && len(add) > 0 && ldap.IsErrorWithCode(err, ldap.LDAPResultNoSuchAttribute) {
		// It was none, and the directory does not know the control.
		request = w.memberRequest(add, remove)
		err = w.session.conn.Modify(request)
	}
	if w.change.Placeholder != "" && len(remove) > 0 && ldap.IsErrorAnyOf(err, ldap.LDAPResultObjectClassViolation, ldap.LDAPResultConstraintViolation) {
		// The last one goes, and the class needs one.
		request.Add(w.place.Member, []string{w.change.Placeholder})
		err = w.session.conn.Modify(request)
	}
	if err == nil {
		return nil
	}
	said := w.said(err, "members of %s", w.result.DN)
	switch code := problem.CodeOf(said); {
	case code == problem.DirectoryUnreachable, code == problem.RightMissing && len(add)+len(remove) > 1 && w.forbidden(add, remove):
		return said
	case len(add)+len(remove) > 1:
		if ldap.IsErrorWithCode(err, ldap.LDAPResultNoSuchObject) {
			if _, err := w.session.byID(w.place.Dialect, w.place.Base, w.change.ID, "1.1"); err != nil && !w.change.Make {
				return err // it is the group that is not there
			}
		}
		return w.halves(add, remove)
	// Where the directory does not know the control, what is done already is refused.
	case len(add) == 1 && ldap.IsErrorAnyOf(err, ldap.LDAPResultAttributeOrValueExists, ldap.LDAPResultEntryAlreadyExists),
		len(remove) == 1 && ldap.IsErrorWithCode(err, ldap.LDAPResultNoSuchAttribute):
		return nil
	}
	var p *problem.Error
	if !errors.As(said, &p) {
		return said
	}
	w.result.Refused = append(w.result.Refused, RefusedMember{slices.Concat(add, remove)[0], p})
	return nil
}

func (w *groupWriter) memberRequest(add, remove []string) *ldap.ModifyRequest {
	request := ldap.NewModifyRequest(w.result.DN, []ldap.Control{ldap.NewControlString(permissiveModify, false, "")})
	if len(add) > 0 {
		request.Add(w.place.Member, add)
	}
	if len(remove) > 0 {
		request.Delete(w.place.Member, remove)
	}
	return request
}

// forbidden tells whether the account may change no member at all, by trying two.
func (w *groupWriter) forbidden(add, remove []string) bool {
	names := slices.Concat(add, remove)
	for i, name := range []string{names[0], names[len(names)-1]} {
		request := w.memberRequest(nil, []string{name})
		if adds := i == 0 && len(add) > 0 || len(remove) == 0; adds {
			request = w.memberRequest([]string{name}, nil)
		}
		if err := w.session.conn.Modify(request); !ldap.IsErrorWithCode(err, ldap.LDAPResultInsufficientAccessRights) {
			return false
		}
	}
	return true
}

// halves sends what was refused in two parts, additions before removals.
func (w *groupWriter) halves(add, remove []string) error {
	type part struct{ add, remove []string }
	parts := []part{{add, nil}, {nil, remove}}
	switch {
	case len(remove) == 0:
		parts = []part{{add[:len(add)/2], nil}, {add[len(add)/2:], nil}}
	case len(add) == 0:
		parts = []part{{nil, remove[:len(remove)/2]}, {nil, remove[len(remove)/2:]}}
	}
	for _, p := range parts {
		if err := w.changeMembers(p.add, p.remove); err != nil {
			return err
		}
	}
	return nil
}

// readBack reads the entry as it was made.
func (w *groupWriter) readBack(ctx context.Context) error {
	d := dialectOf(w.place.Dialect)
	request := search(w.result.DN, "(objectClass=*)", wanted(Request{Attributes: w.place.Attributes}, identified(d, "objectSid", w.place.Member)...))
	request.Scope = ldap.ScopeBaseObject
	result, err := w.session.conn.Search(request)
	if err != nil || len(result.Entries) != 1 {
		return refused(errOr(err, "it is not to be seen"), "read %s", w.result.DN)
	}
	raw := result.Entries[0]
	id, err := idOf(raw, d.ids())
	if err != nil {
		return badID(raw.DN, err)
	}
	w.result.DN, w.result.SID = raw.DN, sidText(raw.GetRawAttributeValue("objectSid"))
	raw.Attributes = slices.DeleteFunc(raw.Attributes, func(a *ldap.EntryAttribute) bool {
		return a.Name == "objectSid" && !asksFor(Request{Attributes: w.place.Attributes}, a.Name)
	})
	w.result.Entry, err = w.session.convert(ctx, entry.Group, id, raw)
	return err
}

// said makes of what the directory answers to a write a problem that says what it means.
func (w *groupWriter) said(err error, doing string, facts ...any) error {
	if err == nil {
		return nil
	}
	code := problem.CloudGroupRefused
	switch text := strings.ToLower(err.Error()); {
	case ldap.IsErrorWithCode(err, ldap.ErrorNetwork):
		code = problem.DirectoryUnreachable
	case ldap.IsErrorWithCode(err, ldap.LDAPResultInsufficientAccessRights):
		code = problem.RightMissing
	case ldap.IsErrorAnyOf(err, ldap.LDAPResultUndefinedAttributeType, ldap.LDAPResultObjectClassViolation, ldap.LDAPResultNoSuchAttribute) && strings.Contains(text, strings.ToLower(w.place.Mark)):
		code = problem.CloudGroupMark
	case ldap.IsErrorWithCode(err, ldap.LDAPResultEntryAlreadyExists):
		if holder := w.holder(); holder != "" {
			p := problem.Of(problem.CloudGroupNameTaken, problem.Facts{Value: w.change.DN, Entries: []problem.Entry{{Name: holder}}})
			p.Cause = err
			return p
		}
	}
	p := problem.Wrap(code, plain(err), doing, facts...)
	p.Cause = err
	return p
}

// holder finds who has a name that the group would get, "" where nobody is to be seen.
func (w *groupWriter) holder() string {
	request := search(w.change.DN, "(objectClass=*)", []string{"1.1"})
	request.Scope = ldap.ScopeBaseObject
	if result, err := w.session.conn.Search(request); err == nil && len(result.Entries) == 1 && result.Entries[0].DN != w.result.DN {
		return result.Entries[0].DN
	}
	account := w.change.Values.First("sAMAccountName")
	if account == "" {
		return ""
	}
	result, err := w.session.conn.Search(search(w.place.Base, "(sAMAccountName="+ldap.EscapeFilter(account)+")", []string{"1.1"}))
	if err != nil {
		return ""
	}
	for _, e := range result.Entries {
		if e.DN != w.result.DN {
			return e.DN + " (account name " + account + ")"
		}
	}
	return ""
}

// sidText writes a security identifier as people know it ([MS-DTYP] section 2.4.2.1).
func sidText(octets []byte) string {
	if len(octets) < 8 || len(octets) != 8+4*int(octets[1]) {
		return ""
	}
	authority := uint64(0)
	for _, octet := range octets[2:8] {
		authority = authority<<8 | uint64(octet)
	}
	text := fmt.Sprintf("S-%d-%d", octets[0], authority)
	for at := 8; at < len(octets); at += 4 {
		text += "-" + strconv.FormatUint(uint64(octets[at])|uint64(octets[at+1])<<8|uint64(octets[at+2])<<16|uint64(octets[at+3])<<24, 10)
	}
	return text
}
