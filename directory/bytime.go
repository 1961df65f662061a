package directory

import (
	"bytes"
	"context"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/go-ldap/ldap/v3"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/problem"
)

const (
	// overlap is how far back changes are read again, by the server's clock: an entry may
	// have been changed in the second of the last read, or come late from another server.
	overlap = time.Minute
	// idPage is how many entries are asked for at once (RFC 2696).
	idPage = 1000
	// stampForm is generalized time (RFC 4517 section 3.3.13) as servers write it.
	stampForm = "20060102150405Z"
)

// byTime is the cookie of a directory that does not tell what changed: what was changed
// when, by its own clock.
type byTime struct {
	Newest string `json:"newest"` // the newest modifyTimestamp that was seen
	Seen   int64  `json:"seen"`   // when it was seen first, by the agent's clock
	// Settled: it was looked for again so long after that nothing more can come of its
	// time.
	Settled bool `json:"settled,omitempty"`
}

var byTimeMark = []byte("modifyTimestamp ")

func readByTimeCookie(cookie []byte) (byTime, error) {
	var c byTime
	text, _ := bytes.CutPrefix(cookie, byTimeMark)
	if err := json.Unmarshal(text, &c); err != nil {
		return c, errors.Join(errNoCookie, err)
	}
	_, err := time.Parse(stampForm, c.Newest)
	return c, err
}

func (c byTime) cookie() ([]byte, error) {
	text, err := json.Marshal(c)
	return append(bytes.Clone(byTimeMark), text...), err
}

// since is from when on changes are read.
func (c byTime) since() string {
	newest, _ := time.Parse(stampForm, c.Newest) // read by readByTimeCookie
	if c.Settled {
		return newest.Add(time.Second).Format(stampForm)
	}
	return newest.Add(-overlap).Format(stampForm)
}

// next is the cookie after a read that has seen newest.
func (c byTime) next(newest string, now time.Time) byTime {
	if newest > c.Newest {
		return byTime{Newest: newest, Seen: now.Unix()}
	}
	c.Settled = c.Settled || now.Sub(time.Unix(c.Seen, 0)) > overlap
	return c
}

// notOffered tells that a server has no content synchronization (RFC 4533).
func notOffered(err error) bool {
	return ldap.IsErrorAnyOf(err, ldap.LDAPResultUnavailableCriticalExtension)
}

// readByTime reads what was changed since the last time, by modifyTimestamp (RFC 4512
// section 3.4.3), and the ids of all entries, since what was deleted is told nowhere.
// Where entries have no such time, everything is read, and no cookie comes back.
func (s *Session) readByTime(ctx context.Context, r Request, base entry.DN, emit func(Item) error) (Result, error) {
	var before byTime
	filter := standardFilter
	if len(r.Cookie) > 0 {
		var err error
		if before, err = readByTimeCookie(r.Cookie); err != nil {
			return Result{}, err
		}
		filter = "(&" + standardFilter + "(modifyTimestamp>=" + before.since() + "))"
	}
	newest, stamped := before.Newest, true
	err := s.stamped(ctx, r, base, filter, func(stamp string) {
		if stamp == "" {
			stamped = false
		}
		newest = max(newest, stamp)
	}, emit)
	if err != nil {
		return Result{}, err
	}
	if len(r.Cookie) > 0 {
		if err := s.present(ctx, r, base, emit); err != nil {
			return Result{}, err
		}
	}
	if !stamped || newest == "" {
		return Result{Complete: true}, nil
	}
	cookie, err := before.next(newest, time.Now()).cookie()
	return Result{Cookie: cookie, Complete: true}, err
}

// CrossCheck sends the entries that were changed from a time on, but for the last
// moments, and names all that are there: what reads of changes should have told already.
// A directory that works by times itself needs none.
func (s *Session) CrossCheck(ctx context.Context, r Request, since time.Time, emit func(Item) error) error {
	base, err := entry.ParseDN(r.Base)
	if err != nil {
		return problem.Wrap(problem.BadInput, err, "base of the directory")
	}
	until := time.Now().Add(-overlap)
	filter := fmt.Sprintf("(&%s(modifyTimestamp>=%s)(modifyTimestamp<=%s))", standardFilter, since.UTC().Format(stampForm), until.UTC().Format(stampForm))
	if err := s.stamped(ctx, r, base, filter, func(string) {}, emit); err != nil {
		return err
	}
	return s.present(ctx, r, base, emit)
}

