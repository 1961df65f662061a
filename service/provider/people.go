package provider

import (
	"context"
	"crypto/rand"
	_ "embed"
	"errors"
	"html/template"
	"log/slog"
	"net/http"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/crewjam/saml"
	"github.com/crewjam/saml/samlsp"
	"github.com/jcmturner/goidentity/v6"
	"github.com/jcmturner/gokrb5/v8/keytab"
	"github.com/jcmturner/gokrb5/v8/spnego"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/logkey"
	"kambrel.example/kambrel/core/password"
	"kambrel.example/kambrel/core/problem"
	core "kambrel.example/kambrel/core/signin"
	protocol "kambrel.example/kambrel/protocol/saml"
	"kambrel.example/kambrel/service/operators"
	"kambrel.example/kambrel/service/store"
)

const (
	// sessionTime is how long somebody stays signed in.
	sessionTime = 10 * time.Hour
	// confirmGrace is how old what the directory said of somebody may be when nobody can be asked.
	confirmGrace = 10 * time.Minute
	// refusedAfter is how long a refusal takes at least, so that it does not tell whether there is
	// such a login.
	refusedAfter = 700 * time.Millisecond
	cookieName   = "kambrel-people"
	// mostForm is how long what a browser sends may be, in octets.
	mostForm = 64 << 10
)

//go:embed people.html
var pages string

var page = template.Must(template.New("people").Parse(pages))

// AddressKey is under which a request's context has the address that it comes from.
const AddressKey = "address"

// Handler answers people and the cloud.
func (p *Provider) Handler() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET "+Path+"/metadata", p.serveMetadata)
	mux.HandleFunc(Path+"/sign-in", p.serveSignIn)
	mux.HandleFunc("GET "+Path+"/sign-out", p.serveSignOut)
	mux.HandleFunc("GET "+Path+"/check", p.serveCheck)
	mux.HandleFunc("GET "+Path+"/ticket", p.serveTicket)
	protection := http.NewCrossOriginProtection()
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		defer func() {
			// The libraries read what anybody sends.
			if fault := recover(); fault != nil {
				slog.Error("a request of people who sign in has failed", logkey.URL, r.URL.Path, logkey.Error, fault)
				p.say(w, http.StatusBadRequest, "This request cannot be read.")
			}
		}()
		w.Header().Set("Cache-Control", "no-store")
		if r.Body != nil {
			r.Body = http.MaxBytesReader(w, r.Body, mostForm)
		}
		if err := protection.Check(r); err != nil {
			p.say(w, http.StatusForbidden, "This came from another page. Begin at the service that you want to use.")
			return
		}
		own, err := p.domains(r.Context())
		switch {
		case err != nil:
			p.fail(w, err)
		case len(own) == 0 || p.store.IsShadow():
			http.NotFound(w, r)
		default:
			mux.ServeHTTP(w, r)
		}
	})
}

func (p *Provider) serveMetadata(w http.ResponseWriter, r *http.Request) {
	text, _, err := p.Metadata(r.Context())
	if err != nil {
		p.fail(w, err)
		return
	}
	w.Header().Set("Content-Type", "application/samlmetadata+xml")
	_, _ = w.Write([]byte(text))
}

// shown is what a page shows.
type shown struct {
	Nonce, Title, Said, Login string
	Form                      *saml.IdpAuthnRequestForm
	Asks                      bool
	Query                     string // the cloud's request, as it came
	Check                     bool
	Ticket                    bool
	ServerTime                int64
}

