package directory

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/url"
	"os"
	"strings"
	"time"

	"github.com/go-ldap/ldap/v3"

	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/secret"
)

// Connection says how to reach a directory. It lives on the agent's host only.
type Connection struct {
	// URL is ldaps://host[:port], or ldap://host[:port] with StartTLS.
	URL      string
	StartTLS bool
	// AllowPlain permits ldap:// without TLS; nothing is secret then.
	AllowPlain bool
	// CAFile is a PEM bundle; "" means the system's.
	CAFile   string
	BindDN   string
	Password secret.Text
}

// String says whom it reaches, and as whom.
func (c Connection) String() string { return c.URL + " as " + c.BindDN }

// Check tells what is wrong with a connection before it is tried.
func (c Connection) Check() error {
	address, err := url.Parse(c.URL)
	switch {
	case err != nil || address.Host == "":
		return fmt.Errorf("url %q is no LDAP address: write ldaps://host or ldap://host with startTLS", c.URL)
	case address.Scheme != "ldaps" && address.Scheme != "ldap":
		return fmt.Errorf("url %q: the scheme is ldaps or ldap", c.URL)
	case address.Scheme == "ldap" && !c.StartTLS && !c.AllowPlain:
		return fmt.Errorf("url %q would send the password unprotected: use ldaps://, set startTLS, or allow it with allowPlain", c.URL)
	}
	return nil
}

const (
	connectTimeout = 10 * time.Second
	requestTimeout = 5 * time.Minute
)

// Session is an open, bound connection. It serves one caller at a time.
type Session struct {
	silent     time.Duration // for how long nothing may come of an answer; 0 for requestTimeout
	conn       *ldap.Conn
	connection Connection
	beside     *ldap.Conn // opened when a running read must ask something else
}

// Open connects, protects the connection and binds. Its errors are problems
// with code directory-unreachable and say which step failed.
func Open(ctx context.Context, c Connection) (*Session, error) {
	conn, failure := connect(ctx, c, func(Verdict) {})
	if failure != nil {
		return nil, failure.unreachable(c)
	}
	return &Session{conn: conn, connection: c}, nil
}

// stepError is where connecting stopped.
type stepError struct {
	step Step
	what string // what was being done
	err  error
}

// unreachable is the failure as a problem.
func (e *stepError) unreachable(c Connection) error {
	return problem.Wrap(problem.DirectoryUnreachable, e.err, "%s: %s", c.URL, e.what)
}

// connect goes through the steps from the configuration to the bind, and tells
// each that went well.
func connect(ctx context.Context, c Connection, tell func(Verdict)) (*ldap.Conn, *stepError) {
	conn, failure := reach(ctx, c, tell)
	if failure != nil {
		return nil, failure
	}
	if err := bind(conn, c); err != nil {
		_ = conn.Close()
		return nil, &stepError{StepBind, "bind as " + c.BindDN, err}
	}
	tell(Verdict{Step: StepBind, Outcome: Good, Detail: "signed in as " + c.BindDN})
	return conn, nil
}

// reach is the steps before the bind.
func reach(ctx context.Context, c Connection, tell func(Verdict)) (*ldap.Conn, *stepError) {
	if err := c.Check(); err != nil {
		return nil, &stepError{StepConfiguration, "configuration", err}
	}
	address, _ := url.Parse(c.URL) // checked above
	roots, err := certificates(c.CAFile)
	if err != nil {
		return nil, &stepError{StepConfiguration, "read the CA bundle", err}
	}
	ctx, cancel := context.WithTimeout(ctx, connectTimeout)
	defer cancel()
	addresses, err := net.DefaultResolver.LookupHost(ctx, address.Hostname())
	if err != nil {
		return nil, &stepError{StepName, "look up the name", err}
	}
	tell(Verdict{Step: StepName, Outcome: Good, Detail: address.Hostname() + " is " + strings.Join(addresses, ", ")})
	port := address.Port()
	if port == "" {
		port = map[string]string{"ldap": "389", "ldaps": "636"}[address.Scheme]
	}
	raw, err := (&net.Dialer{}).DialContext(ctx, "tcp", net.JoinHostPort(address.Hostname(), port))
	if err != nil {
		return nil, &stepError{StepConnect, "connect", err}
	}
	tell(Verdict{Step: StepConnect, Outcome: Good, Detail: "port " + port + " answers at " + raw.RemoteAddr().String()})
	config := &tls.Config{RootCAs: roots, ServerName: address.Hostname(), MinVersion: tls.VersionTLS12}
	return protect(ctx, raw, c, config, tell)
}

