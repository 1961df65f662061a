package directory

import (
	"context"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/go-ldap/ldap/v3"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/password"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/secret"
)

// Person is somebody who signs in, as the directory has them now.
type Person struct {
	ID       entry.ID
	DN       string
	Login    string
	Standing password.Standing
	Detail   string // of the standing, for operators
	dialect  entry.Dialect
	primary  string // the DN of the primary group, of dialect ad
}

// personAttributes are what is read of somebody who signs in.
func personAttributes(d dialect) []string {
	return identified(d, slices.Concat(d.logins(), d.standing())...)
}

// PersonOf finds somebody by login. Nobody, or several, stand as password.StandsNobody.
func (s *Session) PersonOf(dialect entry.Dialect, base, login string) (Person, error) {
	var filter strings.Builder
	for _, attribute := range dialectOf(dialect).logins() {
		filter.WriteString("(" + attribute + "=" + ldap.EscapeFilter(login) + ")")
	}
	request := search(base, "(|"+filter.String()+")", personAttributes(dialectOf(dialect)))
	request.SizeLimit = mostFetched
	result, err := s.conn.Search(request)
	if err != nil {
		return Person{}, refused(err, "look for the login %q", login)
	}
	users := slices.DeleteFunc(result.Entries, func(e *ldap.Entry) bool { return kindOf(e.GetAttributeValues("objectClass")) != entry.User })
	if len(users) != 1 {
		return Person{Standing: password.StandsNobody, Detail: strconv.Itoa(len(users)) + " entries have the login"}, nil
	}
	return s.person(dialect, base, users[0])
}

// PersonNow is somebody who was found before, by id.
func (s *Session) PersonNow(dialect entry.Dialect, base string, id entry.ID) (Person, error) {
	found, err := s.byID(dialect, base, id, personAttributes(dialectOf(dialect))...)
	if problem.CodeOf(err) == problem.NotFound {
		return Person{Standing: password.StandsNobody, Detail: "the entry is not there any more"}, nil
	}
	if err != nil {
		return Person{}, err
	}
	return s.person(dialect, base, found)
}

func (s *Session) person(dialect entry.Dialect, base string, found *ldap.Entry) (Person, error) {
	id, err := idOf(found, dialectOf(dialect).ids())
	if err != nil {
		return Person{}, badID(found.DN, err)
	}
	p := Person{dialect: dialect, ID: id, DN: found.DN, Login: found.GetAttributeValue(dialectOf(dialect).logins()[0])}
	off := dialectOf(dialect).disabled(found)
	if dialect != entry.AD {
		if off {
			p.Standing, p.Detail = password.StandsDisabled, "the account is locked for good"
		}
		return p, nil
	}
	expires, _ := strconv.ParseInt(found.GetAttributeValue("accountExpires"), 10, 64)
	switch {
	case off:
		p.Standing, p.Detail = password.StandsDisabled, "the account is disabled"
	case expires > 0 && expires < neverExpires && fileTime(expires).Before(time.Now()):
		p.Standing, p.Detail = password.StandsExpired, "the account has expired"
	}
	p.primary, err = s.primaryGroup(base, found)
	return p, err
}

// neverExpires in accountExpires says that an account does not ([MS-ADA1] section 2.2).
const neverExpires = 1<<63 - 1

// primaryGroup is the group that a domain controller keeps as a number, and not among the
// group's members ([MS-ADA3] section 2.120).
func (s *Session) primaryGroup(base string, found *ldap.Entry) (string, error) {
	sid := found.GetRawAttributeValue("objectSid")
	number, err := strconv.ParseUint(found.GetAttributeValue("primaryGroupID"), 10, 32)
	if err != nil || len(sid) < 12 {
		return "", nil // an account without one
	}
	group := append(slices.Clone(sid[:len(sid)-4]), byte(number), byte(number>>8), byte(number>>16), byte(number>>24))
	result, err := s.conn.Search(search(base, "(objectSid="+escaped(group)+")", []string{"1.1"}))
	if err != nil {
		return "", refused(err, "look for the primary group of %s", found.DN)
	}
	if len(result.Entries) != 1 {
		return "", nil
	}
	return result.Entries[0].DN, nil
}

// mostGroups is in how many groups somebody may be, so that a circle of them or a forest
// that has grown wild ends.
const mostGroups = 5000

