// Package survey looks for what the cloud would refuse, or what would surprise
// people, before anything is sent: it takes the entries in scope one by one and
// gives findings, most with a value that would repair them. Nothing is decided
// and nothing is written here. A Survey is not safe for concurrent use.
package survey

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/person"
	"kambrel.example/kambrel/core/rules"
)

// Code names one kind of finding for good.
type Code string

// The codes.
const (
	SuffixNotVerified Code = "suffix-not-verified"
	LoginMissing      Code = "login-missing"
	LoginMalformed    Code = "login-malformed"
	LoginTwice        Code = "login-twice"
	AddressMalformed  Code = "address-malformed"
	AddressTwice      Code = "address-twice"
	AddressMissing    Code = "address-missing"
	NameBlank         Code = "display-name-blank"
	Collides          Code = "collides-with-resource"
)

// Kind is one line of the catalogue of findings.
type Kind struct {
	Code   Code
	Title  string
	Cause  string
	Remedy string
}

var catalogue = []Kind{
	{SuffixNotVerified, "Login suffix is not verified", "The cloud has not verified the domain of the login, so it refuses the login or replaces its suffix.", "Give the login a verified suffix, or verify the domain in the cloud first."},
	{LoginMissing, "No login", "The entry has no value from which the rules make a login.", "Give the entry a login."},
	{LoginMalformed, "Login has a form the cloud refuses", "A login is name@domain, at most 64 characters before the @, of letters, digits and . ! # ^ _ ' ~ - only.", "Write the login anew."},
	{LoginTwice, "Login is on two entries", "The cloud allows each login once; only one of the two would be created.", "Change the login of one of the two, or take one out of scope."},
	{AddressMalformed, "Address has a form the cloud refuses", "An address is name@domain, at most 254 characters, without spaces (RFC 5321 section 4.5.3.1).", "Write the address anew."},
	{AddressTwice, "Address is on two entries", "The cloud allows each address once, also within lists of addresses; mail would reach one of the two only.", "Take the address away from one of the two."},
	{AddressMissing, "No address", "A contact, or a group that is there for mail, is of no use in the cloud without an address.", "Give it an address, or take it out of scope."},
	{NameBlank, "No display name", "People would see the login or nothing where a name belongs.", "Give the entry a display name."},
	{Collides, "Collides with an account in the cloud", "The cloud already has an account with this login or address that will not be taken over by itself.", "Look at both sides: link them, or change one of the two."},
}

// Catalogue lists every kind of finding.
func Catalogue() []Kind { return slices.Clone(catalogue) }

// Describe returns the catalogue's line for a code.
func Describe(code Code) Kind {
	for _, kind := range catalogue {
		if kind.Code == code {
			return kind
		}
	}
	return Kind{Code: code, Title: string(code)}
}

// Action is what the proposal of a finding does.
type Action string

// The actions.
const (
	Set    Action = "set"    // write the proposed value
	Remove Action = "remove" // take the value away
	None   Action = "none"   // a person must say what is right
)

// Finding is one thing found on one value of one entry.
type Finding struct {
	Code      Code
	Kind      entry.Kind
	Directory string
	EntryID   entry.ID
	DN        string
	Name      string
	Attribute string // the one to repair
	Value     string
	Detail    string
	Action    Action
	Proposal  string

	person []string // by what the entry is one with others
}

// Options say what a survey is held against.
type Options struct {
	// Domains are the login suffixes that the cloud has verified; nil when that
	// is not known, and then suffixes are not held against anything.
	Domains []string
	Rules   *rules.Set
	// Person tells which entries of several directories are one person, who may
	// have the same values on each; nil for none.
	Person *person.Rules
}

// AddressLists are the attributes that hold addresses, in either dialect.
var AddressLists = []string{"mail", "otherMailbox", "proxyAddresses", "mailLocalAddress"}

// Repairable lists the attributes that repairs write on entries of a kind; some
// the classes of the kind do not have.
func Repairable(dialect entry.Dialect, kind entry.Kind) []string {
	switch {
	case dialect == entry.AD && kind == entry.User:
		return []string{"userPrincipalName", "displayName", "mail", "otherMailbox", "proxyAddresses"}
	case dialect == entry.AD && kind == entry.Group:
		return []string{"displayName", "mail", "proxyAddresses"}
	case dialect == entry.AD:
		return []string{"displayName", "mail", "otherMailbox", "proxyAddresses"}
	case kind == entry.User:
		return []string{"mail", "displayName"}
	}
	return nil
}

