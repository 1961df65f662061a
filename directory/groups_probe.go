package directory

import (
	"slices"
	"strings"

	"github.com/go-ldap/ldap/v3"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/problem"
)

// groups sees whether groups of the cloud can be kept where they are to be, without making
// any.
func (p *probe) groups() {
	const subject = string(entry.FeatureCloudGroups)
	place := p.request.Groups
	if place == nil {
		p.tell(Verdict{StepRight, subject, Skipped, "no container is set", "Say in the settings in which container groups of the cloud are kept."})
		return
	}
	if err := p.session.FindContainer(*place); err != nil {
		p.tell(Verdict{StepRight, subject, Bad, place.Container + " does not exist or cannot be seen", "Make the container in the directory, or correct it in the settings."})
		return
	}
	if schema := p.session.Schema([]string{place.Mark, "cn"}); len(schema) > 0 {
		if _, known := schema[strings.ToLower(place.Mark)]; !known {
			p.tell(Verdict{StepRight, subject, Bad, "the directory's schema has no attribute " + place.Mark, problem.Describe(problem.CloudGroupMark).Remedy})
			return
		}
	}
	const advice = "Hand the text of rights for this directory to its owner; it lists exactly what is needed and where."
	lacks, on, err := p.mayKeep(*place)
	switch {
	case err != nil:
		p.bad(StepRight, subject, err, advice)
	case lacks != "" && on == place.Container && place.Dialect != entry.AD:
		// The right to make entries may be given without that to write the container.
		p.tell(Verdict{StepRight, subject, Doubtful, "there is no group yet to try it on, and the account may not " + lacks + " of " + on + "; whether it may make groups there cannot be seen without making one", "Compare the text of rights for this directory, and try one: 'kambrel cloud-groups trial GROUP --write'."})
	case lacks != "":
		p.tell(Verdict{StepRight, subject, Bad, "the account lacks the right to " + lacks + ": " + on, advice})
	default:
		p.good(StepRight, subject, "the account may write groups in %s (tried without changing anything), and the directory has the attribute %s", place.Container, place.Mark)
	}
}

// mayKeep tells what the account may not do, "" if nothing, and on what that was tried: a
// group in the container, or the container itself. Nothing is made for it; a server's
// control that does nothing (draft-zeilenga-ldap-noop) is not used either, since slapd with
// the database mdb confuses attributes after it.
func (p *probe) mayKeep(place GroupPlace) (lacks, on string, err error) {
	if place.Dialect == entry.AD {
		result, err := p.session.conn.Search(&ldap.SearchRequest{BaseDN: place.Container, Scope: ldap.ScopeBaseObject, Filter: "(objectClass=*)", Attributes: []string{"allowedChildClassesEffective"}})
		if err != nil || len(result.Entries) != 1 {
			return "", place.Container, errOr(err, "its rights cannot be read")
		}
		if !slices.ContainsFunc(result.Entries[0].GetAttributeValues("allowedChildClassesEffective"), func(class string) bool { return strings.EqualFold(class, "group") }) {
			return "make groups in it", place.Container, nil
		}
	}
	request := search(place.Container, "(objectClass="+place.Class+")", []string{"1.1"})
	request.SizeLimit = 1
	result, err := p.session.conn.Search(request)
	if err != nil && !ldap.IsErrorWithCode(err, ldap.LDAPResultSizeLimitExceeded) {
		return "", place.Container, err
	}
	names := []string{place.Mark, place.Member}
	switch {
	case result != nil && len(result.Entries) > 0 && place.Dialect == entry.AD:
		lacks, err = p.missingAD(result.Entries[0].DN, append(names, "cn", "sAMAccountName", "groupType")) // cn stands for the name itself, which nobody lists
		return lacks, result.Entries[0].DN, err
	case result != nil && len(result.Entries) > 0:
		lacks, err = p.missingStandard(result.Entries[0].DN, []string{place.Mark})
		return lacks, result.Entries[0].DN, err
	case place.Dialect == entry.AD:
		return "", place.Container, nil
	}
	lacks, err = p.missingStandard(place.Container, []string{"description"})
	return lacks, place.Container, err
}