// Belongs tells to which of some groups somebody belongs, also through other groups.
func (s *Session) Belongs(ctx context.Context, base string, p Person, groups []entry.ID) ([]entry.ID, error) {
	var found []entry.ID
	met := map[string]bool{}
	holders := []string{p.DN}
	meet := func(group *ldap.Entry) error {
		if met[strings.ToLower(group.DN)] {
			return nil
		}
		met[strings.ToLower(group.DN)] = true
		holders = append(holders, group.DN)
		id, err := idOf(group, dialectOf(p.dialect).ids())
		if err != nil {
			return badID(group.DN, err)
		}
		if slices.Contains(groups, id) {
			found = append(found, id)
		}
		return nil
	}
	ask := func(base, filter string, scope int) error {
		request := search(base, filter, dialectOf(p.dialect).ids())
		request.Scope = scope
		result, err := s.conn.SearchWithPaging(request, 500)
		if err != nil {
			return refused(err, "look for the groups of %s", p.DN)
		}
		for _, group := range result.Entries {
			if err := meet(group); err != nil {
				return err
			}
		}
		return nil
	}
	if p.primary != "" {
		if err := ask(p.primary, "(objectClass=*)", ldap.ScopeBaseObject); err != nil {
			return nil, err
		}
	}
	for at := 0; at < len(holders) && len(holders) < mostGroups && len(found) < len(groups); at++ {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		dn := ldap.EscapeFilter(holders[at])
		if err := ask(base, "(|(member="+dn+")(uniqueMember="+dn+"))", ldap.ScopeWholeSubtree); err != nil {
			return nil, err
		}
	}
	return found, nil
}

// SignIn tries somebody's password by a bind of its own, and tells how they stand. An error
// says that it could not be tried.
func SignIn(ctx context.Context, c Connection, p Person, text secret.Text) (password.Standing, string, error) {
	if text.Reveal() == "" { // a bind without one succeeds for anybody (RFC 4513 section 5.1.2)
		return password.StandsWrong, "", nil
	}
	conn, failure := reach(ctx, c, func(Verdict) {})
	if failure != nil {
		return "", "", failure.unreachable(c)
	}
	defer func() { _ = conn.Close() }()
	result, err := conn.SimpleBind(ldap.NewSimpleBindRequest(p.DN, text.Reveal(), []ldap.Control{ldap.NewControlBeheraPasswordPolicy()}))
	if result != nil {
		for _, control := range result.Controls {
			policy, ok := control.(*ldap.ControlBeheraPasswordPolicy)
			switch {
			case !ok:
			case policy.Error == ldap.BeheraAccountLocked:
				return password.StandsDisabled, "the account is locked", nil
			case policy.Error == ldap.BeheraPasswordExpired, policy.Error == ldap.BeheraChangeAfterReset:
				return password.StandsExpired, "the password has to be changed first", nil
			}
		}
	}
	if err == nil {
		return password.StandsWell, "", nil
	}
	if !ldap.IsErrorAnyOf(err, ldap.LDAPResultInvalidCredentials, ldap.LDAPResultInappropriateAuthentication, ldap.LDAPResultUnwillingToPerform, ldap.LDAPResultConstraintViolation) {
		return "", "", refused(err, "sign in as %s", p.DN)
	}
	if why, told := whyRefused(err); told {
		return why.standing, why.detail, nil
	}
	return password.StandsWrong, "", nil
}

// refusal is why a domain controller lets nobody in.
type refusal struct {
	said     string // in its message; what follows "data" is an error of Windows
	standing password.Standing
	detail   string
	right    bool // it is said of a right password alone
}

var refusals = []refusal{
	{"data 532", password.StandsExpired, "the password has expired", true},
	{"password_expired", password.StandsExpired, "the password has expired", true},
	{"data 773", password.StandsExpired, "the password has to be changed first", true},
	{"must_change", password.StandsExpired, "the password has to be changed first", true},
	{"data 701", password.StandsExpired, "the account has expired", true},
	{"data 533", password.StandsDisabled, "the account is disabled", true},
	{"data 530", password.StandsDisabled, "not at this time of day", true},
	{"data 531", password.StandsDisabled, "not from this computer", true},
	{"data 775", password.StandsDisabled, "the account is locked", false},
}

// whyRefused reads why a bind was refused; false where it is not told, as of a wrong password.
func whyRefused(err error) (refusal, bool) {
	said := strings.ToLower(err.Error())
	at := slices.IndexFunc(refusals, func(r refusal) bool { return strings.Contains(said, r.said) })
	if at < 0 {
		return refusal{}, false
	}
	return refusals[at], true
}
