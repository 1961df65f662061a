package standin

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"sort"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"

	"kambrel.example/kambrel/protocol/scim"
)

// store keeps all resources. Every change is appended to the journal before it
// is answered; at start the journal is read and rewritten without what is stale.
type store struct {
	domains map[string]bool
	without map[string]bool // features that were taken away
	options Options
	// suspended is told who can sign in no longer.
	suspended func(id string)

	mu      sync.RWMutex
	types   map[string]*collection // by endpoint
	titles  int                    // the longest that is kept, 0 for any
	journal *bufio.Writer
	file    *os.File
	last    time.Time
}

// collection is the resources of one endpoint.
type collection struct {
	kind resourceType
	// freeNames: groups may have the same name.
	freeNames bool
	byID      map[string]*stored
	unique    map[string]string // "userName=ada@..." -> id
	external  map[string]string // externalId -> id
	created   []*stored         // in the order of creation, gone ones included
	changed   []change          // in the order of lastModified, stale ones included
}

type stored struct {
	resource map[string]any
	members  *members // of a group
	version  int
	created  time.Time
	modified time.Time
	gone     bool
}

// written is a resource that was just created or changed.
type written struct {
	id, tag string
	text    json.RawMessage
}

// change is one place in the order of lastModified; it is stale once the
// resource has a newer version.
type change struct {
	of      *stored
	version int
	at      time.Time
}

type journalLine struct {
	Endpoint string    `json:"endpoint"`
	ID       string    `json:"id"`
	Version  int       `json:"version,omitempty"` // 0: deleted
	Created  time.Time `json:"created,omitzero"`
	Modified time.Time `json:"modified,omitzero"`
	// Resource is as it is sent; what is not kept is dropped on reading.
	Resource map[string]any `json:"resource,omitempty"`
	// Members that came and went; a line may have just these.
	Added   []string `json:"added,omitempty"`
	Removed []string `json:"removed,omitempty"`
}

func openStore(options Options) (*store, error) {
	dir := options.Dir
	s := &store{options: options, suspended: func(string) {}, domains: map[string]bool{}, without: map[string]bool{}, types: map[string]*collection{}}
	for _, feature := range options.Without {
		s.without[feature] = true
	}
	for _, domain := range options.Domains {
		s.domains[strings.ToLower(domain)] = true
	}
	for _, t := range resourceTypes {
		if s.without[strings.ToLower(t.endpoint)] {
			continue
		}
		s.types[t.endpoint] = &collection{kind: t, freeNames: options.has(habitFreeNames), byID: map[string]*stored{}, unique: map[string]string{}, external: map[string]string{}}
	}
	if dir == "" {
		s.journal = bufio.NewWriter(io.Discard)
		return s, nil
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	path := filepath.Join(dir, "journal.ndjson")
	if err := s.replay(path); err != nil {
		return nil, fmt.Errorf("read the journal %s: %w", path, err)
	}
	return s, s.rewrite(path)
}

func (s *store) replay(path string) error {
	file, err := os.Open(path)
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	defer file.Close()
	scanner := bufio.NewScanner(file)
	scanner.Buffer(nil, 16<<20)
	for scanner.Scan() {
		var line journalLine
		if json.Unmarshal(scanner.Bytes(), &line) != nil {
			continue // the torn last line of a crash; it was never answered
		}
		c := s.types[line.Endpoint]
		if c == nil {
			continue
		}
		item := c.byID[line.ID]
		if line.Version == 0 {
			if item != nil {
				c.drop(item)
			}
			continue
		}
		if item == nil && line.Resource == nil {
			continue
		}
		if item == nil {
			item = &stored{created: line.Created, members: newMembers()}
			c.byID[line.ID] = item
			c.created = append(c.created, item)
		} else {
			c.unindex(item)
		}
		if line.Resource != nil {
			delete(line.Resource, "meta")
			delete(line.Resource, "schemas")
			item.resource = line.Resource
			item.resource["id"] = line.ID
		}
		item.version, item.modified = line.Version, line.Modified
		for _, id := range line.Removed {
			item.members.remove(id)
		}
		for _, id := range line.Added {
			item.members.add(id, "")
		}
		c.index(item)
		if item.modified.After(s.last) {
			s.last = item.modified
		}
	}
	for _, c := range s.types {
		for _, item := range c.byID {
			for id := range item.members.at {
				item.members.at[id] = s.kindOf(id)
			}
		}
	}
	return scanner.Err()
}

// rewrite starts a journal that holds just what there is now.
func (s *store) rewrite(path string) error {
	file, err := os.Create(path + ".new")
	if err != nil {
		return err
	}
	s.file, s.journal = file, bufio.NewWriterSize(file, 1<<16)
	for _, t := range resourceTypes {
		c := s.types[t.endpoint]
		if c == nil {
			continue
		}
		c.compact()
		for _, item := range c.created {
			s.record(c, item)
			if len(item.members.ids) > 0 {
				s.recordMembers(c, item, item.members.ids, nil)
			}
		}
	}
	if err := s.journal.Flush(); err != nil {
		return err
	}
	return os.Rename(path+".new", path)
}

func (s *store) close() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	err := s.journal.Flush()
	if s.file != nil {
		err = errors.Join(err, s.file.Close())
	}
	return err
}

