package directory

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"github.com/go-ldap/ldap/v3"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/problem"
)

// Request asks for everything (Cookie is nil) or for what changed since.
type Request struct {
	Dialect    entry.Dialect
	Base       string
	Attributes []string // what settings need; identity is always read
	Cookie     []byte
	// Expected are attributes that entries are known to have, and Hidden those of which
	// the last read has seen nothing; of the latter everything is read again once they
	// can be seen.
	Expected, Hidden []string
}

// Item is one thing a read found: exactly one of its fields is set.
type Item struct {
	Entry *entry.Entry
	// Gone is the id of an entry that was deleted.
	Gone *entry.ID
	// Present lists ids of entries that exist unchanged.
	Present []entry.ID
	// Restart says that everything is being read from the start, because the
	// cookie was refused: what came before does not count.
	Restart bool
	// Hidden is an expected attribute that nobody has as far as can be seen; it comes
	// before the first entry without it.
	Hidden string
}

// Result is what a read ends with.
type Result struct {
	// Cookie is for the next read of changes.
	Cookie []byte
	// Complete says that every entry was either sent or named as present, so
	// that what was neither is gone.
	Complete bool
}

// Read streams what the request asks for, in the order the directory gives it.
// A cookie that has expired or is refused leads to a full read by itself. An
// error of emit ends the read and is returned as it is.
func (s *Session) Read(ctx context.Context, r Request, emit func(Item) error) (Result, error) {
	base, err := entry.ParseDN(r.Base)
	if err != nil {
		return Result{}, problem.Wrap(problem.BadInput, err, "base of the directory")
	}
	watch := &hiding{session: s, base: r.Base, open: r.Expected, emit: emit}
	whole := emit
	emit = func(item Item) error { return watch.item(ctx, item) }
	for _, name := range r.Hidden {
		seen, err := s.sees(ctx, r.Base, name)
		if err != nil {
			return Result{}, err
		}
		watch.open = slices.DeleteFunc(slices.Clone(watch.open), func(one string) bool { return one == name })
		item := Item{Hidden: name}
		if seen { // what changed meanwhile was not told
			if len(r.Cookie) == 0 {
				continue
			}
			r.Cookie, item = nil, Item{Restart: true}
		}
		if err := whole(item); err != nil {
			return Result{}, err
		}
	}
	read := dialectOf(r.Dialect).read
	result, err := read(ctx, s, r, base, emit)
	if err != nil && len(r.Cookie) > 0 && cookieRefused(err) {
		if err := emit(Item{Restart: true}); err != nil {
			return Result{}, err
		}
		r.Cookie = nil
		result, err = read(ctx, s, r, base, emit)
	}
	if err == nil && ctx.Err() != nil {
		return Result{}, ctx.Err()
	}
	return result, err
}

// baseSeen tells whether the base is there, as far as the account can see.
func (s *Session) baseSeen(base string) (bool, error) {
	result, err := s.conn.Search(&ldap.SearchRequest{BaseDN: base, Scope: ldap.ScopeBaseObject, Filter: "(objectClass=*)", Attributes: []string{"1.1"}})
	if ldap.IsErrorAnyOf(err, ldap.LDAPResultNoSuchObject, ldap.LDAPResultReferral) {
		return false, nil
	}
	return err == nil && len(result.Entries) == 1, err
}

// cookieRefused tells errors that a full read can heal: e-syncRefreshRequired
// (RFC 4533 section 5) and what servers answer to a cookie they cannot read.
func cookieRefused(err error) bool {
	return errors.Is(err, errNoCookie) || ldap.IsErrorAnyOf(err, ldap.LDAPResultSyncRefreshRequired, ldap.LDAPResultUnavailableCriticalExtension,
		ldap.LDAPResultProtocolError, ldap.LDAPResultUnwillingToPerform, ldap.LDAPResultOther)
}

func refused(err error, format string, facts ...any) error {
	code := problem.DirectoryRefused
	if ldap.IsErrorWithCode(err, ldap.ErrorNetwork) {
		code = problem.DirectoryUnreachable
	}
	wrapped := problem.Wrap(code, plain(err), format, facts...)
	wrapped.Cause = err
	return wrapped
}

// errVanished: the entry was deleted while it was being read. What comes next
// tells of it.
var errVanished = errors.New("deleted meanwhile")

// isText tells text from other values. Text may hold the NUL character, of which
// the service makes a problem; numbers and ids in bytes hold more than a few.
func isText(value string) bool {
	if !utf8.ValidString(value) {
		return false
	}
	n := strings.Count(value, "\x00")
	return n == 0 || n <= len(value)/4 && !strings.ContainsFunc(value, func(r rune) bool { return r != 0 && !unicode.IsPrint(r) })
}