// Correctable lists the attributes that repairs may write and from which rules make any
// of the targets, each once.
func Correctable(set *rules.Set, dialect entry.Dialect, kind entry.Kind, targets []string) []string {
	return slices.DeleteFunc(Repairable(dialect, kind), func(name string) bool {
		return !slices.ContainsFunc(targets, func(target string) bool {
			return slices.ContainsFunc(set.AttributesOf(target), func(read string) bool { return strings.EqualFold(read, name) })
		})
	})
}

// Attributes lists what a survey needs of entries beside what rules read.
func Attributes() []string {
	return append([]string{"cn", "displayName", "givenName", "sn", "groupType"}, AddressLists...)
}

// Domain is how many entries use a login suffix.
type Domain struct {
	Name     string `json:"name"`
	Entries  int    `json:"entries"`
	Verified *bool  `json:"verified,omitempty" doc:"Not set when the cloud does not tell"`
}

// Survey gathers findings. Add each entry in scope, then Finish.
type Survey struct {
	options  Options
	findings []Finding
	logins   map[string]Finding // first holder of each login
	listed   map[string]Finding // first holder of each address
	told     map[string]bool    // first holders that have their finding
	domains  map[string]int
	Looked   int
}

// New begins a survey.
func New(options Options) *Survey {
	return &Survey{options: options, logins: map[string]Finding{}, listed: map[string]Finding{}, told: map[string]bool{}, domains: map[string]int{}}
}

// Add looks at one entry in scope.
func (s *Survey) Add(e entry.Entry) {
	s.Looked++
	about := Finding{Kind: e.Kind, Directory: e.Directory, EntryID: e.ID, DN: e.DN, Name: e.Name()}
	if s.options.Person != nil && e.Kind == entry.User {
		about.person = s.options.Person.Keys(e)
	}
	if strings.TrimSpace(e.Attributes.First("displayName")) == "" && e.Kind == entry.User {
		f := about
		f.Code, f.Attribute, f.Value, f.Detail = NameBlank, "displayName", e.Attributes.First("displayName"), "displayName is empty"
		s.propose(f, fullName(e))
	}
	if e.Kind == entry.User {
		s.login(e, about)
	}
	s.addresses(e, about)
}

// Collision notes that an entry would meet a resource that is in the cloud.
func (s *Survey) Collision(e entry.Entry, detail string) {
	s.findings = append(s.findings, Finding{Code: Collides, Kind: e.Kind, Directory: e.Directory, EntryID: e.ID, DN: e.DN, Name: e.Name(),
		Detail: detail, Action: None})
}

// Finish returns all findings, by code and then by name, and the login suffixes
// in use, the most used first.
func (s *Survey) Finish() ([]Finding, []Domain) {
	slices.SortStableFunc(s.findings, func(a, b Finding) int {
		if x, y := place(a.Code), place(b.Code); x != y {
			return x - y
		}
		return strings.Compare(a.Directory+"\n"+a.DN+"\n"+a.Attribute, b.Directory+"\n"+b.DN+"\n"+b.Attribute)
	})
	domains := make([]Domain, 0, len(s.domains))
	for name, n := range s.domains {
		d := Domain{Name: name, Entries: n}
		if s.options.Domains != nil {
			verified := slices.Contains(s.options.Domains, name)
			d.Verified = &verified
		}
		domains = append(domains, d)
	}
	for _, name := range s.options.Domains {
		if _, used := s.domains[name]; !used {
			verified := true
			domains = append(domains, Domain{Name: name, Verified: &verified})
		}
	}
	slices.SortFunc(domains, func(a, b Domain) int {
		if a.Entries != b.Entries {
			return b.Entries - a.Entries
		}
		return strings.Compare(a.Name, b.Name)
	})
	return s.findings, domains
}

func place(code Code) int {
	return slices.IndexFunc(catalogue, func(k Kind) bool { return k.Code == code })
}

