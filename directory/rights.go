package directory

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/go-ldap/ldap/v3"

	"kambrel.example/kambrel/core/entry"
)

// right sees whether the account may do what a feature needs, on one entry of
// each kind in each container, without changing anything.
func (p *probe) right(feature entry.Feature) {
	kinds := []entry.Kind{entry.User}
	if feature == entry.FeatureRepair {
		kinds = slices.DeleteFunc(slices.Clone(entry.Kinds), func(kind entry.Kind) bool { return len(p.request.Attributes[kind]) == 0 })
	}
	containers := p.request.Containers
	if len(containers) == 0 {
		containers = []string{p.request.Base}
	}
	for _, kind := range kinds {
		if p.filterOf(kind) == "" {
			continue
		}
		subject := string(feature) + ", " + string(kind)
		tried, lacking := 0, []string{}
		for _, container := range containers {
			request := search(container, p.filterOf(kind), []string{"objectClass"})
			request.SizeLimit = 1
			result, err := p.session.conn.Search(request)
			if result == nil || len(result.Entries) == 0 {
				if err != nil && !ldap.IsErrorAnyOf(err, ldap.LDAPResultSizeLimitExceeded, ldap.LDAPResultNoSuchObject) {
					p.bad(StepRight, subject, err, "Allow the account to read below "+container+".")
				}
				continue
			}
			tried++
			missing, err := p.missing(feature, kind, result.Entries[0].DN)
			if err != nil {
				p.bad(StepRight, subject, fmt.Errorf("find out about %s: %w", result.Entries[0].DN, plain(err)), "Allow the account to read the rights of entries.")
				return
			}
			if missing != "" {
				lacking = append(lacking, result.Entries[0].DN+": "+missing)
			}
		}
		switch {
		case tried == 0:
			p.tell(Verdict{StepRight, subject, Skipped, "there is no " + string(kind) + " to try it on", ""})
		case len(lacking) > 0:
			p.tell(Verdict{StepRight, subject, Bad, "the account lacks the right to " + describe(feature) + ": " + strings.Join(lacking, "; "),
				"Hand the text of rights for this directory to its owner; it lists exactly what is needed and where."})
		default:
			p.good(StepRight, subject, "the account may %s (tried without changing anything; containers tried: %d)", describe(feature), tried)
		}
	}
}

func describe(feature entry.Feature) string {
	return map[entry.Feature]string{entry.FeatureRepair: "write the attributes that surveys repair", entry.FeatureResetPasswords: "set passwords", entry.FeatureChangePasswords: "change passwords for who gives the old one", entry.FeatureUnlock: "unlock accounts", entry.FeatureDigests: "read stored passwords"}[feature]
}

// missing tells what the account may not do on an entry, "" if nothing.
func (p *probe) missing(feature entry.Feature, kind entry.Kind, dn string) (string, error) {
	if feature == entry.FeatureDigests {
		return p.missingStored(dn)
	}
	attributes := map[entry.Feature][]string{entry.FeatureRepair: p.request.Attributes[kind], entry.FeatureUnlock: dialectOf(p.request.Dialect).locks(),
		entry.FeatureResetPasswords: {"userPassword"}, entry.FeatureChangePasswords: {"userPassword"}}[feature]
	if p.request.Dialect != entry.AD {
		return p.missingStandard(dn, attributes)
	}
	if right, extended := extendedRights[feature]; extended {
		allowed, err := p.session.mayDo(dn, right.octets)
		if err == nil && !allowed {
			return "the extended right " + right.name, nil
		}
		return "", err
	}
	return p.missingAD(dn, attributes)
}

// missingStored tells whether stored passwords cannot be read; with the dialect ad that is
// another connection's matter, and left to it.
func (p *probe) missingStored(dn string) (string, error) {
	if p.request.Dialect == entry.AD {
		return "", nil
	}
	result, err := p.session.conn.Search(&ldap.SearchRequest{BaseDN: dn, Scope: ldap.ScopeBaseObject, Filter: "(userPassword=*)", Attributes: []string{"1.1"}})
	if err != nil || len(result.Entries) > 0 {
		return "", err
	}
	return "read userPassword", nil
}