// convert makes an entry of what LDAP sent. Values that are no text become
// base64; members of a group are kept apart from its attributes.
func (s *Session) convert(ctx context.Context, kind entry.Kind, id entry.ID, raw *ldap.Entry) (*entry.Entry, error) {
	e := &entry.Entry{ID: id, Kind: kind, DN: raw.DN, Attributes: make(entry.Attributes, len(raw.Attributes))}
	for _, attribute := range raw.Attributes {
		name, option, _ := strings.Cut(attribute.Name, ";")
		if slices.ContainsFunc(identity, func(id string) bool { return strings.EqualFold(id, name) }) || len(attribute.Values) == 0 {
			continue
		}
		if strings.EqualFold(name, "member") || strings.EqualFold(name, "uniqueMember") {
			if kind != entry.Group {
				continue
			}
			e.Members = append(e.Members, attribute.Values...)
			rest, err := s.furtherMembers(ctx, raw.DN, name, option, len(attribute.Values))
			if err != nil {
				return nil, err
			}
			e.Members = append(e.Members, rest...)
			continue
		}
		values := make([]string, len(attribute.Values))
		for i, value := range attribute.Values {
			if isText(value) {
				values[i] = value
			} else {
				values[i] = base64.StdEncoding.EncodeToString(attribute.ByteValues[i])
			}
		}
		e.Attributes[attribute.Name] = values
	}
	return e, nil
}

// furtherMembers reads the rest of a membership of which a directory has sent a
// first range only, as in "member;range=0-1499".
func (s *Session) furtherMembers(ctx context.Context, dn, name, option string, have int) ([]string, error) {
	bounds, ranged := strings.CutPrefix(strings.ToLower(option), "range=")
	if !ranged || strings.HasSuffix(bounds, "-*") {
		return nil, nil
	}
	var members []string
	for {
		request := search(dn, "(objectClass=*)", []string{fmt.Sprintf("%s;range=%d-*", name, have+len(members))})
		request.Scope = ldap.ScopeBaseObject
		result, err := s.askBeside(ctx, request)
		switch {
		case ldap.IsErrorWithCode(err, ldap.LDAPResultNoSuchObject) || err == nil && len(result.Entries) == 0:
			return nil, errVanished
		case err != nil:
			return nil, refused(err, "read the members of %s", dn)
		case len(result.Entries[0].Attributes) == 0: // fewer than when it began
			return members, nil
		}
		part := result.Entries[0].Attributes[0]
		members = append(members, part.Values...)
		if len(part.Values) == 0 || strings.HasSuffix(part.Name, "-*") {
			return members, nil
		}
	}
}

// identity are the attributes that carry identity or bookkeeping; they are not
// kept as attributes of an entry.
var identity = []string{"objectGUID", "parentGUID", "entryUUID", "nsUniqueId", "instanceType", "isDeleted"}

// kindOf reads the object classes; "" is what Kambrel does not mirror.
func kindOf(classes []string) entry.Kind {
	var kind entry.Kind
	for _, class := range classes {
		switch strings.ToLower(class) {
		case "computer":
			return ""
		case "contact":
			return entry.Contact
		case "group", "groupofnames", "groupofuniquenames", "groupofmembers":
			return entry.Group
		case "user", "person", "inetorgperson":
			kind = entry.User
		case "organizationalunit", "container", "organization", "builtindomain", "locality":
			if kind == "" {
				kind = entry.Container
			}
		}
	}
	return kind
}

func search(base, filter string, attributes []string) *ldap.SearchRequest {
	return &ldap.SearchRequest{BaseDN: base, Scope: ldap.ScopeWholeSubtree, DerefAliases: ldap.NeverDerefAliases, Filter: filter, Attributes: attributes}
}

func under(dn string, base entry.DN) bool {
	parsed, err := entry.ParseDN(dn)
	return err == nil && entry.PathUnder(parsed.Path(), base.Path())
}

func noEnd(r Request) error {
	return problem.New(problem.DirectoryUnreachable, "the connection ended while reading %s", r.Base)
}

// asksFor tells whether the request itself names an attribute.
func asksFor(r Request, name string) bool {
	return slices.ContainsFunc(r.Attributes, func(have string) bool { return strings.EqualFold(have, name) })
}

func wanted(r Request, more ...string) []string {
	names := slices.Clone(more)
	for _, name := range r.Attributes {
		if !slices.ContainsFunc(names, func(have string) bool { return strings.EqualFold(have, name) }) {
			names = append(names, name)
		}
	}
	return names
}

func badID(dn string, err error) error {
	return problem.Wrap(problem.DirectoryRefused, fmt.Errorf("read the id of %s: %w", dn, err), "the directory's answer cannot be used")
}