// propose keeps a finding with a value to set, if there is one that differs.
func (s *Survey) propose(f Finding, proposal string) {
	f.Action = None
	if proposal != "" && proposal != f.Value {
		f.Action, f.Proposal = Set, proposal
	}
	s.findings = append(s.findings, f)
}

var (
	loginForm   = regexp.MustCompile(`^[A-Za-z0-9.!#^_'~-]{1,64}@[A-Za-z0-9-]+(\.[A-Za-z0-9-]+)+$`)
	addressForm = regexp.MustCompile(`^[^\s@<>(),;:"]{1,64}@[A-Za-z0-9-]+(\.[A-Za-z0-9-]+)+$`)
)

const longestAddress = 254 // RFC 5321 section 4.5.3.1.3

func (s *Survey) login(e entry.Entry, about Finding) {
	about.Attribute, about.Value = s.source(e)
	login := about.Value
	_, domain, ok := strings.Cut(login, "@")
	domain = strings.ToLower(domain)
	switch {
	case login == "":
		about.Code, about.Detail = LoginMissing, "the rule for userName finds no value"
		s.propose(about, e.Attributes.First("mail"))
		return
	case !ok || !loginForm.MatchString(login) || len(login) > longestAddress:
		about.Code, about.Detail = LoginMalformed, fmt.Sprintf("%q is no login", login)
		s.propose(about, repaired(login, loginForm))
	default:
		s.domains[domain]++
		if s.options.Domains != nil && !slices.Contains(s.options.Domains, domain) {
			about.Code, about.Detail = SuffixNotVerified, domain+" is not verified in the cloud"
			s.propose(about, s.withVerifiedSuffix(login, domain, e.Attributes.First("mail")))
		}
	}
	s.twice(s.logins, strings.ToLower(login), LoginTwice, about)
}

// source finds the login that the rules make of the entry, and the attribute
// that it comes from.
func (s *Survey) source(e entry.Entry) (attribute, login string) {
	login = s.options.Rules.Apply(rules.Person{e}).Text("userName")
	names := s.options.Rules.AttributesOf("userName")
	for _, name := range names {
		if login != "" && strings.TrimSpace(e.Attributes.First(name)) == login {
			return name, e.Attributes.First(name)
		}
	}
	if login == "" && len(names) > 0 {
		// The attribute of the entry's own directory, where rules name several.
		for _, name := range names {
			if strings.EqualFold(name, "userPrincipalName") == (e.Attributes.First("userAccountControl") != "" || e.Attributes.First("sAMAccountName") != "") {
				return name, ""
			}
		}
		return names[0], ""
	}
	return "", login
}

// CheckValue says what is wrong with a value that is to be written to an attribute of
// those that are Repairable; "" when it has the form that a survey asks for.
func CheckValue(attribute, value string) string {
	switch name := strings.ToLower(attribute); {
	case name == "displayname" && strings.TrimSpace(value) == "":
		return "a name that is blank is none"
	case name == "userprincipalname" && (!loginForm.MatchString(value) || len(value) > longestAddress):
		return fmt.Sprintf("%q is no login; write it as in name@domain", value)
	case slices.ContainsFunc(AddressLists, func(list string) bool { return strings.EqualFold(list, attribute) }):
		if address, isMail := mailOf(value); isMail && (!addressForm.MatchString(address) || len(address) > longestAddress) {
			return fmt.Sprintf("%q is no address; write it as in name@domain", value)
		}
	}
	return ""
}

func (s *Survey) withVerifiedSuffix(login, domain, mail string) string {
	local, _, _ := strings.Cut(login, "@")
	if _, of, ok := strings.Cut(strings.ToLower(mail), "@"); ok && slices.Contains(s.options.Domains, of) {
		return local + "@" + of
	}
	best := ""
	for _, verified := range s.options.Domains {
		if strings.HasSuffix(domain, "."+verified) && len(verified) > len(best) {
			best = verified
		}
	}
	if best == "" {
		return ""
	}
	return local + "@" + best
}

