package filter

import (
	"slices"
	"strings"
)

// knownRules are the matching rules that a filter can name: those of AD-compatible
// directories and those of RFC 4517 that are used here, by number and by name.
var knownRules = []string{
	bitAnd, bitOr, inChain, "2.5.13.5", "caseExactMatch", "1.3.6.1.4.1.1466.109.114.1", "caseExactIA5Match",
	"2.5.13.2", "caseIgnoreMatch", "1.3.6.1.4.1.1466.109.114.2", "caseIgnoreIA5Match", "2.5.13.4", "caseIgnoreSubstringsMatch", "2.5.13.7", "caseExactSubstringsMatch",
	"2.5.13.1", "distinguishedNameMatch", "2.5.13.8", "numericStringMatch", "2.5.13.14", "integerMatch", "2.5.13.13", "booleanMatch", "2.5.13.0", "objectIdentifierMatch",
	"2.5.13.20", "telephoneNumberMatch", "2.5.13.27", "generalizedTimeMatch", "2.5.13.17", "octetStringMatch",
}

func knownRule(rule string) bool {
	return rule == "" || slices.ContainsFunc(knownRules, func(known string) bool { return strings.EqualFold(known, rule) })
}

// UnknownRules lists the matching rules that nothing is known of, so that what a filter
// asks by them is neither true nor false of anybody.
func (f *Filter) UnknownRules() []string {
	var rules []string
	if f.Operator == Extensible && !knownRule(f.Rule) {
		rules = append(rules, f.Rule)
	}
	for _, child := range f.Children {
		rules = append(rules, child.UnknownRules()...)
	}
	return rules
}

// notReplicated are attributes that each server of an AD-compatible directory has its own
// value of, or works out when it is asked, so that a change of them is never told.
var notReplicated = []string{
	"lastLogon", "lastLogoff", "logonCount", "badPwdCount", "badPasswordTime", "uSNChanged", "uSNCreated", "whenChanged", "modifyTimeStamp", "createTimeStamp",
	"canonicalName", "tokenGroups", "tokenGroupsGlobalAndUniversal", "primaryGroupToken", "allowedAttributes", "allowedAttributesEffective", "allowedChildClasses",
	"msDS-User-Account-Control-Computed", "msDS-UserPasswordExpiryTimeComputed", "msDS-ResultantPSO", "subSchemaSubEntry", "structuralObjectClass", "replPropertyMetaData", "dSCorePropagationData",
}

// NotTold tells whether changes of an attribute are never told by an AD-compatible
// directory.
func NotTold(attribute string) bool {
	return slices.ContainsFunc(notReplicated, func(name string) bool { return strings.EqualFold(name, attribute) })
}

// Turned tells whether a filter asks about an attribute within a "!", so that it keeps
// those who do not have it.
func (f *Filter) Turned(attribute string) bool { return f.turned(attribute, false) }

func (f *Filter) turned(attribute string, not bool) bool {
	if strings.EqualFold(f.Attribute, attribute) {
		return not
	}
	return slices.ContainsFunc(f.Children, func(child *Filter) bool { return child.turned(attribute, not != (f.Operator == Not)) })
}
