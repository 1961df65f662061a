package standin

import (
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/crewjam/saml/samlsp"
	"github.com/go-jose/go-jose/v4"
	"github.com/gofiber/fiber/v2"

	"kambrel.example/kambrel/core/scimfilter"
	"kambrel.example/kambrel/protocol/events"
	"kambrel.example/kambrel/protocol/scim"
)

// Options says how the stand-in runs.
type Options struct {
	Token string // bearer token that every request needs
	// TokenFile, when set, holds the tokens instead, one on each line; it is
	// read again when it changes, so that tokens can be replaced one by one.
	TokenFile string
	Domains   []string // verified login domains
	Claimed   []string // login domains that nobody has proved to have yet
	Dir       string   // where the journal lies; "" keeps everything in memory only
	// Without takes features away; see features.
	Without  []string
	PageSize int    // most resources on a page; 0 for 1000
	Paging   string // index (also by default), cursor or both
	// Habits are ways in which services differ; see habits.
	Habits []string
	// Clock is how far its clock is ahead of the host's, by what it says of times.
	Clock time.Duration
	// AgentsFile names the agents for which passwords are sealed; see trusted.
	AgentsFile string
}

// Server is a running stand-in.
type Server struct {
	options Options
	store   *store
	app     *fiber.App
	faults  injector
	tokens  tokens
	signing jose.JSONWebKey // of events
	sealKey jose.JSONWebKey // for which digests are sealed
	stream  *stream
	people  *people
	// How people of each domain sign in, and what that is signed by.
	federations *federations
	saml        samlKey
	replays     *samlsp.MemoryReplayCache
	address     string        // where it listens
	closing     chan struct{} // closed when it ends

	throttle   sync.Mutex // guards what follows
	served     int
	servedFrom time.Time // nobody is before
}

// Limits of the service, as ServiceProviderConfig tells them.
const (
	maxResults        = 1000
	maxBulkOperations = 1000
	maxBulkPayload    = 8 << 20
	// mostReplays is how many assertions are remembered, so that none is taken twice.
	mostReplays = 10000
)

// New prepares a server, with what its journal holds.
func New(options Options) (*Server, error) {
	if err := options.check(); err != nil {
		return nil, err
	}
	s := &Server{options: options, tokens: tokens{fixed: options.Token, file: options.TokenFile}, stream: newStream(), closing: make(chan struct{})}
	all, err := s.tokens.all()
	if err != nil {
		return nil, err
	}
	if len(all) == 0 {
		return nil, errors.New("the cloud stand-in needs a token")
	}
	if s.store, err = openStore(options); err != nil {
		return nil, err
	}
	if s.signing, err = signingKey(options.Dir); err != nil {
		return nil, fmt.Errorf("the key by which events are signed: %w", err)
	}
	if s.sealKey, err = keptKey(options.Dir, "digests.jwk", newSealKey); err != nil {
		return nil, fmt.Errorf("the key for which digests are sealed: %w", err)
	}
	if s.people, err = openPeople(options.Dir); err != nil {
		return nil, fmt.Errorf("read the passwords: %w", err)
	}
	if s.federations, err = openFederations(options.Dir); err != nil {
		return nil, fmt.Errorf("read how people of each domain sign in: %w", err)
	}
	if s.saml, err = openSAMLKey(options.Dir); err != nil {
		return nil, fmt.Errorf("the key by which requests for a sign-in are signed: %w", err)
	}
	s.replays = samlsp.NewMemoryReplayCache(mostReplays)
	s.store.suspended = s.people.endSessions
	s.app = fiber.New(fiber.Config{
		DisableStartupMessage: true, Immutable: true, BodyLimit: maxBulkPayload + 1<<20, ReadBufferSize: 16 << 10,
		ErrorHandler: func(c *fiber.Ctx, err error) error {
			status := 500
			var known *fiber.Error
			if errors.As(err, &known) {
				status = known.Code
			}
			return refuse(c, &failure{status, "", err.Error()})
		},
	})
	s.routes()
	return s, nil
}

