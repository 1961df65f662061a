package standin

import (
	"crypto/rand"
	"crypto/subtle"
	_ "embed"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/gofiber/fiber/v2"
	"github.com/google/uuid"
	"golang.org/x/crypto/argon2"

	"kambrel.example/kambrel/core/password"
	"kambrel.example/kambrel/protocol/events"
)

// people are those who sign in here: the passwords that the cloud keeps itself, as
// Argon2id in PHC form, and who is signed in.
type people struct {
	file string // "" keeps nothing

	mu       sync.Mutex
	own      map[string]string // id -> PHC
	digests  map[string]kept   // id -> of the password in the directory
	sessions map[string]string // cookie -> id
	indexes  map[string]string // cookie -> of the session at the identity provider
}

func openPeople(dir string) (*people, error) {
	p := &people{own: map[string]string{}, digests: map[string]kept{}, sessions: map[string]string{}, indexes: map[string]string{}}
	if dir == "" {
		return p, nil
	}
	p.file = filepath.Join(dir, "passwords.json")
	return p, readKept(p.file, &peopleFile{&p.own, &p.digests})
}

// readKept reads what a file of JSON keeps into a value; where there is no file yet, it stays.
func readKept(file string, into any) error {
	text, err := os.ReadFile(file)
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	return json.Unmarshal(text, into)
}

// endSessions signs somebody out everywhere, as soon as the account is suspended: who is
// back signs in again.
func (p *people) endSessions(id string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	maps.DeleteFunc(p.sessions, func(_, of string) bool { return of == id })
}

func hashed(text string) string {
	salt := make([]byte, 16)
	_, _ = rand.Read(salt) // never fails
	return phc(text, salt, 19456, 2, 1)
}

func phc(text string, salt []byte, memory, time uint32, threads uint8) string {
	sum := argon2.IDKey([]byte(text), salt, time, memory, threads, 32)
	b64 := base64.RawStdEncoding.EncodeToString
	return fmt.Sprintf("$argon2id$v=19$m=%d,t=%d,p=%d$%s$%s", memory, time, threads, b64(salt), b64(sum))
}

// fits tells whether a text is what a PHC string was made of.
func fits(text, kept string) bool {
	parts := strings.Split(kept, "$")
	if len(parts) != 6 {
		return false
	}
	var memory, time uint32
	var threads uint8
	salt, err := base64.RawStdEncoding.DecodeString(parts[4])
	if _, scanned := fmt.Sscanf(parts[3], "m=%d,t=%d,p=%d", &memory, &time, &threads); scanned != nil || err != nil {
		return false
	}
	return subtle.ConstantTimeCompare([]byte(phc(text, salt, memory, time, threads)), []byte(kept)) == 1
}

// keep makes a PHC string somebody's password of the cloud's own, that was asked for at a
// time: a digest that was read before is of the password before.
func (p *people) keep(id, phc string, asked time.Time) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.own[id] = phc
	p.digests[id] = kept{Made: max(p.digests[id].Made, asked.UnixMicro())}
	return p.save()
}

// peopleFile is what the file holds.
type peopleFile struct {
	Own     *map[string]string `json:"own"`
	Digests *map[string]kept   `json:"digests"`
}

// save must be called with the lock held.
func (p *people) save() error {
	if p.file == "" {
		return nil
	}
	text, err := json.Marshal(peopleFile{&p.own, &p.digests})
	if err != nil {
		return err
	}
	return os.WriteFile(p.file, text, 0o600)
}

// setDigest keeps somebody's digest in the place of a password of the cloud's own; an empty
// one takes it away, but for when it was made.
func (p *people) setDigest(id string, digest kept) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	if digest.Digest == "" {
		digest.Made = p.digests[id].Made
	} else {
		delete(p.own, id)
	}
	p.digests[id] = digest
	return p.save()
}

func (p *people) madeOf(id string) int64 {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.digests[id].Made
}

// person is what the cloud knows of somebody who signs in.
type person struct {
	id, login, name, external, directory, entry string
	active                                      bool
}

//go:embed people.html
var page string