func (s *Survey) addresses(e entry.Entry, about Finding) {
	found := false
	own := map[string]bool{}
	for _, attribute := range AddressLists {
		for _, value := range e.Attributes.All(attribute) {
			address, isMail := mailOf(value)
			if !isMail || address == "" {
				continue
			}
			found = true
			f := about
			f.Attribute, f.Value = attribute, value
			if !addressForm.MatchString(address) || len(address) > longestAddress {
				f.Code, f.Detail = AddressMalformed, fmt.Sprintf("%q is no address", address)
				s.propose(f, strings.Replace(value, address, repaired(address, addressForm), 1))
				continue
			}
			key := strings.ToLower(address)
			if !own[key] { // the same address may be in several lists of one entry
				own[key] = true
				s.twice(s.listed, key, AddressTwice, f)
			}
		}
	}
	if !found && (e.Kind == entry.Contact || e.Kind == entry.Group && forMail(e)) {
		about.Code, about.Attribute, about.Detail = AddressMissing, "mail", "it has none of "+strings.Join(AddressLists, ", ")
		about.Action = None
		s.findings = append(s.findings, about)
	}
}

// mailOf takes the scheme off a value of an address list; false for a scheme
// that is not mail.
func mailOf(value string) (string, bool) {
	scheme, rest, ok := strings.Cut(value, ":")
	if !ok {
		return strings.TrimSpace(value), true
	}
	return strings.TrimSpace(rest), strings.EqualFold(scheme, "smtp") || strings.EqualFold(scheme, "mailto")
}

// forMail tells a group that gives no rights, only mail: in the dialect ad,
// groupType without the bit for security.
func forMail(e entry.Entry) bool {
	kind := e.Attributes.First("groupType")
	return kind != "" && !strings.HasPrefix(kind, "-")
}

// samePerson tells whether two findings are about entries of different
// directories that person rules make one.
func (f Finding) samePerson(other Finding) bool {
	return f.Directory != other.Directory && slices.ContainsFunc(f.person, func(key string) bool { return slices.Contains(other.person, key) })
}

// twice notes a value that another entry has already, on both entries.
func (s *Survey) twice(holders map[string]Finding, key string, code Code, f Finding) {
	f.Code = code
	first, taken := holders[key]
	if !taken {
		f.Action = None
		holders[key] = f
		return
	}
	if first.Directory == f.Directory && first.EntryID == f.EntryID || first.samePerson(f) {
		return
	}
	f.Detail = "also on " + first.DN + " (" + first.Attribute + ")"
	f.Action = None
	if code == AddressTwice && !strings.EqualFold(f.Attribute, "mail") {
		f.Action = Remove
	}
	s.findings = append(s.findings, f)
	if mark := string(code) + key; !s.told[mark] {
		s.told[mark] = true
		first.Detail = "also on " + f.DN + " (" + f.Attribute + ")"
		if code == AddressTwice && f.Action == None && !strings.EqualFold(first.Attribute, "mail") {
			first.Action = Remove
		}
		s.findings = append(s.findings, first)
	}
}

func fullName(e entry.Entry) string {
	if name := strings.TrimSpace(e.Attributes.First("givenName") + " " + e.Attributes.First("sn")); name != "" {
		return name
	}
	return e.Attributes.First("cn")
}

var letters = strings.NewReplacer("æ", "ae", "ø", "o", "å", "a", "ä", "a", "ö", "o", "ü", "u", "ß", "ss", "é", "e", "è", "e", "ê", "e", "á", "a", "à", "a",
	"ó", "o", "ò", "o", "í", "i", "ì", "i", "ú", "u", "ù", "u", "ñ", "n", "ç", "c", "ý", "y", "ð", "d", "þ", "th")

// repaired writes a login or address so that it has its form, "" when that is
// beyond what can be guessed.
func repaired(value string, form *regexp.Regexp) string {
	text := letters.Replace(strings.ToLower(strings.TrimSpace(value)))
	text = strings.Join(strings.Fields(text), ".")
	local, domain, ok := strings.Cut(text, "@")
	if !ok {
		return ""
	}
	keep := func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= '0' && r <= '9' || strings.ContainsRune(".-_", r) {
			return r
		}
		return -1
	}
	text = strings.Trim(strings.Map(keep, local), ".") + "@" + strings.Trim(strings.Map(keep, domain), ".")
	if !form.MatchString(text) {
		return ""
	}
	return text
}
