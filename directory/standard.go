package directory

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"regexp"
	"strings"

	"github.com/go-ldap/ldap/v3"

	"kambrel.example/kambrel/core/entry"
)

const (
	standardUsers  = "(objectClass=person)"
	standardGroups = "(objectClass=groupOfNames)(objectClass=groupOfUniqueNames)(objectClass=groupOfMembers)"
	standardFilter = "(|" + standardUsers + standardGroups + "(objectClass=organizationalUnit)(objectClass=organization)(objectClass=locality))"
)

// standard is the dialect of servers that keep to the standards, OpenLDAP foremost.
type standard struct{}

func (standard) everything() string { return standardFilter }

func (standard) ofKind(kind entry.Kind) string {
	return map[entry.Kind]string{entry.User: standardUsers, entry.Group: "(|" + standardGroups + ")"}[kind]
}

func (standard) logins() []string { return []string{"uid"} }

func (standard) names() []string { return []string{"uid", "mail", "cn"} }

// ids begins with entryUUID: there are servers whose entries have the other one instead.
func (standard) ids() []string { return []string{"entryUUID", "nsUniqueId"} }

func (standard) byID(id entry.ID) string {
	return "(|(entryUUID=" + id.String() + ")(nsUniqueId=" + id.NSUniqueID() + "))"
}

// neverUnlocks stands in pwdAccountLockedTime of who was locked for good (draft Behera
// section 5.3.3): disabled, in other words.
const neverUnlocks = "000001010000Z"

func (standard) standing() []string { return []string{"pwdAccountLockedTime", "nsAccountLock"} }

func (standard) disabled(found *ldap.Entry) bool {
	return found.GetAttributeValue("pwdAccountLockedTime") == neverUnlocks || strings.EqualFold(found.GetAttributeValue("nsAccountLock"), "true")
}

func (standard) locks() []string { return []string{"pwdAccountLockedTime"} }

func (standard) unlock(a Account) *ldap.ModifyRequest {
	if !a.locked {
		return nil
	}
	request := ldap.NewModifyRequest(a.DN, nil)
	request.Delete("pwdAccountLockedTime", []string{})
	return request
}

func (standard) stored() string { return "userPassword" }

func (standard) marks() []string { return []string{"pwdChangedTime", "modifyTimestamp"} }

// passwordSet also finds who was changed otherwise: without a password policy nothing else is
// told.
func (standard) passwordSet(since string) string {
	since = sinceOrEver(since)
	return "(&" + standardUsers + "(|(pwdChangedTime>=" + since + ")(modifyTimestamp>=" + since + ")))"
}

func sinceOrEver(since string) string { return cmp.Or(since, "19700101000000Z") }

func (standard) setPassword(s *Session, a Account, p NewPassword) (note string, err error) {
	return s.setByExtension(a, p, "pwdReset", "TRUE")
}

// setByExtension sets a password by RFC 3062; the value of the attribute lets another one be
// asked for at the next sign-in.
func (s *Session) setByExtension(a Account, p NewPassword, attribute, value string) (note string, err error) {
	if _, err := s.conn.Extended(passwordModify(a.DN, p)); err != nil {
		return "", s.worked(a, p, ofControl(err, s.why(err)))
	}
	return s.mustChange(a, p, attribute, value), nil
}

// mustChange asks for another password at the next sign-in, where that is wanted.
func (s *Session) mustChange(a Account, p NewPassword, attribute, value string) (note string) {
	if !p.MustChange {
		return ""
	}
	request := ldap.NewModifyRequest(a.DN, nil)
	request.Replace(attribute, []string{value})
	if err := s.conn.Modify(request); err != nil {
		return "it is set, but the directory does not take that it must be changed at the next sign-in: " + plain(err).Error()
	}
	return ""
}

// watch begins at what the directory has now (RFC 4533, refreshAndPersist), so that nothing
// is sent twice.
func (standard) watch(ctx context.Context, s *Session, base entry.DN) (ldap.Response, error) {
	now, err := s.stateNow(base)
	if err != nil {
		return nil, err
	}
	return s.conn.Syncrepl(ctx, search(base.String(), standardFilter, []string{"1.1"}), watchBuffer, ldap.SyncRequestModeRefreshAndPersist, now, false), nil
}