// Serve answers requests until Close.
func (s *Server) Serve(listener net.Listener) error {
	s.address = "http://" + listener.Addr().String()
	return s.app.Listener(listener)
}

// issuer is who signs events.
func (s *Server) issuer() string { return s.address }

// Close ends the service and the journal.
func (s *Server) Close() error {
	close(s.closing)
	return errors.Join(s.app.ShutdownWithTimeout(5*time.Second), s.store.close())
}

func (s *Server) routes() {
	if !s.lacks("passwords") {
		s.streamRoutes()
		s.peopleRoutes()
		if !s.lacks("federation") {
			s.samlRoutes()
		}
	}
	s.app.Use(s.authorize)
	control := s.app.Group("/standin")
	control.Get("/faults", func(c *fiber.Ctx) error { return c.JSON(s.faults.get()) })
	control.Post("/faults", s.setFaults)
	control.Post("/passwords", s.setPasswords)
	control.Post("/domains/:domain/verify", s.verifyDomain)
	control.Post("/tokens", s.slipIn)
	control.Get("/counts", func(c *fiber.Ctx) error { return c.JSON(s.store.counts()) })

	v2 := s.app.Group("/scim/v2", s.misbehave, s.habitual)
	v2.Get("/ServiceProviderConfig", s.providerConfig)
	v2.Get("/ResourceTypes", func(c *fiber.Ctx) error { return listOf(c, s.resourceTypeDocuments()) })
	v2.Get("/ResourceTypes/:id", func(c *fiber.Ctx) error { return oneOf(c, s.resourceTypeDocuments()) })
	v2.Get("/Schemas", func(c *fiber.Ctx) error { return listOf(c, s.schemaDocuments()) })
	v2.Get("/Schemas/:id", func(c *fiber.Ctx) error { return oneOf(c, s.schemaDocuments()) })
	v2.Get("/Domains", s.domains)
	v2.Get("/Domains/:id", s.readDomain)
	if !s.lacks("federation") {
		v2.Put("/Domains/:id", s.replaceDomain)
		v2.Post("/SignInTests", s.makeTest)
		v2.Get("/SignInTests/:id", s.readTest)
	}
	v2.Post("/Bulk", s.bulk)
	v2.Get("/:endpoint", s.list)
	v2.Post("/:endpoint/.search", s.list)
	v2.Post("/:endpoint", s.create)
	v2.Get("/:endpoint/:id", s.read)
	v2.Put("/:endpoint/:id", s.replace)
	v2.Patch("/:endpoint/:id", s.patch)
	v2.Delete("/:endpoint/:id", s.remove)
}

func (s *Server) authorize(c *fiber.Ctx) error {
	token, ok := strings.CutPrefix(c.Get("Authorization"), "Bearer ")
	if !ok || !s.tokens.allow(token) {
		c.Set("WWW-Authenticate", "Bearer")
		return refuse(c, &failure{401, "", "a valid bearer token is needed"})
	}
	return c.Next()
}

// misbehave lets a request go wrong when faults are switched on.
func (s *Server) misbehave(c *fiber.Ctx) error {
	switch s.faults.next(time.Now()) {
	case Throttle:
		c.Set("Retry-After", "1")
		return refuse(c, &failure{429, "", "too many requests; try again in a second"})
	case Broken:
		return refuse(c, &failure{500, "", "something went wrong on purpose"})
	case Reset:
		return cut(c)
	case Lost:
		if err := c.Next(); err != nil {
			return err
		}
		return cut(c)
	}
	return c.Next()
}

// cut closes the connection without an answer.
func cut(c *fiber.Ctx) error {
	c.Context().HijackSetNoResponse(true)
	c.Context().Hijack(func(conn net.Conn) { _ = conn.Close() })
	return nil
}

func (s *Server) setFaults(c *fiber.Ctx) error {
	var faults Faults
	if err := json.Unmarshal(c.Body(), &faults); err != nil {
		return refuse(c, invalidSyntax("the body is no JSON object: %s", err))
	}
	if f := faults.check(); f != nil {
		return refuse(c, f)
	}
	s.faults.set(faults)
	s.store.cutTitles(faults.TitleLength)
	return c.JSON(s.faults.get())
}

