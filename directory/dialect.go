package directory

import (
	"context"
	"slices"

	"github.com/go-ldap/ldap/v3"

	"kambrel.example/kambrel/core/entry"
)

// dialect is what servers of one dialect do in their own way, and what the rest of the package
// asks of them. Each has a file of its own; TestContract and the tests beside it hold all of
// them to the same, each against a real server. docs/dialects.md tells how to add one.
type dialect interface {
	// everything is the filter that keeps people, groups, contacts and what can contain them;
	// ofKind that of one kind, "" where the dialect has none.
	everything() string
	ofKind(entry.Kind) string
	// logins are the attributes by which people sign in, the one that names them first; names
	// those by which an entry is looked for.
	logins() []string
	names() []string
	// ids are the attributes of which one is an entry's lasting id, the one that counts first;
	// byID is the filter that finds an entry by it.
	ids() []string
	byID(entry.ID) string

	// read reads everything or what changed, see Session.Read.
	read(context.Context, *Session, Request, entry.DN, func(Item) error) (Result, error)
	// watch sends a search that stays open, or is ErrNotWatched; look asks instead.
	watch(context.Context, *Session, entry.DN) (ldap.Response, error)
	look(*Session, entry.DN) look
	// probeChanges tries by which way changes are told.
	probeChanges(context.Context, *probe)

	// standing are the attributes that tell whether an account may sign in; disabled says that
	// it may not until an administrator lets it.
	standing() []string
	disabled(*ldap.Entry) bool
	// setPassword sets a password; the error is a *password.Refusal.
	setPassword(*Session, Account, NewPassword) (note string, err error)
	// locks are the attributes by which an account is locked for a while; unlock is the change
	// that takes this away, nil where nothing has to be.
	locks() []string
	unlock(Account) *ldap.ModifyRequest
	// stored is the attribute of stored passwords, marks those that tell when one was set, the
	// surest first; passwordSet is the filter for who has one set since a mark, "" for ever.
	stored() string
	marks() []string
	passwordSet(since string) string
}

var dialects = map[entry.Dialect]dialect{entry.AD: ad{}, entry.Standard: standard{}, entry.DS389: ds389{}}

// dialectOf is the dialect of a name; one that is not known is taken to keep to the standards.
func dialectOf(name entry.Dialect) dialect {
	if known := dialects[name]; known != nil {
		return known
	}
	return standard{}
}

// identified are the attributes that tell what an entry is and which, and more.
func identified(d dialect, more ...string) []string {
	return slices.Concat([]string{"objectClass"}, d.ids(), more)
}