func (p *Provider) show(w http.ResponseWriter, status int, what shown) {
	what.Nonce = rand.Text()
	action := "'self'"
	if what.Form != nil {
		// The address is that of the cloud's metadata.
		action += " " + originOf(what.Form.URL)
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.Header().Set("Content-Security-Policy", "default-src 'none'; style-src 'nonce-"+what.Nonce+"'; script-src 'nonce-"+what.Nonce+"'; connect-src 'self'; form-action "+action+"; frame-ancestors 'none'; base-uri 'none'")
	w.WriteHeader(status)
	if err := page.Execute(w, what); err != nil {
		slog.Warn("show a page to people who sign in", logkey.Error, err)
	}
}

func originOf(address string) string {
	scheme, rest, _ := strings.Cut(address, "://")
	host, _, _ := strings.Cut(rest, "/")
	return scheme + "://" + host
}

func (p *Provider) say(w http.ResponseWriter, status int, text string) {
	p.show(w, status, shown{Title: "Sign in", Said: text})
}

func (p *Provider) fail(w http.ResponseWriter, err error) {
	if errors.Is(err, errOff) {
		p.say(w, http.StatusNotFound, "Nobody signs in here.")
		return
	}
	slog.Error("people cannot sign in", logkey.Error, err)
	p.say(w, http.StatusServiceUnavailable, "Nobody can be signed in now. Try again in a moment, or tell your administrators.")
}

// GetServiceProvider is the cloud, by its entity id (saml.ServiceProviderProvider).
func (p *Provider) GetServiceProvider(r *http.Request, id string) (*saml.EntityDescriptor, error) {
	own, err := p.domains(r.Context())
	if err != nil {
		return nil, err
	}
	for _, one := range own {
		if one.Cloud == "" {
			continue
		}
		metadata, err := samlsp.ParseMetadata([]byte(one.Cloud))
		if err == nil && metadata.EntityID == id {
			return metadata, nil
		}
	}
	return nil, os.ErrNotExist
}

// serveSignIn takes a request of the cloud, and answers it once it is known who it is (single
// sign-on, saml-profiles-2.0-os section 4.1).
func (p *Provider) serveSignIn(w http.ResponseWriter, r *http.Request) {
	have, err := p.keys(r.Context())
	if err != nil {
		p.fail(w, err)
		return
	}
	idp := p.identityProvider(have)
	asked := r
	if r.Method == http.MethodPost {
		// The form brings the request along, as the cloud has signed it.
		if err := r.ParseForm(); err != nil {
			p.say(w, http.StatusBadRequest, "This request cannot be read.")
			return
		}
		asked = r.Clone(r.Context())
		asked.Method, asked.Body, asked.PostForm, asked.Form = http.MethodGet, nil, nil, nil
		asked.URL.RawQuery = r.PostForm.Get("query")
	}
	request, err := saml.NewIdpAuthnRequest(idp, asked)
	if err == nil {
		idp.WantAuthnRequestsSigned = p.cloudSigns(r.Context())
		err = request.Validate()
	}
	if err != nil {
		slog.Warn("a request to sign somebody in is refused", logkey.Error, err)
		p.say(w, http.StatusForbidden, "This request is not one of the cloud, it is too old, or it was changed on the way. Begin at the service that you want to use.")
		return
	}
	session, known, err := p.session(w, r)
	if err != nil {
		p.fail(w, err)
		return
	}
	if r.Method == http.MethodPost {
		session, known = p.byPassword(w, r, asked.URL.RawQuery)
	} else if !known {
		session, known = p.byTicket(w, r)
	}
	if !known {
		if r.Method != http.MethodPost {
			p.ask(w, r, asked.URL.RawQuery, "", "")
		}
		return
	}
	p.answer(w, r, request, session)
}

// ask shows the form. Browsers that have a ticket send it instead, where there is a key table.
func (p *Provider) ask(w http.ResponseWriter, r *http.Request, query, login, said string) {
	status := http.StatusOK
	if p.TakesTickets() && r.Method == http.MethodGet {
		w.Header().Set("WWW-Authenticate", "Negotiate")
		status = http.StatusUnauthorized
	} else if said != "" {
		status = http.StatusUnauthorized
	}
	p.show(w, status, shown{Title: "Sign in", Asks: true, Query: query, Login: login, Said: said})
}

func (p *Provider) cloudSigns(ctx context.Context) bool {
	own, err := p.domains(ctx)
	return err != nil || slices.ContainsFunc(own, func(one store.Federation) bool {
		cloud, err := protocol.Cloud(one.Cloud)
		return err == nil && cloud.Signs
	})
}

// somebody is who signs in: their resource and entry.
type somebody struct {
	resource string
	body     entry.Resource
	ref      entry.Ref
	domain   store.Federation
}

// said is what is said of somebody to the cloud.
func (s somebody) said() (core.Said, error) {
	cloud, err := protocol.Cloud(s.domain.Cloud)
	if err != nil {
		return core.Said{}, err
	}
	maker, err := core.Compile(s.domain.ClaimsFor(cloud))
	if err != nil {
		return core.Said{}, err
	}
	return maker.Of(s.body)
}

// find finds somebody by the id of their resource, if they may sign in here.
func (p *Provider) find(ctx context.Context, resource string) (somebody, bool, error) {
	body, err := p.store.Resources.Get(ctx, resource)
	if store.NotFound(err) || err == nil && body == nil {
		return somebody{}, false, nil
	}
	if err != nil {
		return somebody{}, false, err
	}
	who := somebody{resource: resource, body: body}
	login, _ := body["userName"].(string)
	if active, _ := body["active"].(bool); !active || login == "" {
		return who, false, nil
	}
	own, err := p.domains(ctx)
	if err != nil {
		return who, false, err
	}
	i := slices.IndexFunc(own, func(one store.Federation) bool { return strings.HasSuffix(strings.ToLower(login), "@"+one.Domain) })
	if i < 0 {
		return who, false, nil
	}
	who.domain = own[i]
	who.ref, err = p.store.Links.EntryOf(ctx, resource)
	if store.NotFound(err) || err == nil && who.ref.Directory == "" {
		return who, false, nil
	}
	return who, err == nil, err
}

// session is that of the browser, if its person stands as before: who was disabled has none.
func (p *Provider) session(w http.ResponseWriter, r *http.Request) (store.OwnSession, bool, error) {
	cookie, err := r.Cookie(cookieName)
	if err != nil || cookie.Value == "" {
		return store.OwnSession{}, false, nil
	}
	session, found, err := p.store.OwnProvider.Session(r.Context(), cookie.Value)
	if err != nil || !found {
		return session, false, err
	}
	who, may, err := p.find(r.Context(), session.Resource)
	if err != nil {
		return session, false, err
	}
	if may {
		// Each time: who was disabled just now is nobody any more.
		said, err := p.operators.Stands(r.Context(), who.ref)
		switch {
		case problem.CodeOf(err) == problem.SignInUnanswered && time.Since(session.Confirmed) < confirmGrace:
			return session, true, nil
		case err != nil:
			return session, false, err
		}
		if may = said.Standing == password.StandsWell; may {
			if err := p.store.OwnProvider.Confirm(r.Context(), session); err != nil {
				return session, false, err
			}
		}
	}
	if !may {
		if _, err := p.store.OwnProvider.End(r.Context(), session.Resource, ""); err != nil {
			return session, false, err
		}
		p.forget(w)
	}
	return session, may, nil
}

func (p *Provider) forget(w http.ResponseWriter) {
	http.SetCookie(w, &http.Cookie{Name: cookieName, Path: Path, MaxAge: -1, HttpOnly: true, SameSite: http.SameSiteLaxMode, Secure: p.secure()})
}

func (p *Provider) secure() bool { return strings.HasPrefix(p.options.URL, "https://") }

func addressOf(r *http.Request) string {
	address, _ := r.Context().Value(AddressKey).(string)
	return address
}

// byPassword tries what somebody has typed. Where it is not right, the form is shown again.
func (p *Provider) byPassword(w http.ResponseWriter, r *http.Request, query string) (store.OwnSession, bool) {
	began := time.Now()
	login := strings.TrimSpace(r.PostForm.Get("login"))
	again := func(text string) (store.OwnSession, bool) {
		select {
		case <-time.After(refusedAfter - time.Since(began)):
		case <-r.Context().Done():
		}
		p.ask(w, r, query, login, text)
		return store.OwnSession{}, false
	}
	const wrong = "The login or the password is wrong, or this account may not sign in."
	id, err := p.store.Resources.ByLogin(r.Context(), login)
	if err != nil {
		p.fail(w, err)
		return store.OwnSession{}, false
	}
	who, may, err := p.find(r.Context(), id)
	if err != nil {
		p.fail(w, err)
		return store.OwnSession{}, false
	}
	if !may {
		if _, slow := p.operators.Unknown(strings.ToLower(login), addressOf(r)); slow {
			return again("There were too many attempts. Wait a minute, and try again.")
		}
		return again(wrong)
	}
	said, err := p.operators.Proves(r.Context(), who.ref, r.PostForm.Get("password"), addressOf(r))
	var many operators.TooManyAttempts
	switch {
	case errors.As(err, &many):
		return again("There were too many attempts. Wait a minute, and try again.")
	case problem.CodeOf(err) == problem.SignInUnanswered:
		return again("Your organization's directory does not answer now. Try again in a moment.")
	case err != nil:
		p.fail(w, err)
		return store.OwnSession{}, false
	case said.Standing != password.StandsWell:
		return again(wrong)
	}
	return p.begin(w, r, who, "password")
}

func (p *Provider) begin(w http.ResponseWriter, r *http.Request, who somebody, by string) (store.OwnSession, bool) {
	cookie := rand.Text()
	session := store.OwnSession{Index: "s" + rand.Text(), Resource: who.resource, Directory: who.ref.Directory, EntryID: who.ref.ID.String(), By: by, Expires: time.Now().Add(sessionTime), Began: time.Now()}
	if err := p.store.OwnProvider.Begin(r.Context(), cookie, session); err != nil {
		p.fail(w, err)
		return session, false
	}
	http.SetCookie(w, &http.Cookie{Name: cookieName, Value: cookie, Path: Path, HttpOnly: true, SameSite: http.SameSiteLaxMode, Secure: p.secure()})
	login, _ := who.body["userName"].(string)
	slog.Info("signed in to the cloud", logkey.Detail, login, logkey.Directory, who.ref.Directory, logkey.Kind, by, logkey.Address, addressOf(r))
	return session, true
}

// answer sends the browser back to the cloud with an assertion.
func (p *Provider) answer(w http.ResponseWriter, r *http.Request, request *saml.IdpAuthnRequest, session store.OwnSession) {
	who, may, err := p.find(r.Context(), session.Resource)
	if err != nil {
		p.fail(w, err)
		return
	}
	if !may {
		p.say(w, http.StatusForbidden, "Your account in the cloud is suspended, or nobody has linked it to your directory.")
		return
	}
	said, err := who.said()
	if err != nil {
		p.fail(w, err)
		return
	}
	one := &saml.Session{ID: session.Index, Index: session.Index, CreateTime: session.Began, ExpireTime: session.Expires, NameID: said.Subject, NameIDFormat: said.Format, AuthnContextClassRef: contexts[session.By]}
	for name, values := range said.Claims {
		attribute := saml.Attribute{Name: name, NameFormat: "urn:oasis:names:tc:SAML:2.0:attrname-format:uri"}
		for _, value := range values {
			attribute.Values = append(attribute.Values, saml.AttributeValue{Type: "xs:string", Value: value})
		}
		one.CustomAttributes = append(one.CustomAttributes, attribute)
	}
	if err := (saml.DefaultAssertionMaker{}).MakeAssertion(request, one); err != nil {
		p.fail(w, err)
		return
	}
	// The library adds what it knows by other names; what is said is what the claims say.
	request.Assertion.AttributeStatements = []saml.AttributeStatement{{Attributes: one.CustomAttributes}}
	// Signed and not encrypted: it goes over TLS, and a test can show what it says.
	request.SPSSODescriptor.KeyDescriptors = slices.DeleteFunc(slices.Clone(request.SPSSODescriptor.KeyDescriptors), func(k saml.KeyDescriptor) bool { return k.Use != "signing" })
	form, err := request.PostBinding()
	if err != nil {
		p.fail(w, err)
		return
	}
	p.show(w, http.StatusOK, shown{Title: "Signing in", Form: &form})
}

// contexts are how somebody has signed in (saml-authn-context-2.0-os section 3.4).
var contexts = map[string]string{
	"password": "urn:oasis:names:tc:SAML:2.0:ac:classes:PasswordProtectedTransport",
	"ticket":   "urn:oasis:names:tc:SAML:2.0:ac:classes:Kerberos",
}

// serveSignOut ends the session that the cloud names (single logout, section 4.4), or that of the
// browser itself.
func (p *Provider) serveSignOut(w http.ResponseWriter, r *http.Request) {
	have, err := p.keys(r.Context())
	if err != nil {
		p.fail(w, err)
		return
	}
	switch query := r.URL.Query(); {
	case query.Get("SAMLResponse") != "":
		p.identityProvider(have).ServeSLO(w, r) // the cloud has ended its session, and the browser goes on
		return
	case query.Get("SAMLRequest") == "":
		p.signOut(w, r, have)
		return
	}
	request, err := saml.NewIdpLogoutRequest(p.identityProvider(have), r)
	if err == nil {
		err = request.Validate()
	}
	if err != nil {
		slog.Warn("a request to sign somebody out is refused", logkey.Error, err)
		p.say(w, http.StatusForbidden, "This request is not one of the cloud, or it is too old.")
		return
	}
	if session, found, err := p.session(w, r); err == nil && found && slices.ContainsFunc(request.Request.AllSessionIndexes(), func(i saml.SessionIndex) bool { return i.Value == session.Index }) {
		if _, err := p.store.OwnProvider.End(r.Context(), session.Resource, session.Index); err != nil {
			p.fail(w, err)
			return
		}
		p.forget(w)
	}
	if err := request.WriteLogoutResponse(w, request.MakeLogoutResponse(saml.StatusSuccess)); err != nil {
		p.fail(w, err)
	}
}

// signOut ends the session of the browser, and that of the cloud.
func (p *Provider) signOut(w http.ResponseWriter, r *http.Request, have keys) {
	session, found, err := p.session(w, r)
	if err != nil {
		p.fail(w, err)
		return
	}
	if !found {
		p.say(w, http.StatusOK, "You are signed out.")
		return
	}
	who, _, err := p.find(r.Context(), session.Resource)
	if err == nil {
		_, err = p.store.OwnProvider.End(r.Context(), session.Resource, session.Index)
	}
	if err != nil {
		p.fail(w, err)
		return
	}
	p.forget(w)
	said, err := who.said()
	if err != nil {
		said = core.Said{} // whom the cloud knew cannot be told any more: it is not asked
	}
	idp := p.identityProvider(have)
	idp.SessionProvider = participant{said: said, cloud: who.domain.Cloud, index: session.Index}
	idp.StartLogout(w, r, &saml.Session{ID: session.Index}, have.base+"/sign-out")
}

// participant is the cloud, where somebody was signed in (saml.SessionParticipantTracker).
type participant struct {
	said         core.Said
	cloud, index string
}

func (participant) GetSession(http.ResponseWriter, *http.Request, *saml.IdpAuthnRequest) *saml.Session {
	return nil
}

func (participant) AddSessionParticipant(*http.Request, *saml.Session, saml.SessionParticipant) error {
	return nil
}

func (t participant) SessionParticipants(_ *http.Request, match func(*saml.Session) bool) ([]saml.SessionParticipant, error) {
	cloud, err := protocol.Cloud(t.cloud)
	if err != nil || t.said.Subject == "" || !match(&saml.Session{ID: t.index}) {
		return nil, nil
	}
	return []saml.SessionParticipant{{ServiceProviderID: cloud.EntityID, NameID: saml.NameID{Value: t.said.Subject, Format: t.said.Format}, SessionIndex: t.index}}, nil
}

// byTicket takes a ticket where the browser brings one (SPNEGO, RFC 4559).
func (p *Provider) byTicket(w http.ResponseWriter, r *http.Request) (store.OwnSession, bool) {
	login, realm, ok := p.ticket(r)
	if !ok {
		return store.OwnSession{}, false
	}
	who, may, err := p.ofTicket(r.Context(), login, realm)
	if err != nil || !may {
		slog.Warn("somebody with a ticket is not signed in", logkey.Detail, login+"@"+realm, logkey.Address, addressOf(r), logkey.Error, err)
		return store.OwnSession{}, false
	}
	return p.begin(w, r, who, "ticket")
}

// TakesTickets tells whether a ticket signs somebody in.
func (p *Provider) TakesTickets() bool { return p.options.Keytab != "" }

// ticket is whose ticket a request brings.
func (p *Provider) ticket(r *http.Request) (login, realm string, ok bool) {
	if !p.TakesTickets() || !strings.HasPrefix(r.Header.Get("Authorization"), "Negotiate ") {
		return "", "", false
	}
	table, err := keytab.Load(p.options.Keytab)
	if err != nil {
		slog.Error("read the key table for tickets", logkey.Error, err)
		return "", "", false
	}
	inner := http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		if id := goidentity.FromHTTPRequestContext(r); id != nil && id.Authenticated() {
			login, realm, ok = id.UserName(), id.Domain(), true
		}
	})
	spnego.SPNEGOKRB5Authenticate(inner, table).ServeHTTP(&deaf{http.Header{}}, r)
	return login, realm, ok
}

