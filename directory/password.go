package directory

import (
	"bytes"
	"context"
	"errors"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"
	"unicode/utf16"

	ber "github.com/go-asn1-ber/asn1-ber"
	"github.com/go-ldap/ldap/v3"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/password"
	"kambrel.example/kambrel/core/secret"
)

// Account is somebody whose password is to be set, as the directory has it now.
type Account struct {
	DN        string
	dialect   entry.Dialect
	base      string
	Disabled  bool
	Protected bool
	locked    bool // as far as can be read
	name      []string
	policy    string    // the name of the policy that holds for it
	set       time.Time // when the password was set last
}

// Account finds somebody by id. Protected are filters (RFC 4515) that the directory itself
// evaluates; who fits one of them is protected, and so is the account with which the
// agent signs in.
func (s *Session) Account(dialect entry.Dialect, base string, id entry.ID, protected ...string) (Account, error) {
	ways := dialectOf(dialect)
	found, err := s.byID(dialect, base, id, slices.Concat([]string{"objectClass", "sAMAccountName", "displayName", "cn", "pwdLastSet", "msDS-ResultantPSO", "pwdPolicySubentry"}, ways.standing(), ways.locks())...)
	if err != nil {
		return Account{}, err
	}
	account := Account{DN: found.DN, dialect: dialect, base: base, locked: slices.ContainsFunc(ways.locks(), func(name string) bool { return found.GetAttributeValue(name) != "" }),
		name: []string{found.GetAttributeValue("sAMAccountName"), found.GetAttributeValue("displayName")}}
	if kindOf(found.GetAttributeValues("objectClass")) != entry.User {
		account.Protected = true // nobody's password, whatever it is
	}
	account.Disabled = ways.disabled(found)
	account.policy = found.GetAttributeValue("pwdPolicySubentry")
	if dialect == entry.AD {
		account.policy = found.GetAttributeValue("msDS-ResultantPSO")
		ticks, _ := strconv.ParseInt(found.GetAttributeValue("pwdLastSet"), 10, 64)
		account.set = fileTime(ticks)
	}
	if self, err := s.isSelf(dialect, found); err != nil || self {
		account.Protected = true
		return account, err
	}
	for _, filter := range protected {
		if filter == "" || account.Protected {
			continue
		}
		result, err := s.conn.Search(&ldap.SearchRequest{BaseDN: found.DN, Scope: ldap.ScopeBaseObject, Filter: filter, Attributes: []string{"1.1"}})
		if err != nil {
			return account, refused(err, "ask whether %s is protected", found.DN)
		}
		account.Protected = len(result.Entries) > 0
	}
	return account, nil
}

// isSelf tells whether an entry is the account with which the session signed in: by
// RFC 4532, or by the security ids that a domain controller tells of it.
func (s *Session) isSelf(dialect entry.Dialect, found *ldap.Entry) (bool, error) {
	if dialect == entry.AD {
		own, err := s.tokens()
		return slices.ContainsFunc(own, func(id []byte) bool { return bytes.Equal(id, found.GetRawAttributeValue("objectSid")) }), err
	}
	answer, err := s.conn.WhoAmI(nil)
	if err != nil {
		return false, refused(err, "ask who is signed in")
	}
	own, err := entry.ParseDN(strings.TrimPrefix(answer.AuthzID, "dn:"))
	if err != nil {
		return false, err
	}
	name, err := entry.ParseDN(found.DN)
	return err == nil && own.Path() == name.Path(), err
}

// NewPassword is what is to be set.
type NewPassword struct {
	New, Old secret.Text
	// MustChange asks for another one at the next sign-in.
	MustChange bool
	// Own: the person has chosen it, so that the history of old ones counts.
	Own bool
}

// policyHints makes a domain controller hold a reset against the history, as it does with a
// change ([MS-ADTS] section 3.1.1.3.4.1.27); one that does not know it goes on without.
const policyHints = "1.2.840.113556.1.4.2239"