// peopleRoutes are those of the page where people look after their password, and those by
// which an administrator of the cloud does.
func (s *Server) peopleRoutes() {
	s.app.Get("/me", func(c *fiber.Ctx) error {
		c.Set("Content-Type", "text/html; charset=utf-8")
		return c.SendString(page)
	})
	s.app.Post("/me/session", s.signIn)
	s.app.Get("/me/session", func(c *fiber.Ctx) error {
		who, f := s.signedIn(c)
		if f != nil {
			return refuse(c, f)
		}
		s.people.mu.Lock()
		_, there := s.people.indexes[c.Cookies(sessionCookie)]
		s.people.mu.Unlock()
		return c.JSON(fiber.Map{"login": who.login, "name": who.name, "directory": who.directory, "there": there})
	})
	s.app.Delete("/me/session", s.signOut)
	s.app.Post("/me/password", func(c *fiber.Ctx) error {
		who, f := s.signedIn(c)
		if f != nil {
			return refuse(c, f)
		}
		var asked asking
		if json.Unmarshal(c.Body(), &asked) != nil {
			return refuse(c, invalidSyntax("the body asks for nothing"))
		}
		asked.by, asked.MustChange = events.ByPerson, false
		return s.ask(c, who, asked)
	})
}

// asking is what somebody wants done with a password.
type asking struct {
	Login      string       `json:"login"`
	Act        password.Act `json:"act"`
	New        string       `json:"new"`
	Old        string       `json:"old"`
	MustChange bool         `json:"mustChange"`
	// Own sets the password that the cloud keeps itself, and nothing else.
	Own bool `json:"own"`
	by  string
}

const sessionCookie = "standin"

func (s *Server) signIn(c *fiber.Ctx) error {
	var asked struct{ Login, Password string }
	if json.Unmarshal(c.Body(), &asked) != nil {
		return refuse(c, invalidSyntax("give login and password"))
	}
	who, found := s.store.person(asked.Login)
	s.people.mu.Lock()
	own, digest := s.people.own[who.id], s.people.digests[who.id]
	s.people.mu.Unlock()
	if _, there := s.signsOnThere(who); found && there {
		return refuse(c, &failure{403, "", "This account signs in at its organization's sign-in service."})
	}
	if !found || !fits(asked.Password, own) && !digest.signs(asked.Password) {
		return refuse(c, &failure{401, "", "The login or the password is wrong."})
	}
	if !who.active {
		return refuse(c, &failure{403, "", "This account is suspended."})
	}
	s.begin(c, who, "")
	return c.SendStatus(fiber.StatusNoContent)
}

// begin signs somebody in; index is the session's at the identity provider, "" where they have
// signed in with a password.
func (s *Server) begin(c *fiber.Ctx, who person, index string) {
	cookie := rand.Text()
	s.people.mu.Lock()
	s.people.sessions[cookie] = who.id
	if index != "" {
		s.people.indexes[cookie] = index
	}
	s.people.mu.Unlock()
	c.Cookie(&fiber.Cookie{Name: sessionCookie, Value: cookie, HTTPOnly: true, SameSite: "Strict", Path: "/me"})
}

// signOut ends a session, and tells where it is to be ended too.
func (s *Server) signOut(c *fiber.Ctx) error {
	cookie := c.Cookies(sessionCookie)
	s.people.mu.Lock()
	id, index := s.people.sessions[cookie], s.people.indexes[cookie]
	delete(s.people.sessions, cookie)
	delete(s.people.indexes, cookie)
	s.people.mu.Unlock()
	c.ClearCookie(sessionCookie)
	if index == "" {
		return c.SendStatus(fiber.StatusNoContent)
	}
	who, _ := s.store.personOf(id)
	address, err := s.logoutThere(who, index)
	if err != nil {
		return err
	}
	return c.JSON(fiber.Map{"there": address})
}

// signedIn is who asks; a session ends as soon as its person is suspended or gone.
func (s *Server) signedIn(c *fiber.Ctx) (person, *failure) {
	cookie := c.Cookies(sessionCookie)
	s.people.mu.Lock()
	id, ok := s.people.sessions[cookie]
	s.people.mu.Unlock()
	who, found := s.store.personOf(id)
	if !ok || !found || !who.active {
		return person{}, &failure{401, "", "Your session has ended, or there was none: sign in first."}
	}
	return who, nil
}

// setPasswords is what an administrator of the cloud asks.
func (s *Server) setPasswords(c *fiber.Ctx) error {
	var asked asking
	if json.Unmarshal(c.Body(), &asked) != nil {
		return refuse(c, invalidSyntax("the body asks for nothing"))
	}
	who, found := s.store.person(asked.Login)
	if !found {
		return refuse(c, &failure{404, "", "nobody has the login " + asked.Login})
	}
	if asked.Own {
		if err := s.people.keep(who.id, hashed(asked.New), time.Now()); err != nil {
			return err
		}
		return c.SendStatus(fiber.StatusNoContent)
	}
	asked.by = events.ByAdministrator
	return s.ask(c, who, asked)
}