func (s *Server) providerConfig(c *fiber.Ctx) error {
	config := scim.ServiceProviderConfig{Schemas: []string{scim.ProviderURN}}
	config.Patch.Supported, config.Sort.Supported, config.ETag.Supported = !s.lacks("patch"), !s.lacks("sort"), !s.lacks("etag")
	if config.Bulk.Supported.Supported = !s.lacks("bulk"); config.Bulk.Supported.Supported {
		config.Bulk.MaxOperations, config.Bulk.MaxPayloadSize = maxBulkOperations, maxBulkPayload
	}
	if config.Filter.Supported.Supported = !s.lacks("filter"); config.Filter.Supported.Supported {
		config.Filter.MaxResults = s.pageSize()
	}
	if s.byCursor() {
		config.Pagination = &scim.Pagination{Cursor: true, Index: s.byIndex(), DefaultPaginationMethod: "cursor", MaxPageSize: s.pageSize()}
	}
	config.AuthenticationSchemes = []scim.AuthenticationScheme{{Type: "oauthbearertoken", Name: "Bearer token", Description: "A token in the Authorization header"}}
	return send(c, 200, config)
}

func (s *Server) resourceTypeDocuments() []map[string]any {
	var out []map[string]any
	types := slices.DeleteFunc(slices.Clone(resourceTypes), func(t resourceType) bool {
		return s.lacks(strings.ToLower(t.endpoint)) || t.endpoint == "KeySets" && s.lacks("passwords")
	})
	if !s.lacks("domains") {
		var extensions []schema
		if !s.lacks("federation") {
			extensions = []schema{federationSchema}
			types = append(slices.Clone(types), resourceType{"SignInTest", "SignInTests", signInTestSchema, nil})
		}
		types = append(slices.Clone(types), resourceType{"Domain", "Domains", domainSchema, extensions})
	}
	for _, t := range types {
		var extensions []any
		for _, e := range t.extensions {
			if (e.ID == events.OriginURN || e.ID == events.DigestURN) && s.lacks("passwords") {
				continue
			}
			extensions = append(extensions, map[string]any{"schema": e.ID, "required": false})
		}
		out = append(out, map[string]any{
			"schemas": []string{scim.ResourceTypeURN}, "id": t.name, "name": t.name, "endpoint": "/" + t.endpoint,
			"schema": t.core.ID, "schemaExtensions": extensions,
			"meta": map[string]any{"resourceType": "ResourceType", "location": "/scim/v2/ResourceTypes/" + t.name},
		})
	}
	return out
}

func (s *Server) schemaDocuments() []map[string]any {
	var out []map[string]any
	group := groupSchema
	if s.options.has(habitFreeNames) {
		group.Attributes = slices.Clone(group.Attributes)
		for i := range group.Attributes {
			group.Attributes[i].Uniqueness = "none"
		}
	}
	if s.lacks("contacts") || s.lacks("contact-members") {
		group = groupsWithoutContacts
	}
	for _, s := range []schema{userSchema, enterpriseSchema, accountSchema, originSchema, digestSchema, group, contactSchema, keySetSchema, domainSchema, federationSchema, signInTestSchema} {
		out = append(out, map[string]any{
			"schemas": []string{scim.SchemaURN}, "id": s.ID, "name": s.Name, "description": s.Description, "attributes": s.Attributes,
			"meta": map[string]any{"resourceType": "Schema", "location": "/scim/v2/Schemas/" + s.ID},
		})
	}
	return out
}

func listOf(c *fiber.Ctx, documents []map[string]any) error {
	if c.Query("filter") != "" {
		return refuse(c, &failure{403, "", "this list takes no filter"})
	}
	response := scim.ListResponse{Schemas: []string{scim.ListResponseURN}, TotalResults: len(documents), StartIndex: 1, ItemsPerPage: len(documents)}
	for _, document := range documents {
		text, err := json.Marshal(document)
		if err != nil {
			return err
		}
		response.Resources = append(response.Resources, text)
	}
	return send(c, 200, response)
}