// SetPassword sets a password under the directory's own policy: dialect ad by unicodePwd
// ([MS-ADTS] section 3.1.1.3.1.5), the others by RFC 3062. The error is a
// *password.Refusal; note is what an operator should know of a password that was set.
func (s *Session) SetPassword(ctx context.Context, a Account, p NewPassword) (note string, err error) {
	if err := ctx.Err(); err != nil {
		return "", password.Refuse(password.Expired, "%v", err)
	}
	s.conn.SetTimeout(within(ctx))
	defer s.conn.SetTimeout(requestTimeout)
	return dialectOf(a.dialect).setPassword(s, a, p)
}

// within is how long an answer is waited for.
func within(ctx context.Context) time.Duration {
	if until, ok := ctx.Deadline(); ok {
		return max(time.Until(until), time.Millisecond)
	}
	return requestTimeout
}

// quoted writes unicodePwd: the password in quotes as UTF-16, little-endian.
func quoted(text secret.Text) string {
	units := utf16.Encode([]rune(`"` + text.Reveal() + `"`))
	octets := make([]byte, 0, 2*len(units))
	for _, unit := range units {
		octets = append(octets, byte(unit), byte(unit>>8))
	}
	return string(octets)
}

// passwordModify is the extended operation of RFC 3062. It is built here since the
// library's own takes no controls, and the control says why a password is refused.
func passwordModify(dn string, p NewPassword) *ldap.ExtendedRequest {
	value := ber.Encode(ber.ClassUniversal, ber.TypeConstructed, ber.TagSequence, nil, "PasswdModifyRequestValue")
	value.AppendChild(ber.NewString(ber.ClassContext, ber.TypePrimitive, 0, dn, "userIdentity"))
	if p.Old != "" {
		value.AppendChild(ber.NewString(ber.ClassContext, ber.TypePrimitive, 1, p.Old.Reveal(), "oldPasswd"))
	}
	value.AppendChild(ber.NewString(ber.ClassContext, ber.TypePrimitive, 2, p.New.Reveal(), "newPasswd"))
	request := ldap.NewExtendedRequest("1.3.6.1.4.1.4203.1.11.1", value)
	request.Controls = []ldap.Control{ldap.NewControlBeheraPasswordPolicy()}
	return request
}

// ofControl is why a password policy control says that a password was refused (draft
// Behera section 6.2).
func ofControl(err error, otherwise *password.Refusal) *password.Refusal {
	var failure *ldap.Error
	if !errors.As(err, &failure) || failure.Packet == nil || len(failure.Packet.Children) < 3 {
		return otherwise
	}
	for _, one := range failure.Packet.Children[2].Children {
		control, err := ldap.DecodeControl(one)
		said, ok := control.(*ldap.ControlBeheraPasswordPolicy)
		if err != nil || !ok {
			continue
		}
		if reason, known := ofPolicy[said.Error]; known {
			return &password.Refusal{Reason: reason, Detail: otherwise.Detail}
		}
	}
	return otherwise
}

var ofPolicy = map[int8]password.Reason{
	ldap.BeheraPasswordModNotAllowed: password.NotAllowed, ldap.BeheraMustSupplyOldPassword: password.NotAllowed, ldap.BeheraInsufficientPasswordQuality: password.NotComplex,
	ldap.BeheraPasswordTooShort: password.TooShort, ldap.BeheraPasswordTooYoung: password.TooYoung, ldap.BeheraPasswordInHistory: password.UsedBefore,
}

// phrases are what servers say beside a refusal, and what is meant by it.
var phrases = []struct {
	said   string
	reason password.Reason
}{
	{"too short", password.TooShort}, {"characters long", password.TooShort}, {"password syntax", password.NotComplex}, {"password minimum age", password.TooYoung}, {"complexity", password.NotComplex}, {"quality", password.Policy}, {"history", password.UsedBefore}, {"already used", password.UsedBefore},
	{"not being changed from existing", password.UsedBefore}, {"too young", password.TooYoung}, {"minimum password age", password.TooYoung},
	{"unwilling to verify old password", password.WrongOld}, {"old password", password.WrongOld}, {"old values", password.WrongOld}, {"wrong_password", password.WrongOld},
	{"alteration of password is not allowed", password.NotAllowed}, {"00000056", password.WrongOld}, {"0000052d", password.Policy}, {"00000775", password.NotAllowed},
}