// stateNow is the cookie of how a directory is now, as its contextCSN tells it.
func (s *Session) stateNow(base entry.DN) ([]byte, error) {
	numbers, err := s.shown(base.String(), "contextCSN")
	return []byte("rid=000,csn=" + strings.Join(numbers, ";")), err
}

func (standard) look(s *Session, base entry.DN) look { return s.lookByTime(base) }

// errNoCookie is what some servers do with a cookie that is not theirs: they
// send everything as if it were new, and no cookie to go on from.
var errNoCookie = errors.New("the directory sent changes without a cookie")

// read reads by content synchronization, and by the times of changes where the
// server has none.
func (standard) read(ctx context.Context, s *Session, r Request, base entry.DN, emit func(Item) error) (Result, error) {
	if bytes.HasPrefix(r.Cookie, byTimeMark) {
		return s.readByTime(ctx, r, base, emit)
	}
	result, err := s.readStandard(ctx, r, base, emit)
	if err != nil && len(r.Cookie) == 0 && notOffered(err) {
		return s.readByTime(ctx, r, base, emit)
	}
	return result, err
}

// readStandard reads by content synchronization in refreshOnly mode (RFC 4533
// section 3.3). The server chooses between naming what was deleted and naming
// all that is still present; both are passed on as they come. Where what was neither sent
// nor named would be taken for deleted, a plain search is asked as well: a server that
// was killed may come back with the state of some time before as the newest that it
// tells of, and leaves out all that was changed since, although it has it; that is fetched
// by the numbers of its changes.
func (s *Session) readStandard(ctx context.Context, r Request, base entry.DN, emit func(Item) error) (Result, error) {
	result, err := s.synchronized(ctx, r, base, emit)
	if err != nil || !result.Complete {
		return result, err
	}
	if newest := newestNumber(result.Cookie); newest != "" {
		filter := "(&" + standardFilter + "(entryCSN>=" + newest + "))"
		if err := s.stamped(ctx, r, base, filter, func(string) {}, emit); err != nil {
			return Result{}, err
		}
	}
	return result, s.present(ctx, r, base, emit)
}

// changeNumber is a change sequence number as OpenLDAP writes it into cookies and entryCSN:
// time, count, server and count within the change.
var changeNumber = regexp.MustCompile(`[0-9]{14}\.[0-9]{6}Z#[0-9a-f]{6}#[0-9a-f]{3}#[0-9a-f]{6}`)

// newestNumber is the newest change that a cookie tells of, "" where it is of a server that
// writes others.
func newestNumber(cookie []byte) (newest string) {
	for _, number := range changeNumber.FindAllString(string(cookie), -1) {
		newest = max(newest, number)
	}
	return newest
}

func (s *Session) synchronized(ctx context.Context, r Request, base entry.DN, emit func(Item) error) (Result, error) {
	request := search(base.String(), standardFilter, wanted(r, "objectClass", "member", "uniqueMember"))
	response := s.stream(ctx, func(ctx context.Context) ldap.Response {
		return s.conn.Syncrepl(ctx, request, 256, ldap.SyncRequestModeRefreshOnly, r.Cookie, false)
	})
	defer response.end()
	// An answer without any change also ends with refreshDeletes FALSE; only
	// where something was named as present may the rest be taken for deleted.
	first, present, changed := len(r.Cookie) == 0, false, false
	for response.Next() {
		for _, control := range response.Controls() {
			switch c := control.(type) {
			case *ldap.ControlSyncDone:
				cookie := c.Cookie
				if len(cookie) == 0 {
					if changed {
						return Result{}, errNoCookie
					}
					cookie = r.Cookie
				}
				return Result{Cookie: cookie, Complete: first || present && !c.RefreshDeletes}, nil
			case *ldap.ControlSyncInfo:
				present = present || c.SyncIdSet != nil && !c.SyncIdSet.RefreshDeletes
				if err := emitSet(c.SyncIdSet, emit); err != nil {
					return Result{}, err
				}
			case *ldap.ControlSyncState:
				present = present || c.State == ldap.SyncStatePresent
				changed = changed || c.State != ldap.SyncStatePresent
				if err := s.emitState(ctx, c, response.Entry(), emit); err != nil {
					return Result{}, err
				}
			}
		}
	}
	if err := response.Err(); err != nil {
		return Result{}, refused(err, "read changes of %s", r.Base)
	}
	if ctx.Err() != nil {
		return Result{}, ctx.Err()
	}
	return Result{}, noEnd(r)
}