// protect puts TLS over the connection, at once (ldaps) or by StartTLS, or
// leaves it plain where the configuration allows that.
func protect(ctx context.Context, raw net.Conn, c Connection, config *tls.Config, tell func(Verdict)) (*ldap.Conn, *stepError) {
	fail := func(what string, err error) (*ldap.Conn, *stepError) {
		_ = raw.Close()
		return nil, &stepError{StepTLS, what, err}
	}
	if strings.HasPrefix(strings.ToLower(c.URL), "ldaps://") {
		secured := tls.Client(raw, config)
		if err := secured.HandshakeContext(ctx); err != nil {
			return fail(tlsStep(err), err)
		}
		conn := ldap.NewConn(secured, true)
		conn.SetTimeout(requestTimeout)
		conn.Start()
		tell(certificateVerdict(secured.ConnectionState(), time.Now()))
		return conn, nil
	}
	conn := ldap.NewConn(raw, false)
	conn.SetTimeout(requestTimeout)
	conn.Start()
	if !c.StartTLS {
		tell(Verdict{Step: StepTLS, Outcome: Doubtful, Detail: "the connection is plain LDAP: the password and everything read can be seen on the network",
			Advice: "Use ldaps:// or set startTLS in the agent's configuration, and take allowPlain out."})
		return conn, nil
	}
	if err := conn.StartTLS(config); err != nil {
		return fail("start TLS", plain(err))
	}
	state, _ := conn.TLSConnectionState()
	tell(certificateVerdict(state, time.Now()))
	return conn, nil
}

// soon is how long before a certificate's end the probe warns.
const soon = 30 * 24 * time.Hour

func certificateVerdict(state tls.ConnectionState, now time.Time) Verdict {
	v := Verdict{Step: StepTLS, Outcome: Good, Detail: tls.VersionName(state.Version)}
	if len(state.PeerCertificates) == 0 {
		return v
	}
	ends := state.PeerCertificates[0].NotAfter
	v.Detail += ", certificate of " + state.PeerCertificates[0].Subject.CommonName + " valid until " + ends.Format(time.DateOnly)
	if ends.Sub(now) < soon {
		v.Outcome = Doubtful
		v.Advice = "Renew the directory server's certificate before it expires; after that no run can read the directory."
	}
	return v
}

// errLocked says that the account is locked, where the directory tells.
var errLocked = errors.New("the account is locked")

// bind signs in. A directory may tell more in a password policy control (draft
// Behera) than in its result code.
func bind(conn *ldap.Conn, c Connection) error {
	request := ldap.NewSimpleBindRequest(c.BindDN, c.Password.Reveal(), []ldap.Control{ldap.NewControlBeheraPasswordPolicy()})
	result, err := conn.SimpleBind(request)
	if err == nil {
		return nil
	}
	if result != nil {
		for _, control := range result.Controls {
			if policy, ok := control.(*ldap.ControlBeheraPasswordPolicy); ok && policy.Error == ldap.BeheraAccountLocked {
				return errLocked
			}
		}
	}
	return plain(err)
}

// CertificateExpires is until when the certificate is valid by which the directory's server is
// known; false where there is none.
func (s *Session) CertificateExpires() (time.Time, bool) {
	state, protected := s.conn.TLSConnectionState()
	if !protected || len(state.PeerCertificates) == 0 {
		return time.Time{}, false
	}
	return state.PeerCertificates[0].NotAfter, true
}

// Close ends the session.
func (s *Session) Close() {
	_ = s.conn.Close()
	if s.beside != nil {
		_ = s.beside.Close()
	}
}

// askBeside searches while a read is running. It needs a connection of its own:
// on one connection an answer comes only after all that the read has not taken
// yet, and the read would wait for the answer.
func (s *Session) askBeside(ctx context.Context, request *ldap.SearchRequest) (*ldap.SearchResult, error) {
	if s.beside == nil {
		conn, failure := connect(ctx, s.connection, func(Verdict) {})
		if failure != nil {
			return nil, problem.Wrap(problem.DirectoryUnreachable, failure.err, "%s: %s", s.connection.URL, failure.what)
		}
		s.beside = conn
	}
	return s.beside.Search(request)
}

func certificates(file string) (*x509.CertPool, error) {
	if file == "" {
		return nil, nil
	}
	text, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	pool := x509.NewCertPool()
	if !pool.AppendCertsFromPEM(text) {
		return nil, fmt.Errorf("%s holds no certificate in PEM form", file)
	}
	return pool, nil
}

func tlsStep(err error) string {
	var certificate *tls.CertificateVerificationError
	if errors.As(err, &certificate) {
		return "verify the certificate"
	}
	return "TLS"
}

// plain keeps what the server or the system said, without the library's prefix.
func plain(err error) error {
	var failure *ldap.Error
	if errors.As(err, &failure) && failure.Err != nil {
		if failure.ResultCode < ldap.ErrorNetwork && failure.Err.Error() == "" {
			return errors.New(ldap.LDAPResultCodeMap[failure.ResultCode])
		}
		if failure.ResultCode < ldap.ErrorNetwork {
			return fmt.Errorf("%s: %w", ldap.LDAPResultCodeMap[failure.ResultCode], failure.Err)
		}
		return failure.Err
	}
	return err
}