// answered is what somebody is told who asked.
type answered struct {
	Done     bool   `json:"done"`
	Code     string `json:"code,omitempty"`
	Sentence string `json:"sentence"`
	Millis   int64  `json:"millis"`
}

// ask sends what somebody wants on its way, and waits for the answer.
func (s *Server) ask(c *fiber.Ctx, who person, asked asking) error {
	began := time.Now()
	token, f := s.event(who, asked)
	if f != nil {
		return refuse(c, f)
	}
	// The cloud's own copy is made meanwhile, and kept only if the directory takes the password.
	copied := make(chan string, 1)
	go func() { copied <- hashed(asked.New) }()
	failed, err := s.tell(token)
	if err != nil {
		return err
	}
	said := answered{Code: failed.Code, Sentence: failed.Description, Millis: time.Since(began).Milliseconds()}
	if said.Done = failed.Code == ""; said.Done {
		said.Sentence = map[password.Act]string{password.Reset: "Your new password is set.", password.Change: "Your password is changed.", password.Unlock: "Your account is unlocked."}[asked.Act]
		if asked.Act != password.Unlock {
			if err := s.people.keep(who.id, <-copied, began); err != nil {
				return err
			}
		}
	}
	return c.JSON(said)
}

// event makes the token for what somebody asks.
func (s *Server) event(who person, asked asking) (events.Token, *failure) {
	var kind string
	for name, act := range events.Acts {
		if act == asked.Act {
			kind = name
		}
	}
	switch {
	case kind == "":
		return events.Token{}, invalidValue("act: there are reset, change and unlock")
	case who.directory == "" || who.entry == "":
		return events.Token{}, &failure{409, "", password.ForPerson(password.NotLinked, 0)}
	case asked.Act != password.Unlock && asked.New == "", asked.Act == password.Change && asked.Old == "":
		return events.Token{}, invalidValue("a password is missing")
	}
	now := time.Now().Add(s.options.Clock)
	token := events.Token{Issuer: s.issuer(), Audience: events.Audience{audience}, ID: uuid.NewString(), IssuedAt: now.Unix(),
		Subject: &events.Subject{Format: events.IssuerAndSubject, Issuer: s.issuer(), Subject: who.id}}
	ask := events.Ask{Act: asked.Act, Request: events.Request{Directory: who.directory, Entry: who.entry, By: asked.by, Expires: now.Add(life).Unix(), MustChange: asked.MustChange}}
	if asked.Act != password.Unlock {
		keys, err := s.recipients(who.directory)
		if err == nil && len(keys) == 0 {
			return token, &failure{503, "", password.ForPerson(password.Nobody, 0)}
		}
		secret := events.Secret{Password: asked.New}
		if asked.Act == password.Change {
			secret.Old = asked.Old
		}
		if err == nil {
			ask.Envelope, err = events.Seal(keys, events.BindingOf(token, ask), secret)
		}
		if err != nil {
			return token, &failure{500, "", err.Error()}
		}
	}
	text, err := json.Marshal(ask.Request)
	if err != nil {
		return token, &failure{500, "", err.Error()}
	}
	token.Events = map[string]json.RawMessage{kind: text}
	return token, nil
}

// person finds somebody by login.
func (s *store) person(login string) (person, bool) {
	s.mu.RLock()
	c := s.types["Users"]
	id := c.unique["userName="+strings.ToLower(strings.TrimSpace(login))]
	s.mu.RUnlock()
	return s.personOf(id)
}

func (s *store) personOf(id string) (person, bool) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	item := s.types["Users"].byID[id]
	if item == nil {
		return person{}, false
	}
	text := func(in map[string]any, name string) string { value, _ := in[name].(string); return value }
	who := person{id: id, login: text(item.resource, "userName"), name: text(item.resource, "displayName"), external: text(item.resource, "externalId")}
	who.active, _ = item.resource["active"].(bool)
	if origin, ok := item.resource[events.OriginURN].(map[string]any); ok {
		who.directory, who.entry = text(origin, "directory"), text(origin, "entry")
	}
	return who, true
}

// statements are what agents have said of their keys for a directory.
func (s *store) statements(directory string) []string {
	s.mu.RLock()
	defer s.mu.RUnlock()
	var out []string
	for _, item := range s.types["KeySets"].byID {
		if item.resource["directory"] == directory {
			out = append(out, statementsOf(item.resource)...)
		}
	}
	return out
}

func statementsOf(set map[string]any) []string {
	var out []string
	keys, _ := set["keys"].([]any)
	for _, key := range keys {
		one, _ := key.(map[string]any)
		if text, ok := one["value"].(string); ok {
			out = append(out, text)
		}
	}
	return out
}
