package directory

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"strings"
	"syscall"
	"time"

	"github.com/go-ldap/ldap/v3"

	"kambrel.example/kambrel/core/entry"
)

// Step is one thing that a probe tries.
type Step string

// The steps, in their order. What comes after a bad one on the way to the bind
// cannot be tried.
const (
	StepConfiguration Step = "configuration"
	StepName          Step = "name"
	StepConnect       Step = "connect"
	StepTLS           Step = "tls"
	StepBind          Step = "bind"
	StepBase          Step = "base"
	StepServer        Step = "server"
	StepRead          Step = "read"
	StepAttributes    Step = "attributes"
	StepChanges       Step = "changes"
	StepDeleted       Step = "deleted-objects"
	StepClock         Step = "clock"
	StepRight         Step = "right"
)

// Outcome is how a step went.
type Outcome string

// The outcomes.
const (
	Good     Outcome = "good"
	Doubtful Outcome = "doubtful" // works, but somebody should look at it
	Bad      Outcome = "bad"
	Skipped  Outcome = "skipped" // could not be tried
)

// Verdict is the result of one step: what was found and, unless it is good,
// what to do.
type Verdict struct {
	Step    Step
	Subject string // a kind or a feature, where the step is tried for several
	Outcome Outcome
	Detail  string
	Advice  string
}

// ProbeRequest says what the connection is needed for.
type ProbeRequest struct {
	Dialect  entry.Dialect
	Base     string
	Features []entry.Feature
	// Containers are those in which rights are tried; none means the base.
	Containers []string
	// Needs are the attributes that the settings read, and Expected those that entries are
	// known to have.
	Needs, Expected []string
	// Attributes are those that the feature repair writes, by kind.
	Attributes map[entry.Kind][]string
	// Groups is where groups of the cloud are kept, nil where that is not said.
	Groups *GroupPlace
}

// clockLeeway is how far the clocks of agent and directory may differ.
const clockLeeway = 2 * time.Minute

// Probe tries a connection step by step, and goes on as far as it can. now is
// the agent's clock.
func Probe(ctx context.Context, c Connection, r ProbeRequest, now func() time.Time) []Verdict {
	p := &probe{request: r, now: now}
	conn, failure := connect(ctx, c, p.tell)
	if failure != nil {
		p.tell(failure.verdict(c))
		return append(p.verdicts, Verdict{Step: StepBase, Outcome: Skipped, Detail: "the steps after " + string(failure.step) + " need a connection"})
	}
	p.session = &Session{conn: conn, connection: c}
	defer p.session.Close()
	if p.base() {
		p.server()
		p.read()
		p.containers()
		p.attributes(ctx)
		dialectOf(r.Dialect).probeChanges(ctx, p)
		p.clock()
		for _, feature := range r.Features {
			if feature == entry.FeatureCloudGroups {
				p.groups()
				continue
			}
			p.right(feature)
		}
	}
	return p.verdicts
}

type probe struct {
	request  ProbeRequest
	session  *Session
	now      func() time.Time
	verdicts []Verdict
	root     *ldap.Entry
}

func (p *probe) tell(v Verdict) { p.verdicts = append(p.verdicts, v) }

func (p *probe) good(step Step, subject, format string, facts ...any) {
	p.tell(Verdict{step, subject, Good, fmt.Sprintf(format, facts...), ""})
}

func (p *probe) bad(step Step, subject string, err error, advice string) {
	p.tell(Verdict{step, subject, Bad, plain(err).Error(), advice})
}

// verdict explains where connecting stopped.
func (f *stepError) verdict(c Connection) Verdict {
	v := Verdict{Step: f.step, Outcome: Bad, Detail: f.what + ": " + f.err.Error()}
	switch f.step {
	case StepConfiguration:
		v.Advice = "Correct it in the agent's configuration file."
		if errors.Is(f.err, os.ErrNotExist) {
			v.Advice = "Put the CA bundle where the agent's configuration says, or correct the path there."
		}
	case StepName:
		v.Advice = "Correct the host name in the agent's configuration, or the name service of the agent's host."
		var name *net.DNSError
		if errors.As(f.err, &name) {
			v.Detail = fmt.Sprintf("the name %s is not known on the agent's host (%s)", name.Name, name.Err)
		}
	case StepConnect:
		v.Advice = "Check that the directory server runs and that no firewall stands between it and the agent's host."
		switch {
		case errors.Is(f.err, syscall.ECONNREFUSED):
			v.Detail = "nothing listens at this port: " + f.err.Error()
			v.Advice = "Correct the port in the agent's configuration, or start the directory server. LDAPS is 636, LDAP with StartTLS 389."
		case errors.Is(f.err, context.DeadlineExceeded), os.IsTimeout(f.err):
			v.Detail = "no answer within " + connectTimeout.String() + ": " + f.err.Error()
		}
	case StepTLS:
		v.Detail, v.Advice = explainTLS(f.err, c)
	case StepBind:
		v.Detail, v.Advice = explainBind(f.err, c)
	}
	return v
}