// leastSaid is how long a password must be, where the refusal says so.
var leastSaid = regexp.MustCompile(`at least (\d{1,3}) characters long`)

// why tells by a directory's answer why a password was not set.
func (s *Session) why(err error) *password.Refusal {
	said := plain(err).Error()
	switch {
	case ldap.IsErrorAnyOf(err, ldap.ErrorNetwork, ldap.LDAPResultTimeLimitExceeded):
		return password.Refuse(password.Unknown, "%s", said)
	case ldap.IsErrorAnyOf(err, ldap.LDAPResultInsufficientAccessRights):
		return password.Refuse(password.RightMissing, "%s", said)
	case ldap.IsErrorAnyOf(err, ldap.LDAPResultInvalidCredentials):
		return password.Refuse(password.WrongOld, "%s", said)
	case ldap.IsErrorAnyOf(err, ldap.LDAPResultBusy, ldap.LDAPResultUnavailable):
		return password.Refuse(password.Unreachable, "%s", said)
	}
	if ldap.IsErrorAnyOf(err, ldap.LDAPResultConstraintViolation, ldap.LDAPResultUnwillingToPerform, ldap.LDAPResultOther) {
		low := strings.ToLower(said)
		for _, phrase := range phrases {
			if strings.Contains(low, phrase.said) {
				refusal := password.Refuse(phrase.reason, "%s", said)
				if least := leastSaid.FindStringSubmatch(low); least != nil {
					refusal.Least, _ = strconv.Atoi(least[1])
				}
				return refusal
			}
		}
		if ldap.IsErrorWithCode(err, ldap.LDAPResultConstraintViolation) {
			return password.Refuse(password.Policy, "%s", said)
		}
	}
	return password.Refuse(password.Refused, "%s", said)
}

// rules are what a policy asks of a password.
type rules struct {
	least   int
	complex bool
	age     time.Duration
}

// worked finds out from the policy itself what the directory did not say: servers of both
// dialects answer many refusals with the same words.
func (s *Session) worked(a Account, p NewPassword, refusal *password.Refusal) *password.Refusal {
	if refusal.Reason != password.Policy && refusal.Reason != password.TooShort {
		return refusal
	}
	rules, known := s.rulesOf(a)
	if !known {
		return refusal
	}
	reason := refusal.Reason
	switch {
	case len([]rune(p.New.Reveal())) < rules.least:
		reason = password.TooShort
	case reason == password.TooShort:
	case rules.complex && !mixed(p.New.Reveal(), a.name):
		reason = password.NotComplex
	case rules.age > 0 && !a.set.IsZero() && time.Since(a.set) < rules.age:
		reason = password.TooYoung
	}
	return &password.Refusal{Reason: reason, Least: max(rules.least, refusal.Least), Detail: refusal.Detail}
}