// flush hands what was recorded to the operating system; a request is answered
// only after it.
func (s *store) flush() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.journal.Flush()
}

// record writes what a resource is now to the journal and returns it as it is
// sent, so that both are written from one encoding.
func (s *store) record(c *collection, item *stored) json.RawMessage {
	line := journalLine{Endpoint: c.kind.endpoint, ID: item.id()}
	if item.gone {
		text, _ := json.Marshal(line)
		_, _ = s.journal.Write(append(text, '\n')) // kept by the writer and told by flush
		return nil
	}
	line.Version, line.Created, line.Modified = item.version, item.created, item.modified
	head, _ := json.Marshal(line)
	sent, _ := json.Marshal(item.withMeta(c.kind, false)) // maps of JSON values
	_, _ = s.journal.Write(head[:len(head)-1])
	_, _ = s.journal.WriteString(`,"resource":`)
	_, _ = s.journal.Write(sent)
	_, _ = s.journal.WriteString("}\n")
	return sent
}

// now is a clock that never gives the same time twice, so that lastModified
// orders all changes.
func (s *store) now() time.Time {
	now := time.Now().Add(s.options.Clock).UTC().Truncate(time.Microsecond)
	if !now.After(s.last) {
		now = s.last.Add(time.Microsecond)
	}
	s.last = now
	return now
}

func (i *stored) id() string { id, _ := i.resource["id"].(string); return id }

func (i *stored) tag() string { return fmt.Sprintf(`W/"%d"`, i.version) }

func (c *collection) uniqueKeys(resource map[string]any) []string {
	var keys []string
	if c.kind.endpoint == "Groups" {
		if c.freeNames {
			return nil
		}
		name, _ := resource["displayName"].(string)
		return []string{"displayName=" + strings.ToLower(name)}
	}
	if c.kind.endpoint == "KeySets" {
		directory, _ := resource["directory"].(string)
		return []string{"directory=" + directory}
	}
	if login, _ := resource["userName"].(string); login != "" {
		keys = append(keys, "userName="+strings.ToLower(login))
	}
	emails, _ := resource["emails"].([]any)
	for _, item := range emails {
		email, _ := item.(map[string]any)
		address, _ := email["value"].(string)
		keys = append(keys, "emails="+strings.ToLower(address))
	}
	return keys
}

func (c *collection) compactWhenLong() {
	if len(c.changed) > 2*len(c.byID)+1000 {
		c.compact()
	}
}

func (c *collection) index(item *stored) {
	for _, key := range c.uniqueKeys(item.resource) {
		c.unique[key] = item.id()
	}
	if external, _ := item.resource["externalId"].(string); external != "" {
		c.external[external] = item.id()
	}
	c.changed = append(c.changed, change{item, item.version, item.modified})
	c.compactWhenLong()
}

func (c *collection) unindex(item *stored) {
	for _, key := range c.uniqueKeys(item.resource) {
		delete(c.unique, key)
	}
	if external, _ := item.resource["externalId"].(string); external != "" {
		delete(c.external, external)
	}
}

func (c *collection) drop(item *stored) {
	c.unindex(item)
	delete(c.byID, item.id())
	item.gone = true
	item.version++
}