func explainTLS(err error, c Connection) (detail, advice string) {
	var (
		authority x509.UnknownAuthorityError
		host      x509.HostnameError
		invalid   x509.CertificateInvalidError
		record    tls.RecordHeaderError
	)
	switch {
	case errors.As(err, &authority):
		where := "the system's CA bundle"
		if c.CAFile != "" {
			where = c.CAFile
		}
		return "the certificate comes from an authority that " + where + " does not hold: " + err.Error(),
			"Give the directory's CA certificate in PEM form as 'ca' in the agent's configuration."
	case errors.As(err, &host):
		return "the certificate is for another host name: " + host.Error(),
			"Use one of the names that the certificate holds in the agent's 'url', or issue a certificate for this name."
	case errors.As(err, &invalid) && invalid.Reason == x509.Expired:
		return "the certificate has expired or is not valid yet: " + err.Error(),
			"Renew the directory server's certificate. If it looks valid, set the clock of the agent's host."
	case errors.As(err, &record), errors.Is(err, io.EOF), errors.Is(err, syscall.ECONNRESET):
		return "the server does not speak TLS at this port: " + err.Error(),
			"This looks like a port for plain LDAP: use port 636 with ldaps://, or ldap:// with startTLS."
	}
	return "TLS could not be set up: " + err.Error(), "Look at the directory server's TLS configuration and log."
}

// bindReasons are the sub-codes that directories of the dialect ad put into the
// text of invalidCredentials ([MS-ADTS] section 3.1.1.3.1.3.4 and Win32 codes).
var bindReasons = []struct{ mark, detail, advice string }{
	{"data 775", "the account is locked", "Unlock the account in the directory, and find out what signs in with an old password."},
	{"data 533", "the account is disabled", "Enable the account in the directory."},
	{"data 532", "the account's password has expired", "Set a new password, and put it into the agent's configuration."},
	{"data 773", "the account must change its password first", "Set a password that need not be changed, and put it into the agent's configuration."},
	{"data 701", "the account has expired", "Extend the account in the directory."},
	{"data 525", "there is no such account", "Correct 'bindDN' in the agent's configuration."},
}

func explainBind(err error, c Connection) (detail, advice string) {
	text := err.Error()
	for _, reason := range bindReasons {
		if strings.Contains(text, reason.mark) {
			return fmt.Sprintf("%s: %s (%s)", c.BindDN, reason.detail, text), reason.advice
		}
	}
	switch {
	case errors.Is(err, errLocked):
		return c.BindDN + ": the account is locked", bindReasons[0].advice
	case strings.Contains(text, ldap.LDAPResultCodeMap[ldap.LDAPResultInvalidCredentials]):
		return c.BindDN + ": wrong password or no such account (" + text + ")", "Correct 'bindDN' and 'password' in the agent's configuration; nothing else has to be done."
	case strings.Contains(text, ldap.LDAPResultCodeMap[ldap.LDAPResultStrongAuthRequired]), strings.Contains(text, ldap.LDAPResultCodeMap[ldap.LDAPResultConfidentialityRequired]):
		return "the directory takes no password over plain LDAP (" + text + ")", "Use ldaps:// or set startTLS in the agent's configuration."
	}
	return "sign in as " + c.BindDN + ": " + text, "Read the directory's answer, and correct the agent's configuration."
}

// base finds the base; false says that nothing more can be tried.
func (p *probe) base() bool {
	result, err := p.session.conn.Search(&ldap.SearchRequest{Scope: ldap.ScopeBaseObject, Filter: "(objectClass=*)",
		Attributes: []string{"namingContexts", "defaultNamingContext", "supportedControl", "supportedExtension", "currentTime", "vendorName", "vendorVersion", "objectClass", "dnsHostName"}})
	if err != nil || len(result.Entries) != 1 {
		p.bad(StepBase, "", errOr(err, "the directory does not tell what it holds"), "Allow the account to read the root of the directory (RFC 4512 section 5.1).")
		return false
	}
	p.root = result.Entries[0]
	held := strings.Join(p.root.GetAttributeValues("namingContexts"), "; ")
	if p.request.Base == "" {
		p.tell(Verdict{StepBase, "", Doubtful, "no base is set; the directory holds " + held, "Choose one of these as the base."})
		return false
	}
	seen, err := p.session.baseSeen(p.request.Base)
	switch {
	case err == nil && !seen:
		p.tell(Verdict{StepBase, "", Bad, fmt.Sprintf("%s does not exist here or cannot be seen; the directory holds %s", p.request.Base, held),
			"Correct the base in the settings, or allow the account to read it."})
		return false
	case err != nil:
		p.bad(StepBase, "", err, "Correct the base in the settings.")
		return false
	}
	p.good(StepBase, "", "%s exists", p.request.Base)
	return true
}