func oneOf(c *fiber.Ctx, documents []map[string]any) error {
	for _, document := range documents {
		if document["id"] == c.Params("id") {
			return send(c, 200, document)
		}
	}
	return refuse(c, &failure{404, "", "there is no " + c.Params("id")})
}

// searchRequest is the body of POST /.search (RFC 7644 section 3.4.3).
type searchRequest struct {
	Filter             string   `json:"filter"`
	SortBy             string   `json:"sortBy"`
	SortOrder          string   `json:"sortOrder"`
	StartIndex         int      `json:"startIndex"`
	Count              *int     `json:"count"`
	Attributes         []string `json:"attributes"`
	ExcludedAttributes []string `json:"excludedAttributes"`
	Cursor             *string  `json:"cursor"`
}

func (s *Server) list(c *fiber.Ctx) error {
	request, f := readSearch(c)
	if f != nil {
		return refuse(c, f)
	}
	if s.options.has(habitUnfiltered) {
		request.Filter = ""
	}
	start, cursor, f := s.page(c, request)
	if f != nil {
		return refuse(c, f)
	}
	q := query{startIndex: start, count: s.pageSize()}
	if request.Count != nil {
		q.count = min(max(*request.Count, 0), s.pageSize())
	}
	switch {
	case request.SortBy != "" && s.lacks("sort"):
		return refuse(c, unsupported("sorting"))
	case request.Filter != "" && s.lacks("filter"):
		return refuse(c, unsupported("filters"))
	case strings.EqualFold(request.SortBy, "meta.lastModified"):
		q.byModified, q.descending = true, strings.EqualFold(request.SortOrder, "descending")
	case request.SortBy != "":
		return refuse(c, invalidValue("sortBy: this service sorts by meta.lastModified only"))
	}
	if request.Filter != "" {
		filter, err := scimfilter.Parse(request.Filter)
		if err != nil {
			return refuse(c, &failure{400, "invalidFilter", err.Error()})
		}
		q.filter = filter
	}
	endpoint := c.Params("endpoint")
	shown := s.asked(view{request.Attributes, request.ExcludedAttributes})
	page, total, f := s.store.list(endpoint, q, func(item *stored) json.RawMessage {
		text, _ := json.Marshal(shown.of(s.shown(item, endpoint, shown.has("members")))) // maps of JSON values
		return text
	})
	if f != nil {
		return refuse(c, f)
	}
	response := scim.ListResponse{Schemas: []string{scim.ListResponseURN}, TotalResults: total, StartIndex: q.startIndex, ItemsPerPage: len(page), Resources: page}
	if cursor {
		response.StartIndex = 0
		if next := start + len(page); next <= total && len(page) > 0 {
			response.NextCursor = cursorAt(next)
		}
	}
	return send(c, 200, response)
}

// shown is a resource as the service sends it.
func (s *Server) shown(item *stored, endpoint string, members bool) map[string]any {
	out := item.withMeta(s.store.types[endpoint].kind, members)
	if endpoint == "KeySets" {
		out["accepted"] = s.accepted(item.resource)
	}
	if s.lacks("etag") {
		delete(out["meta"].(map[string]any), "version")
	}
	return out
}

func readSearch(c *fiber.Ctx) (searchRequest, *failure) {
	var request searchRequest
	if c.Method() == fiber.MethodPost {
		if err := json.Unmarshal(c.Body(), &request); err != nil {
			return request, invalidSyntax("the body is no search request: %s", err)
		}
		return request, nil
	}
	request.Filter, request.SortBy, request.SortOrder = c.Query("filter"), c.Query("sortBy"), c.Query("sortOrder")
	shown := viewOf(c)
	request.Attributes, request.ExcludedAttributes = shown.attributes, shown.excluded
	if text := c.Query("startIndex"); text != "" {
		n, err := strconv.Atoi(text)
		if err != nil {
			return request, invalidValue("startIndex is a whole number")
		}
		request.StartIndex = n
	}
	if text := c.Query("count"); text != "" {
		n, err := strconv.Atoi(text)
		if err != nil {
			return request, invalidValue("count is a whole number")
		}
		request.Count = &n
	}
	return request, nil
}