// offersSync tries content synchronization and reads no more than the first answer.
func (s *Session) offersSync(ctx context.Context, base string) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	request := search(base, "(objectClass=*)", []string{"1.1"})
	request.Scope = ldap.ScopeBaseObject
	response := s.conn.Syncrepl(ctx, request, 1, ldap.SyncRequestModeRefreshOnly, nil, false)
	for response.Next() {
	}
	return refusedOrNil(response.Err(), "try content synchronization of %s", base)
}

func refusedOrNil(err error, format string, facts ...any) error {
	if err == nil {
		return nil
	}
	return refused(err, format, facts...)
}

// probeChanges tries which way the directory tells what changed. It asks: some servers name the
// control of RFC 4533 and refuse it all the same.
func (standard) probeChanges(ctx context.Context, p *probe) {
	err := p.session.offersSync(ctx, p.request.Base)
	if err == nil {
		p.good(StepChanges, "", "content synchronization (RFC 4533): a run reads just what changed")
		return
	}
	if !notOffered(err) {
		p.bad(StepChanges, "", err, "Allow the account content synchronization below the base.")
		return
	}
	request := search(p.request.Base, standardFilter, identified(dialectOf(p.request.Dialect), "modifyTimestamp"))
	request.SizeLimit = 1
	result, err := p.session.conn.Search(request)
	switch {
	case err != nil && !ldap.IsErrorWithCode(err, ldap.LDAPResultSizeLimitExceeded):
		p.bad(StepChanges, "", err, "Allow the account to read below the base.")
		return
	case result == nil || len(result.Entries) == 0:
		p.tell(Verdict{StepChanges, "", Doubtful, "there is nothing to be seen below the base by which to tell", "Allow the account to read below the base."})
		return
	}
	advice := "Nothing has to be done. Content synchronization costs less where it can be switched on; with OpenLDAP that is the overlay syncprov."
	if _, err := idOf(result.Entries[0], dialectOf(p.request.Dialect).ids()); err != nil {
		p.bad(StepChanges, "", err, "Allow the account to read entryUUID (RFC 4530), by which entries are known whatever they are called.")
		return
	}
	if result.Entries[0].GetAttributeValue("modifyTimestamp") == "" {
		p.tell(Verdict{StepChanges, "", Doubtful, "no content synchronization (RFC 4533), and no modifyTimestamp to be read: each run reads everything, and writes what differs", "Allow the account to read modifyTimestamp, or switch content synchronization on."})
		return
	}
	p.tell(Verdict{StepChanges, "", Good, "no content synchronization (RFC 4533): a run reads what was changed since the last one by modifyTimestamp, and the ids of all entries to see what was deleted", advice})
}

func emitSet(set *ldap.ControlSyncInfoSyncIdSet, emit func(Item) error) error {
	if set == nil {
		return nil
	}
	ids := make([]entry.ID, len(set.SyncUUIDs))
	for i, id := range set.SyncUUIDs {
		ids[i] = entry.ID(id)
	}
	if !set.RefreshDeletes {
		return emit(Item{Present: ids})
	}
	for _, id := range ids {
		if err := emit(Item{Gone: &id}); err != nil {
			return err
		}
	}
	return nil
}

func (s *Session) emitState(ctx context.Context, state *ldap.ControlSyncState, raw *ldap.Entry, emit func(Item) error) error {
	id := entry.ID(state.EntryUUID)
	switch state.State {
	case ldap.SyncStateDelete:
		return emit(Item{Gone: &id})
	case ldap.SyncStatePresent:
		return emit(Item{Present: []entry.ID{id}})
	}
	kind := kindOf(raw.GetAttributeValues("objectClass"))
	if kind == "" {
		return nil
	}
	e, err := s.convert(ctx, kind, id, raw)
	if errors.Is(err, errVanished) {
		return nil
	}
	if err != nil {
		return err
	}
	return emit(Item{Entry: e})
}