func (s *Session) rulesOf(a Account) (rules, bool) {
	read := func(dn string, names ...string) (*ldap.Entry, bool) {
		result, err := s.conn.Search(&ldap.SearchRequest{BaseDN: dn, Scope: ldap.ScopeBaseObject, Filter: "(objectClass=*)", Attributes: names})
		if err != nil || len(result.Entries) != 1 {
			return nil, false
		}
		return result.Entries[0], true
	}
	number := func(e *ldap.Entry, name string) int64 {
		n, _ := strconv.ParseInt(e.GetAttributeValue(name), 10, 64)
		return n
	}
	if a.dialect != entry.AD {
		if a.policy == "" {
			return rules{}, false
		}
		found, ok := read(a.policy, "pwdMinLength")
		if !ok || found.GetAttributeValue("pwdMinLength") == "" {
			return rules{}, false
		}
		return rules{least: int(number(found, "pwdMinLength"))}, true
	}
	if a.policy != "" { // a policy of its own ([MS-ADTS] section 3.1.1.3.1.5.2)
		if found, ok := read(a.policy, "msDS-MinimumPasswordLength", "msDS-PasswordComplexityEnabled", "msDS-MinimumPasswordAge"); ok {
			return rules{int(number(found, "msDS-MinimumPasswordLength")), found.GetAttributeValue("msDS-PasswordComplexityEnabled") == "TRUE", ticksAgo(number(found, "msDS-MinimumPasswordAge"))}, true
		}
	}
	found, ok := read(entry.DomainOf(a.base), "minPwdLength", "pwdProperties", "minPwdAge")
	if !ok || found.GetAttributeValue("minPwdLength") == "" {
		return rules{}, false
	}
	return rules{int(number(found, "minPwdLength")), number(found, "pwdProperties")&1 != 0, ticksAgo(number(found, "minPwdAge"))}, true
}

// ticksAgo is a time as a domain keeps it: negative, in steps of 100 ns.
func ticksAgo(ticks int64) time.Duration {
	if ticks == -1<<63 {
		return 0
	}
	return time.Duration(-ticks) * 100
}

// fileTime is a moment as a domain keeps it: steps of 100 ns since 1601; zero for never.
func fileTime(ticks int64) time.Time {
	if ticks <= 0 {
		return time.Time{}
	}
	const until1970 = 116444736000000000
	return time.Unix(0, (ticks-until1970)*100)
}

// mixed tells whether a password has characters of three sorts, and no name of the person.
func mixed(text string, names []string) bool {
	sorts := map[string]bool{}
	for _, r := range text {
		switch {
		case unicode.IsUpper(r):
			sorts["capital"] = true
		case unicode.IsLower(r):
			sorts["small"] = true
		case unicode.IsDigit(r):
			sorts["digit"] = true
		case unicode.IsLetter(r):
			sorts["other"] = true
		default:
			sorts["sign"] = true
		}
	}
	low := strings.ToLower(text)
	for _, name := range names {
		for _, part := range strings.FieldsFunc(strings.ToLower(name), func(r rune) bool { return strings.ContainsRune(",.-_ #\t", r) }) {
			if len(part) > 2 && strings.Contains(low, part) {
				return false
			}
		}
	}
	return len(sorts) >= 3
}

// Unlock takes a lock away and leaves the password as it is; who was not locked stays so.
// The error is a *password.Refusal.
func (s *Session) Unlock(ctx context.Context, a Account) error {
	if err := ctx.Err(); err != nil {
		return password.Refuse(password.Expired, "%v", err)
	}
	s.conn.SetTimeout(within(ctx))
	defer s.conn.SetTimeout(requestTimeout)
	request := dialectOf(a.dialect).unlock(a)
	if request == nil {
		return nil
	}
	if err := s.conn.Modify(request); err != nil {
		if ldap.IsErrorWithCode(err, ldap.LDAPResultNoSuchAttribute) {
			return nil
		}
		return s.why(err)
	}
	return nil
}

// Holds tells whether somebody's password is just this one, by signing in with it; known
// is false where the directory does not say so for sure.
func Holds(ctx context.Context, c Connection, a Account, text secret.Text) (holds, known bool) {
	c.BindDN, c.Password = a.DN, text
	conn, failure := connect(ctx, c, func(Verdict) {})
	if failure == nil {
		_ = conn.Close()
		return true, true
	}
	if failure.step != StepBind {
		return false, false
	}
	if why, told := whyRefused(failure.err); told {
		return why.right, why.right
	}
	return false, strings.Contains(strings.ToLower(failure.err.Error()), "invalid credentials")
}

// Lacks tells which right for an act the agent's account lacks on somebody, "" for none;
// nothing is changed.
func (s *Session) Lacks(a Account, feature entry.Feature) (string, error) {
	p := &probe{session: s, request: ProbeRequest{Dialect: a.dialect, Base: a.base}}
	return p.missing(feature, entry.User, a.DN)
}
