package directory

import (
	"context"

	"github.com/go-ldap/ldap/v3"

	"kambrel.example/kambrel/core/entry"
)

// ds389 is the dialect of 389 Directory Server and its kin: an id, a lock and a watch of their
// own, the standards otherwise.
type ds389 struct{ standard }

// ids are not entryUUID: this server gives that to some entries and not to others, and to all
// once somebody has it mended, when everybody would be somebody else.
func (ds389) ids() []string { return []string{"nsUniqueId"} }

func (ds389) byID(id entry.ID) string { return "(nsUniqueId=" + id.NSUniqueID() + ")" }

// controlPersistentSearch leaves a search open and answers it with each entry that changes
// (draft-ietf-ldapext-psearch-03 section 4); the value asks for all sorts of changes, and for
// nothing of what is there already.
const (
	controlPersistentSearch = "2.16.840.1.113730.3.4.3"
	allChanges              = "\x30\x09\x02\x01\x0f\x01\x01\xff\x01\x01\x00"
)

func (ds389) watch(ctx context.Context, s *Session, base entry.DN) (ldap.Response, error) {
	request := search(base.String(), "(objectClass=*)", []string{"1.1"})
	request.Controls = []ldap.Control{ldap.NewControlString(controlPersistentSearch, true, allChanges)}
	return s.conn.SearchAsync(ctx, request, watchBuffer), nil
}

func (ds389) standing() []string { return []string{"nsAccountLock"} }

func (ds389) locks() []string { return []string{"accountUnlockTime", "passwordRetryCount"} }

// unlock takes the lock away by what makes it, too: without the count, one wrong password
// would lock again.
func (ds389) unlock(a Account) *ldap.ModifyRequest {
	if !a.locked {
		return nil
	}
	request := ldap.NewModifyRequest(a.DN, nil)
	request.Replace("accountUnlockTime", []string{})
	request.Replace("passwordRetryCount", []string{"0"})
	return request
}

// setPassword resets by a plain modification: to that the server says what the policy lacks, to
// RFC 3062 only that it was not to be. A password that must be changed is let run out, which
// is how this server asks for another one.
func (ds389) setPassword(s *Session, a Account, p NewPassword) (note string, err error) {
	const runsOut, longAgo = "passwordExpirationTime", "19700101000000Z"
	if p.Old != "" {
		return s.setByExtension(a, p, runsOut, longAgo)
	}
	request := ldap.NewModifyRequest(a.DN, nil)
	request.Replace("userPassword", []string{p.New.Reveal()})
	if err := s.conn.Modify(request); err != nil {
		return "", s.worked(a, p, s.why(err))
	}
	return s.mustChange(a, p, runsOut, longAgo), nil
}

func (ds389) marks() []string { return []string{"pwdUpdateTime", "modifyTimestamp"} }

func (ds389) passwordSet(since string) string {
	return "(&" + standardUsers + "(modifyTimestamp>=" + sinceOrEver(since) + "))"
}