// Tracked tells whether a cookie is one of content synchronization, on which the
// directory is relied to tell all changes.
func Tracked(dialect entry.Dialect, cookie []byte) bool {
	return dialect != entry.AD && len(cookie) > 0 && !bytes.HasPrefix(cookie, byTimeMark)
}

// stamped sends the entries that a filter keeps, and tells when each was changed, "" where
// that cannot be read.
func (s *Session) stamped(ctx context.Context, r Request, base entry.DN, filter string, tell func(stamp string), emit func(Item) error) error {
	d := dialectOf(r.Dialect)
	return s.pages(ctx, base.String(), filter, wanted(r, identified(d, "member", "uniqueMember", "modifyTimestamp")...), func(raw *ldap.Entry) error {
		stamp, _, _ := strings.Cut(raw.GetAttributeValue("modifyTimestamp"), ".")
		stamp = strings.TrimSuffix(stamp, "Z") + "Z"
		if _, err := time.Parse(stampForm, stamp); err != nil {
			stamp = ""
		}
		tell(stamp)
		if !asksFor(r, "modifyTimestamp") {
			drop(raw, "modifyTimestamp")
		}
		kind := kindOf(raw.GetAttributeValues("objectClass"))
		if kind == "" {
			return nil
		}
		id, err := idOf(raw, d.ids())
		if err != nil {
			return badID(raw.DN, err)
		}
		e, err := s.convert(ctx, kind, id, raw)
		if errors.Is(err, errVanished) {
			return nil
		}
		if err != nil {
			return err
		}
		return emit(Item{Entry: e})
	})
}

// present names every entry that is there.
func (s *Session) present(ctx context.Context, r Request, base entry.DN, emit func(Item) error) error {
	d := dialectOf(r.Dialect)
	var ids []entry.ID
	flush := func() error {
		part := ids
		ids = nil
		return emit(Item{Present: part})
	}
	err := s.pages(ctx, base.String(), standardFilter, d.ids(), func(raw *ldap.Entry) error {
		id, err := idOf(raw, d.ids())
		if err != nil {
			return badID(raw.DN, err)
		}
		if ids = append(ids, id); len(ids) < idPage {
			return nil
		}
		return flush()
	})
	if err != nil {
		return err
	}
	return flush()
}

// idOf is the lasting id of an entry, by the first of some attributes that it has: its
// objectGUID, its entryUUID (RFC 4530), or the nsUniqueId of servers that have that instead.
func idOf(raw *ldap.Entry, attributes []string) (entry.ID, error) {
	for _, name := range attributes {
		value := raw.GetRawAttributeValue(name)
		if len(value) == 0 {
			continue
		}
		switch name {
		case "objectGUID":
			return entry.IDFromObjectGUID(value)
		case "entryUUID":
			return entry.NewID(string(value))
		}
		id, err := hex.DecodeString(strings.ReplaceAll(string(value), "-", ""))
		if err != nil || len(id) != len(entry.ID{}) {
			return entry.ID{}, fmt.Errorf("%s %q is no id", name, value)
		}
		return entry.ID(id), nil
	}
	return entry.ID{}, errors.New("it has no " + strings.Join(attributes, " and no ") + " that the account may read")
}

// pages searches by the page, so that a limit on the size of an answer does not cut it
// short (RFC 2696); what a server ends before its end is an error.
func (s *Session) pages(ctx context.Context, base, filter string, attributes []string, each func(*ldap.Entry) error) error {
	paging := ldap.NewControlPaging(idPage)
	for {
		request := search(base, filter, attributes)
		request.Controls = []ldap.Control{paging}
		next, err := s.page(ctx, request, each)
		if err != nil || len(next) == 0 {
			return err
		}
		paging.SetCookie(next)
	}
}

// page reads one page, and returns where the next begins.
func (s *Session) page(ctx context.Context, request *ldap.SearchRequest, each func(*ldap.Entry) error) (next []byte, err error) {
	response := s.stream(ctx, func(ctx context.Context) ldap.Response { return s.conn.SearchAsync(ctx, request, 256) })
	defer response.end()
	for response.Next() {
		for _, control := range response.Controls() {
			if page, ok := control.(*ldap.ControlPaging); ok {
				next = page.Cookie
			}
		}
		if raw := response.Entry(); raw != nil {
			if err := each(raw); err != nil {
				return nil, err
			}
		}
	}
	if err := response.Err(); err != nil {
		return nil, refused(err, "read %s", request.BaseDN)
	}
	return next, ctx.Err()
}