// view is which attributes a client asks for (RFC 7644 section 3.9); id is
// always returned.
type view struct{ attributes, excluded []string }

func viewOf(c *fiber.Ctx) view {
	var v view
	for name, into := range map[string]*[]string{"attributes": &v.attributes, "excludedAttributes": &v.excluded} {
		if text := c.Query(name); text != "" {
			*into = strings.Split(text, ",")
		}
	}
	return v
}

// asked is what is shown where members come only when they are asked for.
func (s *Server) asked(v view) view {
	if s.options.has(habitOnRequest) && !slices.ContainsFunc(v.attributes, func(name string) bool { return strings.EqualFold(name, "members") }) {
		v.excluded = append(slices.Clone(v.excluded), "members")
	}
	return v
}

func (v view) partial() bool { return len(v.attributes)+len(v.excluded) > 0 }

// has tells whether an attribute is asked for.
func (v view) has(name string) bool {
	keep := len(v.attributes) == 0 || name == "id" || name == "schemas"
	for _, wanted := range v.attributes {
		wanted, _, _ = strings.Cut(strings.TrimSpace(wanted), ".")
		keep = keep || strings.EqualFold(wanted, name) || strings.HasPrefix(strings.ToLower(wanted), strings.ToLower(name)+":")
	}
	for _, unwanted := range v.excluded {
		keep = keep && (!strings.EqualFold(strings.TrimSpace(unwanted), name) || name == "id")
	}
	return keep
}

// of keeps what is asked for of a resource.
func (v view) of(resource map[string]any) map[string]any {
	if !v.partial() {
		return resource
	}
	out := map[string]any{}
	for name, value := range resource {
		if v.has(name) {
			out[name] = value
		}
	}
	return out
}

func (s *Server) create(c *fiber.Ctx) error {
	body, f := object(c.Body())
	if f != nil {
		return refuse(c, f)
	}
	endpoint := c.Params("endpoint")
	item, f := s.store.create(endpoint, body, s.asked(viewOf(c)))
	if f != nil {
		return refuse(c, f)
	}
	return s.answer(c, 201, endpoint, item)
}

func (s *Server) read(c *fiber.Ctx) error {
	endpoint := c.Params("endpoint")
	shown := s.asked(viewOf(c))
	var body map[string]any
	tag := ""
	s.store.mu.RLock()
	_, found, f := s.store.get(endpoint, c.Params("id"))
	if f == nil {
		body, tag = shown.of(s.shown(found, endpoint, shown.has("members"))), found.tag()
	}
	s.store.mu.RUnlock()
	if f != nil {
		return refuse(c, f)
	}
	if c.Get("If-None-Match") == tag {
		return c.SendStatus(304)
	}
	if !s.lacks("etag") {
		c.Set("ETag", tag)
	}
	return send(c, 200, body)
}

// unversioned takes the version out of a resource where there are no entity tags.
func (s *Server) unversioned(text json.RawMessage) json.RawMessage {
	if !s.lacks("etag") {
		return text
	}
	var resource map[string]any
	if json.Unmarshal(text, &resource) != nil {
		return text
	}
	if meta, ok := resource["meta"].(map[string]any); ok {
		delete(meta, "version")
	}
	out, _ := json.Marshal(resource) // was JSON a moment ago
	return out
}

func (s *Server) replace(c *fiber.Ctx) error {
	body, f := object(c.Body())
	if f != nil {
		return refuse(c, f)
	}
	return s.edit(c, replaced(c.Params("endpoint"), body))
}

// replaced puts a whole resource in the place of another.
func replaced(endpoint string, body map[string]any) edit {
	return func(resourceType, map[string]any) (map[string]any, []memberEdit, *failure) {
		if endpoint == "Groups" {
			return membersIn(body)
		}
		return body, nil, nil
	}
}

