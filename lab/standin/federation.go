package standin

import (
	"crypto/rand"
	"encoding/json"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/crewjam/saml"
	"github.com/gofiber/fiber/v2"

	"kambrel.example/kambrel/protocol/federation"
)

const (
	// testLife is how long a sign-in that is tried may take.
	testLife = 15 * time.Minute
	// mostTests is how many are kept.
	mostTests = 200
)

// federations are how people of each domain sign in, the sign-ins on their way, and those that
// are tried.
type federations struct {
	file string // "" keeps nothing

	mu      sync.Mutex
	domains map[string]federation.Domain
	asked   map[string]asked // by RelayState
	tests   map[string]federation.Test
	order   []string // of tests
}

// asked is a request on its way to an identity provider.
type asked struct {
	id, domain, test string
	provider         *saml.EntityDescriptor
	until            time.Time
}

func openFederations(dir string) (*federations, error) {
	f := &federations{domains: map[string]federation.Domain{}, asked: map[string]asked{}, tests: map[string]federation.Test{}}
	if dir == "" {
		return f, nil
	}
	f.file = filepath.Join(dir, "federations.json")
	return f, readKept(f.file, &f.domains)
}

func (f *federations) of(domain string) federation.Domain {
	f.mu.Lock()
	defer f.mu.Unlock()
	d := f.domains[domain]
	if d.SignOn == "" {
		d.SignOn = federation.ByPassword
	}
	return d
}

func (f *federations) set(domain string, d federation.Domain) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	d.Metadata = ""
	f.domains[domain] = d
	if f.file == "" {
		return nil
	}
	text, err := json.Marshal(f.domains)
	if err != nil {
		return err
	}
	return os.WriteFile(f.file, text, 0o600)
}

// send notes a request on its way, and returns its RelayState.
func (f *federations) send(one asked) string {
	relay := rand.Text()
	f.mu.Lock()
	defer f.mu.Unlock()
	maps.DeleteFunc(f.asked, func(_ string, other asked) bool { return time.Now().After(other.until) })
	f.asked[relay] = one
	return relay
}

// take returns a request that is on its way, once.
func (f *federations) take(relay string) (asked, bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	one, found := f.asked[relay]
	delete(f.asked, relay)
	return one, found && time.Now().Before(one.until)
}

func (f *federations) test(id string) (federation.Test, bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	one, found := f.tests[id]
	return one, found
}

func (f *federations) keepTest(one federation.Test) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if _, known := f.tests[one.ID]; !known {
		f.order = append(f.order, one.ID)
		if len(f.order) > mostTests {
			delete(f.tests, f.order[0])
			f.order = f.order[1:]
		}
	}
	f.tests[one.ID] = one
}

// signsOnThere tells whether somebody of a domain signs in at the identity provider.
func (s *Server) signsOnThere(who person) (federation.Domain, bool) {
	domain, f := loginDomain(who.login)
	if f != nil {
		return federation.Domain{}, false
	}
	d := s.federations.of(domain)
	switch d.SignOn {
	case federation.ByProvider:
		return d, true
	case federation.BySome:
		return d, slices.Contains(d.People, who.id) || slices.ContainsFunc(d.Groups, func(group string) bool { return s.store.holds(group, who.id) })
	}
	return d, false
}

// readDomain is one login domain with how its people sign in.
func (s *Server) readDomain(c *fiber.Ctx) error {
	shown, f := s.domain(strings.ToLower(c.Params("id")))
	if f != nil {
		return refuse(c, f)
	}
	return send(c, 200, shown)
}

func (s *Server) domain(name string) (map[string]any, *failure) {
	if s.lacks("domains") || !slices.Contains(slices.Concat(s.options.Domains, s.options.Claimed), name) {
		return nil, &failure{404, "", "there is no domain " + name}
	}
	shown := map[string]any{"schemas": []string{DomainURN}, "id": name, "value": name, "verified": s.store.hasDomain(name),
		"meta": map[string]any{"resourceType": "Domain", "location": "/scim/v2/Domains/" + name}}
	if shown["verified"] == false {
		shown["verification"] = fmt.Sprintf("Publish the TXT record %q at %s. It is looked for every hour.", proofOf(name), name)
	}
	if !s.lacks("federation") {
		d := s.federations.of(name)
		d.Metadata = s.samlMetadata()
		shown[federation.URN] = d
		shown["schemas"] = []string{DomainURN, federation.URN}
	}
	return shown, nil
}

