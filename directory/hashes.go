package directory

import (
	"context"
	"strings"
	"time"

	"github.com/go-ldap/ldap/v3"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/password"
	"kambrel.example/kambrel/core/problem"
)

// PasswordMark is when somebody's password was set last, in the directory's own form: a time,
// and behind a space what tells two changes of the same time apart. The time alone is that
// since which changes are asked for.
type PasswordMark struct {
	ID   entry.ID
	Mark string
}

// marksAtOnce is how many come on a page.
const marksAtOnce = 500

// PasswordMarks lists whose password was set at a mark or after it, "" for everybody.
func (s *Session) PasswordMarks(ctx context.Context, dialect entry.Dialect, base, since string, emit func(PasswordMark) error) error {
	ways := dialectOf(dialect)
	result, err := s.conn.SearchWithPaging(search(base, ways.passwordSet(ldap.EscapeFilter(since)), identified(ways, append(ways.marks(), "entryCSN")...)), marksAtOnce)
	if err != nil {
		return refused(err, "ask whose password was set")
	}
	for _, raw := range result.Entries {
		id, err := idOf(raw, ways.ids())
		if err != nil {
			return badID(raw.DN, err)
		}
		if err := emit(PasswordMark{id, markOf(ways, raw)}); err != nil {
			return err
		}
	}
	return ctx.Err()
}

func markOf(d dialect, raw *ldap.Entry) string {
	for _, name := range d.marks() {
		if mark := raw.GetAttributeValue(name); mark != "" {
			// Timestamps are in seconds, in which a password can be set twice; the change
			// sequence number tells that.
			return strings.TrimSpace(mark + " " + raw.GetAttributeValue("entryCSN"))
		}
	}
	return ""
}

// Stored is a password as the directory keeps it, of one entry.
type Stored struct {
	PasswordMark
	Inner password.Inner
	// Read is a time before it was read: it was so then, whatever has been set since.
	Read time.Time
	// Fault is why no digest can be made of it, "" mostly.
	Fault string
}

// StoredPasswords reads how the directory keeps passwords. The dialect ad tells that over
// the controller's privileged local socket alone, the others whoever may read
// userPassword.
func (s *Session) StoredPasswords(dialect entry.Dialect, base string, ids []entry.ID, emit func(Stored) error) error {
	ways := dialectOf(dialect)
	attribute := ways.stored()
	for _, id := range ids {
		before := time.Now()
		raw, err := s.byID(dialect, base, id, identified(ways, append(ways.marks(), "entryCSN", attribute)...)...)
		if problem.CodeOf(err) == problem.NotFound {
			continue
		}
		if err != nil {
			return err
		}
		one := Stored{PasswordMark: PasswordMark{id, markOf(ways, raw)}, Read: before}
		values := raw.GetRawAttributeValues(attribute)
		switch {
		case len(values) == 0:
			one.Fault = attribute + " cannot be read, or the person has no password"
		case dialect == entry.AD:
			one.Inner, err = password.NT(values[0])
		default:
			one.Inner, err = password.UserPassword(values[0])
		}
		if err != nil {
			one.Fault = err.Error()
		}
		if err := emit(one); err != nil {
			return err
		}
	}
	return nil
}

// OpenLocal opens a controller's privileged local socket, which lets in whoever the system
// lets open it.
func OpenLocal(url string) (*Session, error) {
	if !strings.HasPrefix(url, "ldapi://") {
		return nil, problem.New(problem.BadInput, "%s is no local socket: write ldapi:// and its path, as in ldapi:///var/lib/samba/private/ldap_priv/ldapi", url)
	}
	conn, err := ldap.DialURL(url)
	if err != nil {
		return nil, problem.Wrap(problem.DirectoryUnreachable, plain(err), "%s: open the local socket", url)
	}
	conn.SetTimeout(requestTimeout)
	return &Session{conn: conn, connection: Connection{URL: url}}, nil
}