// deaf takes an answer that nobody hears.
type deaf struct{ header http.Header }

func (d *deaf) Header() http.Header         { return d.header }
func (d *deaf) Write(b []byte) (int, error) { return len(b), nil }
func (d *deaf) WriteHeader(int)             {}

// ofTicket finds who has a name in a realm: that of a directory's base.
func (p *Provider) ofTicket(ctx context.Context, login, realm string) (somebody, bool, error) {
	revision, ok, err := p.store.Settings.Active(ctx)
	if err != nil || !ok {
		return somebody{}, false, err
	}
	for _, d := range revision.Document.Directories {
		if d.Dialect != entry.AD || !strings.EqualFold(RealmOf(d.Base), realm) {
			continue
		}
		said, err := p.operators.WithTicket(ctx, d.Name, login)
		if err != nil || said.Standing != password.StandsWell {
			return somebody{}, false, err
		}
		link, err := p.store.Links.Of(ctx, entry.Ref{Directory: d.Name, ID: said.Entry})
		if store.NotFound(err) {
			return somebody{}, false, nil
		}
		if err != nil {
			return somebody{}, false, err
		}
		return p.find(ctx, link.ResourceID)
	}
	return somebody{}, false, nil
}

// RealmOf is the Kerberos realm of a directory, by its base ([MS-ADTS] section 5.1.1.1).
func RealmOf(base string) string {
	var parts []string
	for _, rdn := range strings.Split(base, ",") {
		if name, value, _ := strings.Cut(strings.TrimSpace(rdn), "="); strings.EqualFold(name, "DC") {
			parts = append(parts, strings.ToUpper(value))
		}
	}
	return strings.Join(parts, ".")
}

// serveCheck is a page that tells a person's browser what is missing.
func (p *Provider) serveCheck(w http.ResponseWriter, _ *http.Request) {
	p.show(w, http.StatusOK, shown{Title: "Is this browser ready?", Check: true, Ticket: p.TakesTickets(), ServerTime: time.Now().UnixMilli()})
}

// serveTicket tells the check whether the browser brings a ticket, and whose.
func (p *Provider) serveTicket(w http.ResponseWriter, r *http.Request) {
	login, realm, ok := p.ticket(r)
	w.Header().Set("Content-Type", "text/plain; charset=utf-8")
	if !ok {
		w.Header().Set("WWW-Authenticate", "Negotiate")
		w.WriteHeader(http.StatusUnauthorized)
		return
	}
	_, _ = w.Write([]byte(login + "@" + realm))
}