// replaceDomain sets how the people of a domain sign in.
func (s *Server) replaceDomain(c *fiber.Ctx) error {
	name := strings.ToLower(c.Params("id"))
	if _, f := s.domain(name); f != nil {
		return refuse(c, f)
	}
	var body map[string]json.RawMessage
	var d federation.Domain
	if json.Unmarshal(c.Body(), &body) != nil || body[federation.URN] == nil || json.Unmarshal(body[federation.URN], &d) != nil {
		return refuse(c, invalidSyntax("the body says nothing of how people sign in: it needs %s", federation.URN))
	}
	if f := s.checkFederation(name, d); f != nil {
		return refuse(c, f)
	}
	if err := s.federations.set(name, d); err != nil {
		return err
	}
	return s.readDomain(c)
}

func (s *Server) checkFederation(name string, d federation.Domain) *failure {
	switch d.SignOn {
	case federation.ByPassword:
	case federation.BySome, federation.ByProvider:
		if !s.store.hasDomain(name) {
			return invalidValue("signOn: the domain %s is not verified", name)
		}
		if d.Provider == "" {
			return invalidValue("signOn: there is no identity provider")
		}
	default:
		return invalidValue("signOn: there are password, some and provider")
	}
	if d.Provider != "" {
		if _, f := readProvider(d.Provider); f != nil {
			return f
		}
	}
	for _, id := range d.People {
		if _, found := s.store.personOf(id); !found {
			return invalidValue("people: there is no user %s", id)
		}
	}
	for _, id := range d.Groups {
		if !s.store.there("Groups", id) {
			return invalidValue("groups: there is no group %s", id)
		}
	}
	return nil
}

// makeTest takes a sign-in that is to be tried.
func (s *Server) makeTest(c *fiber.Ctx) error {
	var test federation.Test
	if json.Unmarshal(c.Body(), &test) != nil {
		return refuse(c, invalidSyntax("the body is no test of a sign-in"))
	}
	if _, f := s.domain(strings.ToLower(test.Domain)); f != nil {
		return refuse(c, f)
	}
	if _, f := readProvider(test.Metadata); f != nil {
		return refuse(c, f)
	}
	if _, found := s.store.personOf(test.Person); !found {
		return refuse(c, invalidValue("person: there is no user %s", test.Person))
	}
	id := strings.ToLower(rand.Text())
	test = federation.Test{Schemas: []string{federation.TestURN}, ID: id, Domain: strings.ToLower(test.Domain), Person: test.Person, Metadata: test.Metadata,
		URL: s.address + "/me/saml/tests/" + id, Expires: time.Now().Add(testLife).UTC()}
	s.federations.keepTest(test)
	return send(c, fiber.StatusCreated, test)
}

// startTest sends the browser of who tries a sign-in to the identity provider.
func (s *Server) startTest(c *fiber.Ctx) error {
	test, found := s.federations.test(c.Params("id"))
	if !found || time.Now().After(test.Expires) {
		return s.sentence(c, 404, "This test has ended, or there was none.")
	}
	if !test.Answered.IsZero() {
		return s.sentence(c, 409, "This test was done already: begin another.")
	}
	provider, f := readProvider(test.Metadata)
	if f != nil {
		return refuse(c, f)
	}
	return s.sendThere(c, provider, asked{domain: test.Domain, test: test.ID}, func(id string) {
		test.Request = id
		s.federations.keepTest(test)
	})
}

// readTest tells what came of one.
func (s *Server) readTest(c *fiber.Ctx) error {
	test, found := s.federations.test(c.Params("id"))
	if !found {
		return refuse(c, &failure{404, "", "there is no test " + c.Params("id")})
	}
	return send(c, 200, test)
}

// holds tells whether a group has a member.
func (s *store) holds(group, member string) bool {
	s.mu.RLock()
	defer s.mu.RUnlock()
	item := s.types["Groups"].byID[group]
	if item == nil {
		return false
	}
	_, found := item.members.at[member]
	return found
}

func (s *store) there(endpoint, id string) bool {
	s.mu.RLock()
	defer s.mu.RUnlock()
	return s.types[endpoint] != nil && s.types[endpoint].byID[id] != nil
}