// patched carries out the operations of a PATCH.
func (s *Server) patched(endpoint string, operations []scim.PatchOperation) edit {
	return func(t resourceType, resource map[string]any) (map[string]any, []memberEdit, *failure) {
		var edits []memberEdit
		rest := operations
		if endpoint == "Groups" {
			var f *failure
			if rest, edits, f = splitMembers(operations); f != nil {
				return nil, nil, f
			}
			if len(rest) == 0 {
				return resource, edits, nil
			}
		}
		if s.options.has(habitPartsLost) {
			if rest = withoutParts(rest); len(rest) == 0 {
				return resource, edits, nil
			}
		}
		if s.options.has(habitStrictParts) {
			if f := t.strict(resource, rest); f != nil {
				return nil, nil, f
			}
		}
		out, f := t.apply(resource, rest)
		return out, edits, f
	}
}

func (s *Server) patch(c *fiber.Ctx) error {
	if s.lacks("patch") {
		return refuse(c, unsupported("PATCH"))
	}
	operations, f := patchOperations(c.Body())
	if f != nil {
		return refuse(c, f)
	}
	if c.Params("endpoint") == "Users" && !s.lacks("passwords") && digestOnly(operations) {
		return s.setDigest(c, operations[0])
	}
	return s.edit(c, s.patched(c.Params("endpoint"), operations))
}

func (s *Server) edit(c *fiber.Ctx, edit edit) error {
	endpoint := c.Params("endpoint")
	ifMatch := c.Get("If-Match")
	if s.lacks("etag") {
		ifMatch = ""
	}
	shown := viewOf(c)
	minimal := c.Get("Prefer") == "return=minimal" // RFC 7240 section 4.2
	answered := s.asked(shown)
	if minimal {
		answered = view{attributes: []string{"id"}} // nobody reads it
	}
	item, f := s.store.change(endpoint, c.Params("id"), ifMatch, answered, s.unseen(shown, endpoint, edit))
	if f != nil {
		return refuse(c, f)
	}
	if minimal {
		if !s.lacks("etag") {
			c.Set("ETag", item.tag)
		}
		c.Set("Preference-Applied", "return=minimal")
		if err := s.store.flush(); err != nil {
			return err
		}
		return c.SendStatus(204)
	}
	return s.answer(c, 200, endpoint, item)
}

func (s *Server) remove(c *fiber.Ctx) error {
	if f := s.store.delete(c.Params("endpoint"), c.Params("id"), c.Get("If-Match")); f != nil {
		return refuse(c, f)
	}
	if err := s.store.flush(); err != nil {
		return err
	}
	return c.SendStatus(204)
}

// answer sends a resource after its change is in the journal.
func (s *Server) answer(c *fiber.Ctx, status int, endpoint string, item written) error {
	if err := s.store.flush(); err != nil {
		return err
	}
	if status == 201 {
		c.Set("Location", c.BaseURL()+"/scim/v2/"+endpoint+"/"+item.id)
	}
	if !s.lacks("etag") {
		c.Set("ETag", item.tag)
	}
	return send(c, status, s.unversioned(item.text))
}

func object(body []byte) (map[string]any, *failure) {
	var out map[string]any
	if err := json.Unmarshal(body, &out); err != nil {
		return nil, invalidSyntax("the body is no JSON object: %s", err)
	}
	if out == nil {
		return nil, invalidSyntax("the body is no JSON object")
	}
	return out, nil
}

func patchOperations(body []byte) ([]scim.PatchOperation, *failure) {
	var request scim.PatchRequest
	if err := json.Unmarshal(body, &request); err != nil {
		return nil, invalidSyntax("the body is no PATCH request: %s", err)
	}
	if len(request.Schemas) != 1 || request.Schemas[0] != scim.PatchOpURN {
		return nil, invalidSyntax("schemas must be [%q]", scim.PatchOpURN)
	}
	return request.Operations, nil
}

func send(c *fiber.Ctx, status int, body any) error {
	text, err := json.Marshal(body)
	if err != nil {
		return fmt.Errorf("write the answer: %w", err)
	}
	c.Set("Content-Type", scim.MediaType)
	return c.Status(status).Send(text)
}

func refuse(c *fiber.Ctx, f *failure) error { return send(c, f.status, errorBody(f)) }