func (c *collection) compact() {
	created := c.created[:0]
	for _, item := range c.created {
		if !item.gone {
			created = append(created, item)
		}
	}
	c.created = created
	changed := make([]change, 0, len(created))
	for _, item := range created {
		changed = append(changed, change{item, item.version, item.modified})
	}
	sort.Slice(changed, func(i, j int) bool { return changed[i].at.Before(changed[j].at) })
	c.changed = changed
}

func (s *store) collection(endpoint string) (*collection, *failure) {
	if c := s.types[endpoint]; c != nil {
		return c, nil
	}
	return nil, &failure{404, "", "there is no endpoint /" + endpoint}
}

// clash refuses values that must be unique and that another resource has;
// addresses are unique among people and contacts together.
func (s *store) clash(c *collection, resource map[string]any, self string) *failure {
	for _, key := range c.uniqueKeys(resource) {
		for _, other := range s.types {
			if other != c && !strings.HasPrefix(key, "emails=") {
				continue
			}
			if holder, taken := other.unique[key]; taken && holder != self {
				name, value, _ := strings.Cut(key, "=")
				return &failure{409, "uniqueness", fmt.Sprintf("%s %s belongs to another resource already", name, value)}
			}
		}
	}
	if external, _ := resource["externalId"].(string); external != "" && !s.has(habitSharedKeys) {
		if holder, taken := c.external[external]; taken && holder != self {
			return &failure{409, "uniqueness", "externalId " + external + " belongs to another resource already"}
		}
	}
	return nil
}

func (s *store) verified(c *collection, resource map[string]any) *failure {
	login, _ := resource["userName"].(string)
	if c.kind.endpoint != "Users" {
		return nil
	}
	domain, f := loginDomain(login)
	if f != nil {
		return f
	}
	if !s.domains[domain] {
		return invalidValue("userName: the domain %s is not verified", domain)
	}
	return nil
}

func (s *store) hasDomain(domain string) bool {
	s.mu.RLock()
	defer s.mu.RUnlock()
	return s.domains[strings.ToLower(domain)]
}

func (s *store) verify(domain string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.domains[domain] = true
}

// cutTitles keeps titles no longer than n from now on.
func (s *store) cutTitles(n int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.titles = n
}

func (s *store) cut(resource map[string]any) {
	if title, ok := resource["title"].(string); ok && s.titles > 0 && len(title) > s.titles {
		resource["title"] = title[:s.titles]
	}
}

func (s *store) create(endpoint string, body map[string]any, shown view) (written, *failure) {
	s.mu.Lock()
	defer s.mu.Unlock()
	c, f := s.collection(endpoint)
	if f != nil {
		return written{}, f
	}
	edits := []memberEdit(nil)
	if endpoint == "Groups" {
		if body, edits, f = membersIn(body); f != nil {
			return written{}, f
		}
	}
	resource, f := c.kind.normalize(body)
	if f != nil {
		return written{}, f
	}
	if f := s.verified(c, resource); f != nil {
		return written{}, f
	}
	if f := s.clash(c, resource, ""); f != nil {
		return written{}, f
	}
	if f := s.particular("", resource, edits); f != nil {
		return written{}, f
	}
	s.ownWay(resource)
	if _, ok := resource["active"]; !ok && endpoint == "Users" {
		resource["active"] = true
	}
	id := uuid.NewString()
	resource["id"] = id
	item := &stored{resource: resource, members: newMembers(), version: 1}
	added, _, f := s.editMembers(item, edits)
	if f != nil {
		return written{}, f
	}
	item.created = s.now()
	item.modified = item.created
	c.byID[id] = item
	c.created = append(c.created, item)
	c.index(item)
	text := s.record(c, item)
	if len(added) > 0 {
		s.recordMembers(c, item, added, nil)
	}
	return s.written(c, item, text, shown), nil
}

// written is the answer to a write, with the members of a group where they are
// asked for.
func (s *store) written(c *collection, item *stored, text json.RawMessage, shown view) written {
	if c.kind.endpoint == "Groups" || shown.partial() {
		text, _ = json.Marshal(shown.of(item.withMeta(c.kind, shown.has("members")))) // maps of JSON values
	}
	return written{item.id(), item.tag(), text}
}

// edit is what a request makes of a resource: the resource, and for a group what
// becomes of its members.
type edit func(resourceType, map[string]any) (map[string]any, []memberEdit, *failure)

