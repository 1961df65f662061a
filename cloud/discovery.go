package cloud

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/protocol/scim"
)

// Capabilities is what discovery found in ServiceProviderConfig (RFC 7643
// section 5).
type Capabilities struct {
	Patch, Filter, Sort, ETag bool
	MaxResults                int // per page
	BulkOperations            int // 0: no bulk
	BulkPayload               int // bytes, 0: no limit is told
	// Index and Cursor tell how lists can be paged (RFC 9865).
	Index, Cursor bool
	// Pages is the way in which lists are read.
	Pages          string
	ChangePassword bool
	SignIn         []string // names of the authentication schemes
	// Denied is what is not used although it is promised, with why.
	Denied map[Feature]string
	// WholeAttributes: changes set attributes as a whole.
	WholeAttributes bool
	// Assumed: the service has no ServiceProviderConfig, so nothing is relied on
	// but what every service must do (RFC 7644 sections 3.3 to 3.6).
	Assumed bool
}

// Discover asks what the service can do; the answer is kept.
func (c *Client) Discover(ctx context.Context) (Capabilities, error) {
	c.mu.Lock()
	known := c.capabilities
	if known != nil {
		defer c.mu.Unlock()
		return c.used(*known), nil
	}
	c.mu.Unlock()
	found, err := c.discover(ctx, c.get)
	if err != nil {
		return Capabilities{}, fmt.Errorf("discover what the cloud can do: %w", err)
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.capabilities = &found
	return c.used(found), nil
}

func (c *Client) discover(ctx context.Context, get func(context.Context, string, any) error) (Capabilities, error) {
	var config scim.ServiceProviderConfig
	err := get(ctx, "/ServiceProviderConfig", &config)
	found := capabilitiesOf(config)
	if absent(err) {
		found.Assumed, err = true, nil
		found.MaxResults = cautiousPage
	}
	return found, err
}

// absent tells the refusal of a service that does not have what was asked for, or does
// not let it be read.
func absent(err error) bool {
	var refusal *Refusal
	return errors.As(err, &refusal) && slices.Contains([]int{http.StatusForbidden, http.StatusNotFound, http.StatusMethodNotAllowed, http.StatusNotImplemented}, refusal.Status)
}

// cautiousPage is how many resources are asked for at once where the service
// does not say how many it gives.
const cautiousPage = 100

// longestPage is how many resources are asked for at once where a service would
// give more.
const longestPage = 1000

func capabilitiesOf(config scim.ServiceProviderConfig) Capabilities {
	found := Capabilities{
		Patch: config.Patch.Supported, Filter: config.Filter.Supported.Supported, Sort: config.Sort.Supported, ETag: config.ETag.Supported,
		ChangePassword: config.ChangePassword.Supported, MaxResults: config.Filter.MaxResults, Index: true, Pages: "index",
	}
	if config.Bulk.Supported.Supported {
		found.BulkOperations, found.BulkPayload = config.Bulk.MaxOperations, config.Bulk.MaxPayloadSize
	}
	if p := config.Pagination; p != nil {
		found.Index, found.Cursor = p.Index || !p.Cursor, p.Cursor
		if p.MaxPageSize > 0 && (found.MaxResults <= 0 || p.MaxPageSize < found.MaxResults) {
			found.MaxResults = p.MaxPageSize
		}
	}
	// A cursor does not slip when resources come or go between two pages.
	if found.Cursor {
		found.Pages = "cursor"
	}
	if found.MaxResults <= 0 || found.MaxResults > longestPage {
		found.MaxResults = longestPage
	}
	for _, scheme := range config.AuthenticationSchemes {
		found.SignIn = append(found.SignIn, scheme.Name)
	}
	return found
}

// Catalogue is what the cloud holds: its resource types, the attributes that
// rules can set, and the login domains where it tells them.
type Catalogue struct {
	Types   []Type
	Targets []Target // of users
	Groups  []Target
	// Contacts is empty where the cloud has none.
	Contacts []Target
	// Members are the names of the resource types that groups can hold.
	Members []string
	// Domains are the verified login domains; nil when the cloud does not tell. Listed are
	// also those that are not verified.
	Domains []string
	Listed  []Domain
	// Assumed: the cloud does not list its types or schemas, so that users and
	// groups as RFC 7643 has them are expected, and rules cannot be checked.
	Assumed bool
}

// Domain is a login domain as the cloud lists it.
type Domain struct {
	Name     string
	Verified bool
	// Verification is how somebody proves to have it, in the cloud's words; "" where it does
	// not tell.
	Verification string
}

// Type is one kind of resource.
type Type struct {
	Name, Endpoint string
	Schemas        []string
}

// Of lists the attributes of a kind that rules can set.
func (c Catalogue) Of(kind entry.Kind) []Target {
	switch kind {
	case entry.Group:
		return c.Groups
	case entry.Contact:
		return c.Contacts
	}
	return c.Targets
}

// typeNames are those of the resource types (RFC 7643 section 6) for each kind;
// that of contacts is no standard one.
var typeNames = map[entry.Kind]string{entry.User: "User", entry.Group: "Group", entry.Contact: "Contact"}

// TypeName is what the cloud calls a kind.
func TypeName(kind entry.Kind) string { return typeNames[kind] }

// Type finds the resource type of a kind; false when the cloud has none. A
// service that does not list its types is taken to have users and groups.
func (c *Client) Type(ctx context.Context, kind entry.Kind) (Type, bool, error) {
	catalogue, err := c.Catalogue(ctx)
	if err != nil {
		return Type{}, false, err
	}
	for _, t := range catalogue.Types {
		if strings.EqualFold(t.Name, typeNames[kind]) {
			t.Endpoint = "/" + strings.Trim(t.Endpoint, "/")
			return t, true, nil
		}
	}
	usual := map[entry.Kind]Type{entry.User: {"User", "/Users", []string{scim.UserURN}}, entry.Group: {"Group", "/Groups", []string{scim.GroupURN}}}
	t, ok := usual[kind]
	return t, ok && len(catalogue.Types) == 0, nil
}

// Target is one attribute of users as a rule names it.
type Target struct {
	Path        string
	Type        string
	Description string
	MultiValued bool
	Required    bool
	Unique      bool
	ReadOnly    bool
}

// Catalogue asks for resource types, schemas and domains (RFC 7644 section 4);
// the answer is kept until Forget.
func (c *Client) Catalogue(ctx context.Context) (Catalogue, error) {
	c.mu.Lock()
	known := c.catalogue
	c.mu.Unlock()
	if known != nil {
		return *known, nil
	}
	types, err := listed[scim.ResourceType](ctx, c, "/ResourceTypes")
	if err != nil && !absent(err) {
		return Catalogue{}, fmt.Errorf("read the cloud's resource types: %w", err)
	}
	schemas, err := listed[scim.Schema](ctx, c, "/Schemas")
	if err != nil && !absent(err) {
		return Catalogue{}, fmt.Errorf("read the cloud's schemas: %w", err)
	}
	catalogue := Catalogue{Types: []Type{}, Targets: []Target{}, Assumed: len(types) == 0 || len(schemas) == 0}
	for _, t := range types {
		found := Type{Name: t.Name, Endpoint: t.Endpoint, Schemas: []string{t.Schema}}
		for _, extension := range t.SchemaExtensions {
			found.Schemas = append(found.Schemas, extension.Schema)
		}
		catalogue.Types = append(catalogue.Types, found)
		switch {
		case strings.EqualFold(t.Name, typeNames[entry.User]):
			catalogue.Targets = targetsOf(found, schemas)
		case strings.EqualFold(t.Name, typeNames[entry.Group]):
			catalogue.Groups, catalogue.Members = targetsOf(found, schemas), membersOf(t.Schema, schemas)
		case strings.EqualFold(t.Name, typeNames[entry.Contact]):
			catalogue.Contacts = targetsOf(found, schemas)
		}
		if domainList(t, schemas) {
			if catalogue.Listed, err = c.domains(ctx, t.Endpoint); err != nil {
				return Catalogue{}, err
			}
			catalogue.Domains = []string{}
			for _, d := range catalogue.Listed {
				if d.Verified {
					catalogue.Domains = append(catalogue.Domains, d.Name)
				}
			}
		}
	}
	c.mu.Lock()
	c.catalogue = &catalogue
	c.mu.Unlock()
	return catalogue, nil
}

// Forget lets the next question discover anew.
func (c *Client) Forget() {
	c.mu.Lock()
	c.capabilities, c.catalogue = nil, nil
	c.mu.Unlock()
}

// listed reads a list of what describes the service.
func listed[T any](ctx context.Context, c *Client, path string) ([]T, error) {
	var out []T
	walk := pages{what: path}
	for {
		var response scim.ListResponse
		query := ""
		if walk.start > 0 { // the first page is all that most services have
			query = "?startIndex=" + strconv.Itoa(walk.start)
		}
		if err := c.get(ctx, path+query, &response); err != nil {
			return nil, err
		}
		ids := make([]string, len(response.Resources))
		for i, text := range response.Resources {
			var one T
			if err := json.Unmarshal(text, &one); err != nil {
				return nil, fmt.Errorf("read number %d of %s: %w", i+1, path, err)
			}
			var named struct{ ID, Name string }
			_ = json.Unmarshal(text, &named) // was JSON a moment ago
			ids[i] = cmp.Or(named.ID, named.Name, strconv.Itoa(len(out)))
			out = append(out, one)
		}
		if more, err := walk.take(ids, response.TotalResults, response.StartIndex, ""); err != nil || !more {
			return out, err
		}
	}
}

// elementTypes are the types of a list's elements that a rule can choose by:
// the canonical values of its type, the usual ones where the schema names none.
// Of members the type tells another thing, and they come as a whole.
func elementTypes(a scim.Attribute) []string {
	for _, sub := range a.SubAttributes {
		switch {
		case !strings.EqualFold(sub.Name, "type") || strings.EqualFold(a.Name, "members"):
		case len(sub.CanonicalValues) > 0:
			return sub.CanonicalValues
		default:
			return []string{"work", "home", "other"}
		}
	}
	return nil
}

// membersOf tells what groups can hold: the canonical values of members.type,
// people and groups where the schema names none (RFC 7643 section 4.2).
func membersOf(schema string, schemas []scim.Schema) []string {
	for _, s := range schemas {
		for _, a := range s.Attributes {
			for _, sub := range a.SubAttributes {
				if strings.EqualFold(s.ID, schema) && strings.EqualFold(a.Name, "members") && strings.EqualFold(sub.Name, "type") && len(sub.CanonicalValues) > 0 {
					return sub.CanonicalValues
				}
			}
		}
	}
	return []string{"User", "Group"}
}

func targetsOf(t Type, schemas []scim.Schema) []Target {
	targets := []Target{}
	for i, id := range t.Schemas {
		at := slices.IndexFunc(schemas, func(s scim.Schema) bool { return strings.EqualFold(s.ID, id) })
		if at < 0 {
			continue
		}
		prefix := ""
		if i > 0 {
			prefix = id + ":"
		}
		for _, a := range schemas[at].Attributes {
			targets = append(targets, targetsOfAttribute(prefix+a.Name, a)...)
		}
	}
	return targets
}

func targetsOfAttribute(path string, a scim.Attribute) []Target {
	one := func(path string, a scim.Attribute, required bool) Target {
		return Target{Path: path, Type: a.Type, Description: a.Description, MultiValued: a.MultiValued, Required: required,
			Unique: unique(a), ReadOnly: strings.EqualFold(a.Mutability, readOnly)}
	}
	if !strings.EqualFold(a.Type, "complex") {
		return []Target{one(path, a, a.Required)}
	}
	var targets []Target
	if a.MultiValued {
		// As a whole, for what memberships grant and for the members of groups.
		targets = append(targets, one(path, a, a.Required))
	}
	for _, sub := range a.SubAttributes {
		sub.Mutability = strongest(a.Mutability, sub.Mutability)
		if !a.MultiValued {
			targets = append(targets, one(path+"."+sub.Name, sub, a.Required && sub.Required))
			continue
		}
		if strings.EqualFold(sub.Name, "type") || strings.EqualFold(sub.Name, "primary") {
			continue
		}
		for _, kind := range elementTypes(a) {
			target := one(fmt.Sprintf("%s[type eq %q].%s", path, kind, sub.Name), sub, false)
			target.Unique = target.Unique || unique(a)
			targets = append(targets, target)
		}
	}
	return targets
}

const readOnly = "readOnly"

func unique(a scim.Attribute) bool {
	return strings.EqualFold(a.Uniqueness, "server") || strings.EqualFold(a.Uniqueness, "global")
}

func strongest(outer, inner string) string {
	if strings.EqualFold(outer, readOnly) {
		return outer
	}
	return inner
}

// domainList tells a resource type that lists login domains: there is no
// standard one, so any whose schema has a name and says whether it is verified
// counts.
func domainList(t scim.ResourceType, schemas []scim.Schema) bool {
	if !strings.EqualFold(t.Name, "Domain") {
		return false
	}
	at := slices.IndexFunc(schemas, func(s scim.Schema) bool { return strings.EqualFold(s.ID, t.Schema) })
	return at >= 0 && slices.ContainsFunc(schemas[at].Attributes, func(a scim.Attribute) bool { return strings.EqualFold(a.Name, "verified") })
}

func (c *Client) domains(ctx context.Context, endpoint string) ([]Domain, error) {
	type domain struct {
		Value        string `json:"value"`
		Name         string `json:"name"`
		Verified     bool   `json:"verified"`
		Verification string `json:"verification"`
	}
	found, err := listed[domain](ctx, c, "/"+strings.TrimPrefix(endpoint, "/"))
	if err != nil {
		return nil, fmt.Errorf("read the cloud's login domains: %w", err)
	}
	domains := []Domain{}
	for _, d := range found {
		if name := strings.ToLower(cmp.Or(d.Value, d.Name)); name != "" {
			domains = append(domains, Domain{name, d.Verified, d.Verification})
		}
	}
	slices.SortFunc(domains, func(a, b Domain) int { return strings.Compare(a.Name, b.Name) })
	return domains, nil
}

// Step is one step of a probe of the cloud, with what to do about it.
type Step struct {
	Name, Outcome, Detail, Advice string
}

// Probe tries the connection, the token, discovery and reading.
func (c *Client) Probe(ctx context.Context) []Step {
	c.Forget()
	c.mu.Lock()
	denied, habits := c.denied, c.habits
	c.denied = nil // perhaps it does by now
	c.mu.Unlock()
	var steps []Step
	found, err := c.discover(ctx, func(ctx context.Context, path string, into any) error {
		_, err := c.once(ctx, request{method: http.MethodGet, path: path}, into)
		return err
	})
	if err != nil {
		return append(steps, failedStep(err))
	}
	if found.Assumed {
		// That something else answers there is told apart by asking for users.
		if _, err := c.list(ctx, entry.User, found.page(1, "", 1)); err != nil {
			return append(steps, failedStep(err))
		}
	}
	steps = append(steps, Step{"connect", "good", c.URL() + " answers", ""})
	if found.Assumed {
		steps = append(steps, Step{"discovery", "doubtful", "the cloud has no ServiceProviderConfig, so nothing is relied on that a service may lack: " + found.String(), "Ask the cloud's makers for ServiceProviderConfig (RFC 7643 section 5); runs work without it, with more requests."})
	} else {
		steps = append(steps, Step{"discovery", "good", found.String(), ""})
	}
	for _, feature := range []Feature{FeaturePatch, FeatureBulk, FeatureFilter} {
		if why := denied[feature]; why != "" {
			steps = append(steps, Step{string(feature), "doubtful", why + ": runs took the plain way, and try it once more", "Tell the cloud's makers; nothing is lost meanwhile."})
		}
	}
	c.mu.Lock()
	can := c.used(found)
	c.mu.Unlock()
	for _, feature := range habits.Without {
		steps = append(steps, Step{string(feature), "skipped", "not used, by the settings (cloud.habits)", ""})
	}
	if !found.Filter {
		steps = append(steps, Step{"filter", "doubtful", "the cloud takes no filters, so that every run reads all of it", "Nothing, unless the cloud's service can be set to take them."})
	}
	catalogue, err := c.Catalogue(ctx)
	if err != nil {
		return append(steps, failedStep(err))
	}
	if catalogue.Assumed {
		steps = append(steps, Step{"schemas", "doubtful", "the cloud does not list its resource types and schemas, so users and groups as RFC 7643 has them are expected, and rules cannot be checked beforehand", "Ask the cloud's makers for ResourceTypes and Schemas (RFC 7644 section 4)."})
	} else if len(catalogue.Targets) == 0 {
		steps = append(steps, Step{"schemas", "bad", "the cloud has no resource type User with a schema", "Check that the URL is that of a SCIM 2.0 service with users."})
	} else {
		steps = append(steps, Step{"schemas", "good", fmt.Sprintf("%d resource types, %d attributes of users", len(catalogue.Types), len(catalogue.Targets)), ""})
	}
	if catalogue.Domains == nil {
		steps = append(steps, Step{"domains", "doubtful", "the cloud does not list the login domains that it has verified", "Name them in the settings under cloud.domains, so that wrong logins are found beforehand."})
	} else {
		steps = append(steps, Step{"domains", "good", "verified login domains: " + strings.Join(catalogue.Domains, ", "), ""})
	}
	return append(steps, c.tried(ctx, can)...)
}

// String tells in one line what the service can do.
func (c Capabilities) String() string {
	yes := func(name string, has bool) string {
		if has {
			return name
		}
		return "no " + name
	}
	return strings.Join([]string{yes("PATCH", c.Patch), yes("bulk", c.BulkOperations > 0), yes("filter", c.Filter), yes("sort", c.Sort), yes("etag", c.ETag),
		fmt.Sprintf("pages of %d by %s", c.MaxResults, c.Pages)}, ", ")
}
