package directory

import (
	"bytes"
	"context"
	"errors"
	"regexp"

	"github.com/go-ldap/ldap/v3"

	"kambrel.example/kambrel/core/entry"
)

const standardFilter = "(|(objectClass=person)(objectClass=groupOfNames)(objectClass=groupOfUniqueNames)(objectClass=groupOfMembers)(objectClass=organizationalUnit)(objectClass=organization)(objectClass=locality))"

// errNoCookie is what some servers do with a cookie that is not theirs: they
// send everything as if it were new, and no cookie to go on from.
var errNoCookie = errors.New("the directory sent changes without a cookie")

// readTracked reads by content synchronization, and by the times of changes where the
// server has none.
func (s *Session) readTracked(ctx context.Context, r Request, base entry.DN, emit func(Item) error) (Result, error) {
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
	return result, s.present(ctx, base, emit)
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