// change replaces a resource by what edit makes of it.
func (s *store) change(endpoint, id, ifMatch string, shown view, edit edit) (written, *failure) {
	s.mu.Lock()
	defer s.mu.Unlock()
	c, item, f := s.get(endpoint, id)
	if f != nil {
		return written{}, f
	}
	if !tagMatches(ifMatch, item) {
		return written{}, &failure{412, "", "the resource has changed; its version is " + item.tag()}
	}
	edited, edits, f := edit(c.kind, item.resource)
	if f != nil {
		return written{}, f
	}
	resource, f := c.kind.normalize(edited)
	if f != nil {
		return written{}, f
	}
	if f := s.verified(c, resource); f != nil {
		return written{}, f
	}
	if f := s.clash(c, resource, id); f != nil {
		return written{}, f
	}
	if f := s.particular(id, resource, edits); f != nil {
		return written{}, f
	}
	added, removed, f := s.editMembers(item, edits)
	if f != nil {
		return written{}, f
	}
	s.ownWay(resource)
	resource["id"] = id
	if resource["active"] == false {
		s.suspended(id)
	}
	c.unindex(item)
	// The map of before may still be being sent, so it is left as it was.
	*item = stored{resource: resource, members: item.members, version: item.version + 1, created: item.created, modified: s.now()}
	c.index(item)
	text := s.record(c, item)
	if len(added)+len(removed) > 0 {
		s.recordMembers(c, item, added, removed)
	}
	return s.written(c, item, text, shown), nil
}

func (s *store) delete(endpoint, id, ifMatch string) *failure {
	s.mu.Lock()
	defer s.mu.Unlock()
	c, item, f := s.get(endpoint, id)
	if f != nil {
		return f
	}
	if !tagMatches(ifMatch, item) {
		return &failure{412, "", "the resource has changed; its version is " + item.tag()}
	}
	if s.has(habitSoftDelete) && endpoint == "Users" {
		c.unindex(item)
		resource := maps.Clone(item.resource)
		resource["active"] = false
		s.suspended(id)
		*item = stored{resource: resource, members: item.members, version: item.version + 1, created: item.created, modified: s.now()}
		c.index(item)
		s.record(c, item)
		return nil
	}
	c.drop(item)
	s.record(c, item)
	s.leaveGroups(id)
	s.suspended(id)
	return nil
}

func (s *store) has(habit string) bool { return s.options.has(habit) }

func (s *store) get(endpoint, id string) (*collection, *stored, *failure) {
	c, f := s.collection(endpoint)
	if f != nil {
		return nil, nil, f
	}
	item := c.byID[id]
	if item == nil {
		return nil, nil, &failure{404, "", "there is no resource " + id}
	}
	return c, item, nil
}

func tagMatches(ifMatch string, item *stored) bool {
	if ifMatch == "" || ifMatch == "*" {
		return true
	}
	for _, tag := range strings.Split(ifMatch, ",") {
		if strings.TrimSpace(tag) == item.tag() {
			return true
		}
	}
	return false
}

func timestamp(at time.Time) string { return at.Format(timeForm) }

// withMeta is the resource as it is sent.
func (i *stored) withMeta(t resourceType, members bool) map[string]any {
	out := make(map[string]any, len(i.resource)+3)
	if members && len(i.members.ids) > 0 {
		out["members"] = i.members.list()
	}
	schemas := []any{t.core.ID}
	maps.Copy(out, i.resource)
	for _, extension := range t.extensions {
		if _, ok := i.resource[extension.ID]; ok {
			schemas = append(schemas, extension.ID)
		}
	}
	out["schemas"] = schemas
	out["meta"] = map[string]any{
		"resourceType": t.name, "created": timestamp(i.created), "lastModified": timestamp(i.modified),
		"version": i.tag(), "location": "/scim/v2/" + t.endpoint + "/" + i.id(),
	}
	return out
}

func (s *store) counts() map[string]int {
	s.mu.RLock()
	defer s.mu.RUnlock()
	out := map[string]int{}
	for name, c := range s.types {
		out[name] = len(c.byID)
	}
	return out
}

func errorBody(f *failure) scim.Error {
	return scim.Error{Schemas: []string{scim.ErrorURN}, ScimType: f.scimType, Detail: f.detail, Status: scim.Status(fmt.Sprint(f.status))}
}