func errOr(err error, text string) error {
	if err == nil {
		return errors.New(text)
	}
	return err
}

// filterOf finds entries of a kind.
func (p *probe) filterOf(kind entry.Kind) string { return dialectOf(p.request.Dialect).ofKind(kind) }

// read sees whether entries of each kind can be read.
func (p *probe) read() {
	for _, kind := range entry.Kinds {
		filter := p.filterOf(kind)
		if filter == "" {
			continue
		}
		request := search(p.request.Base, filter, []string{"objectClass"})
		request.SizeLimit = 1
		result, err := p.session.conn.Search(request)
		switch {
		case err != nil && !ldap.IsErrorWithCode(err, ldap.LDAPResultSizeLimitExceeded):
			p.bad(StepRead, string(kind), err, "Allow the account to read below the base.")
		case result == nil || len(result.Entries) == 0:
			p.tell(Verdict{StepRead, string(kind), Doubtful, "no " + string(kind) + " is to be seen below the base",
				"If there are some, allow the account to read them; otherwise there is nothing to do."})
		default:
			p.good(StepRead, string(kind), "can be read, for example %s", result.Entries[0].DN)
		}
	}
}

// showDeletedControl makes deleted objects visible ([MS-ADTS] section 3.1.1.3.4.1.14).
const showDeletedControl = "1.2.840.113556.1.4.417"

// deletedObjects sees whether deletions can be noticed.
func (p *probe) deletedObjects() {
	nc := p.root.GetAttributeValue("defaultNamingContext")
	result, err := p.session.conn.Search(&ldap.SearchRequest{BaseDN: "CN=Deleted Objects," + nc, Scope: ldap.ScopeBaseObject, Filter: "(objectClass=*)",
		Attributes: []string{"objectClass"}, Controls: []ldap.Control{ldap.NewControlString(showDeletedControl, true, "")}})
	// Without the right the container may be there, but bare of its attributes.
	if err != nil || len(result.Entries) == 0 || result.Entries[0].GetAttributeValue("objectClass") == "" {
		p.tell(Verdict{StepDeleted, "", Bad, "the container of deleted objects cannot be read, so that a deletion is noticed only by a full run",
			"Give the account List Contents and Read Property on CN=Deleted Objects," + nc + "; see the text of rights for this directory."})
		return
	}
	p.good(StepDeleted, "", "deletions can be noticed")
}

func (p *probe) clock() {
	text := p.root.GetAttributeValue("currentTime")
	there, err := time.Parse("20060102150405.0Z", text)
	if text == "" || err != nil {
		p.tell(Verdict{StepClock, "", Skipped, "this directory does not tell its time", "Keep both clocks right by a time service."})
		return
	}
	difference := p.now().Sub(there).Round(time.Second)
	if difference.Abs() > clockLeeway {
		p.tell(Verdict{StepClock, "", Bad, fmt.Sprintf("the agent's clock is %s off the directory's (%s)", difference, there.Format(time.RFC3339)),
			"Set the clock of the agent's host, or of the directory server, by a time service."})
		return
	}
	p.good(StepClock, "", "the clocks agree within %s", clockLeeway)
}

// server tells which software answers, by the name that it gives itself.
func (p *probe) server() {
	name := strings.TrimSpace(p.root.GetAttributeValue("vendorName") + " " + p.root.GetAttributeValue("vendorVersion"))
	for _, class := range p.root.GetAttributeValues("objectClass") {
		if strings.EqualFold(class, "OpenLDAProotDSE") {
			name = "OpenLDAP"
		}
	}
	switch {
	case p.request.Dialect == entry.AD:
		name = "a domain controller, " + p.root.GetAttributeValue("dnsHostName")
	case name == "":
		name = "a server that does not give its name"
	case strings.Contains(name, "389") && p.request.Dialect != entry.DS389:
		p.tell(Verdict{StepServer, "", Doubtful, name + ": it gives entryUUID to some entries and not to others; once it gives it to all, they would be known by other ids than now",
			"Choose the dialect 389ds for this directory before its first run: it goes by nsUniqueId, which all entries have for good."})
		return
	}
	p.good(StepServer, "", "%s", name)
}