// missingAD asks the directory which attributes the account may write.
func (p *probe) missingAD(dn string, attributes []string) (string, error) {
	result, err := p.session.conn.Search(&ldap.SearchRequest{BaseDN: dn, Scope: ldap.ScopeBaseObject, Filter: "(objectClass=*)", Attributes: []string{"allowedAttributesEffective"}})
	if err != nil {
		return "", err
	}
	var allowed []string
	if len(result.Entries) == 1 {
		allowed = result.Entries[0].GetAttributeValues("allowedAttributesEffective")
	}
	var missing []string
	for _, name := range attributes {
		if !slices.ContainsFunc(allowed, func(have string) bool { return strings.EqualFold(have, name) }) {
			missing = append(missing, name)
		}
	}
	if len(missing) == 0 {
		return "", nil
	}
	return "write " + strings.Join(missing, ", "), nil
}

// probeValue is a value that no entry has: deleting it is refused either for
// lack of rights or because it is not there, and changes nothing.
const probeValue = "kambrel-probe-of-rights"

// missingStandard tries a modification that cannot succeed (RFC 4511 section
// 4.6): the server checks the account's rights before it looks for the value.
func (p *probe) missingStandard(dn string, attributes []string) (string, error) {
	var missing []string
	for _, name := range attributes {
		value := probeValue
		if name == "pwdAccountLockedTime" {
			value = "19700101000000Z"
		}
		request := ldap.NewModifyRequest(dn, nil)
		request.Delete(name, []string{value})
		err := p.session.conn.Modify(request)
		switch {
		case err == nil, ldap.IsErrorAnyOf(err, ldap.LDAPResultNoSuchAttribute, ldap.LDAPResultConstraintViolation, ldap.LDAPResultObjectClassViolation):
		case ldap.IsErrorAnyOf(err, ldap.LDAPResultInsufficientAccessRights, ldap.LDAPResultNoSuchObject):
			missing = append(missing, name)
		case ldap.IsErrorAnyOf(err, ldap.LDAPResultUndefinedAttributeType):
			// The directory does not have it, so it cannot be needed.
		default:
			return "", fmt.Errorf("try to write %s: %w", name, err)
		}
	}
	if len(missing) == 0 {
		return "", nil
	}
	return "write " + strings.Join(missing, ", "), nil
}

// extendedRights are control access rights, User-Force-Change-Password and
// User-Change-Password ([MS-ADTS] section 5.1.3.2.1), as octets of a security descriptor.
var extendedRights = map[entry.Feature]struct {
	name   string
	octets []byte
}{
	entry.FeatureResetPasswords:  {"Reset Password", []byte{0x70, 0x95, 0x29, 0x00, 0x6d, 0x24, 0xd0, 0x11, 0xa7, 0x68, 0x00, 0xaa, 0x00, 0x6e, 0x05, 0x29}},
	entry.FeatureChangePasswords: {"Change Password", []byte{0x53, 0x1a, 0x72, 0xab, 0x2f, 0x1e, 0xd0, 0x11, 0x98, 0x19, 0x00, 0xaa, 0x00, 0x40, 0x52, 0x9b}},
}

// descriptorControl chooses parts of a security descriptor ([MS-ADTS] section
// 3.1.1.3.4.1.11); onlyDACL is the BER of SEQUENCE { INTEGER 4 }.
const (
	descriptorControl = "1.2.840.113556.1.4.801"
	onlyDACL          = "\x30\x03\x02\x01\x04"
)

// mayDo evaluates the entry's access control list for the account, since the
// directory tells effective rights for attributes only.
func (s *Session) mayDo(dn string, right []byte) (bool, error) {
	account, err := s.tokens()
	if err != nil {
		return false, err
	}
	result, err := s.conn.Search(&ldap.SearchRequest{BaseDN: dn, Scope: ldap.ScopeBaseObject, Filter: "(objectClass=*)", Attributes: []string{"nTSecurityDescriptor"},
		Controls: []ldap.Control{ldap.NewControlString(descriptorControl, true, onlyDACL)}})
	if err != nil {
		return false, err
	}
	if len(result.Entries) != 1 || len(result.Entries[0].GetRawAttributeValue("nTSecurityDescriptor")) == 0 {
		return false, errors.New("its access control list cannot be read")
	}
	return controlAccess(result.Entries[0].GetRawAttributeValue("nTSecurityDescriptor"), account, right)
}

// tokens are the security ids of the account that is signed in, and of its groups.
func (s *Session) tokens() ([][]byte, error) {
	root, err := s.conn.Search(&ldap.SearchRequest{Scope: ldap.ScopeBaseObject, Filter: "(objectClass=*)", Attributes: []string{"tokenGroups"}})
	if err != nil {
		return nil, err
	}
	if len(root.Entries) == 1 {
		if ids := root.Entries[0].GetRawAttributeValues("tokenGroups"); len(ids) > 0 {
			return ids, nil
		}
	}
	return nil, errors.New("the directory does not tell the account's groups")
}
