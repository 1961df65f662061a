package standin

import (
	"encoding/json"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/gofiber/fiber/v2"

	"kambrel.example/kambrel/protocol/scim"
)

// Habits that services have, allowed by the standard or not. Each can be taken
// on, alone or with others.
const (
	habitBulkOrder   = "bulk-order"       // results of a bulk request come in another order (RFC 7644 section 3.7)
	habitBulkUnnamed = "bulk-unnamed"     // and without their bulkId
	habitOnRequest   = "members-asked"    // members come only when they are asked for
	habitByReference = "members-by-ref"   // members are given by $ref alone
	habitLateLists   = "late-lists"       // what was created is not listed for a while
	habitOtherCase   = "other-case"       // names in answers begin with a capital letter
	habitNoID        = "no-id"            // the answer to a creation has no id
	habitNoLocation  = "no-location"      // nor a Location
	habitFirstPage   = "first-page"       // every page is the first
	habitSoftDelete  = "soft-delete"      // deletion deactivates
	habitNoDiscovery = "no-discovery"     // there is no ServiceProviderConfig
	habitStoredView  = "stored-view"      // a write keeps only what it was asked to show
	habitStrictParts = "strict-parts"     // a part of what is not there cannot be replaced
	habitFreeNames   = "free-names"       // groups may have the same name
	habitNoTitles    = "no-titles"        // titles are refused as invalid
	habitNoSelf      = "no-self"          // a group cannot be its own member, and the whole request is refused
	habitActiveText  = "active-text"      // active is the text "True" or "False"
	habitSmallLogins = "small-logins"     // logins are kept in small letters
	habitNoTypes     = "no-types"         // elements of lists lose their type
	habitNoMeta      = "no-meta"          // there is no meta
	habitBulkMissing = "bulk-missing"     // bulk is promised, and answers 404
	habitPatchless   = "patch-missing"    // PATCH is promised, and answers 501
	habitFilterless  = "filter-missing"   // filters are promised, and answered with 400
	habitUnfiltered  = "filter-ignored"   // filters are taken, and not heeded
	habitPartsLost   = "parts-lost"       // a part of an attribute is not replaced, whatever the answer says
	habitSecretTypes = "secret-schemas"   // schemas and resource types may not be read
	habitThrottled   = "throttled"        // now and then everybody is asked to wait, until a date
	habitCutMembers  = "members-cut"      // no more than a few members of a group are listed
	habitSharedKeys  = "shared-link-keys" // several resources may bear one externalId
)

var habits = []string{habitBulkOrder, habitBulkUnnamed, habitOnRequest, habitByReference, habitLateLists, habitOtherCase, habitNoID, habitNoLocation,
	habitFirstPage, habitSoftDelete, habitNoDiscovery, habitStoredView, habitStrictParts, habitFreeNames, habitSharedKeys, habitNoTitles, habitNoSelf, habitActiveText, habitSmallLogins,
	habitNoTypes, habitNoMeta, habitBulkMissing, habitPatchless, habitFilterless, habitUnfiltered, habitPartsLost, habitSecretTypes, habitThrottled, habitCutMembers}

// lateFor is how long lists lag behind.
const lateFor = 2 * time.Second

func (o Options) has(habit string) bool { return slices.Contains(o.Habits, habit) }

// listed tells whether lists know of a resource already.
func (s *store) listed(item *stored) bool {
	return !s.has(habitLateLists) || time.Since(item.created) > lateFor
}

// refuses answers what the service promises and does not do.
func (s *Server) refuses(c *fiber.Ctx) *failure {
	path := c.Path()
	switch {
	case s.options.has(habitThrottled) && s.throttles():
		c.Set("Retry-After", time.Now().Add(throttledFor).UTC().Format(http.TimeFormat))
		return &failure{http.StatusTooManyRequests, "", "too many requests"}
	case s.options.has(habitBulkMissing) && strings.HasSuffix(path, "/Bulk"):
		return &failure{http.StatusNotFound, "", "there is no such endpoint"}
	case s.options.has(habitPatchless) && c.Method() == fiber.MethodPatch:
		return unsupported("PATCH")
	case s.options.has(habitFilterless) && c.Query("filter") != "":
		return &failure{http.StatusBadRequest, "invalidFilter", "filters cannot be used"}
	case s.options.has(habitSecretTypes) && (strings.Contains(path, "/Schemas") || strings.Contains(path, "/ResourceTypes")):
		return &failure{http.StatusForbidden, "", "this account may not read schemas"}
	}
	return nil
}

// A throttled service takes so many requests, and then none for so long.
const (
	throttledAfter = 20
	throttledFor   = 4 * time.Second
)

// throttles tells whether a request comes while nobody is served.
func (s *Server) throttles() bool {
	s.throttle.Lock()
	defer s.throttle.Unlock()
	now := time.Now()
	if now.Before(s.servedFrom) {
		return true
	}
	if s.served++; s.served > throttledAfter {
		s.served, s.servedFrom = 0, now.Add(throttledFor)
		return true
	}
	return false
}

// membersListed is how many members are listed at most where they are cut.
const membersListed = 5

// plain writes resources at any depth the service's own way.
func (s *Server) plain(value any) {
	switch v := value.(type) {
	case map[string]any:
		if active, ok := v["active"].(bool); ok && s.options.has(habitActiveText) {
			v["active"] = map[bool]string{true: "True", false: "False"}[active]
		}
		if _, resource := v["schemas"]; resource && s.options.has(habitNoMeta) {
			delete(v, "meta")
		}
		if members, ok := v["members"].([]any); ok && s.options.has(habitCutMembers) && len(members) > membersListed {
			v["members"] = members[:membersListed]
		}
		for _, inner := range v {
			s.plain(inner)
		}
	case []any:
		for _, item := range v {
			s.plain(item)
		}
	}
}

// ownWay changes what is kept of a resource.
func (s *store) ownWay(resource map[string]any) {
	s.cut(resource)
	if login, ok := resource["userName"].(string); ok && s.has(habitSmallLogins) {
		resource["userName"] = strings.ToLower(login)
	}
	if !s.has(habitNoTypes) {
		return
	}
	for _, value := range resource {
		list, _ := value.([]any)
		for _, item := range list {
			if element, ok := item.(map[string]any); ok {
				delete(element, "type")
			}
		}
	}
}

// particular refuses values that some services do not take.
func (s *store) particular(id string, resource map[string]any, edits []memberEdit) *failure {
	if title, _ := resource["title"].(string); title != "" && s.has(habitNoTitles) {
		return invalidValue("title: this service takes no titles")
	}
	for _, edit := range edits {
		if id != "" && s.has(habitNoSelf) && slices.Contains(edit.add, id) {
			return &failure{http.StatusBadRequest, "", "a group cannot be a member of itself"}
		}
	}
	return nil
}

// habitual changes answers as the service's habits ask.
func (s *Server) habitual(c *fiber.Ctx) error {
	if f := s.refuses(c); f != nil {
		return refuse(c, f)
	}
	if s.options.has(habitNoDiscovery) && strings.HasSuffix(c.Path(), "/ServiceProviderConfig") {
		return refuse(c, &failure{http.StatusNotFound, "", "there is no such endpoint"})
	}
	if err := c.Next(); err != nil {
		return err
	}
	if !slices.ContainsFunc([]string{habitBulkOrder, habitBulkUnnamed, habitByReference, habitOtherCase, habitNoID, habitNoLocation, habitActiveText, habitNoMeta, habitCutMembers}, s.options.has) {
		return nil
	}
	var body map[string]any
	if json.Unmarshal(c.Response().Body(), &body) != nil {
		return nil
	}
	made := c.Method() == fiber.MethodPost && c.Response().StatusCode() == http.StatusCreated
	if results, ok := body["Operations"].([]any); ok && strings.HasSuffix(c.Path(), "/Bulk") {
		s.habitualBulk(results)
	}
	if s.options.has(habitByReference) {
		byReference(body, c.BaseURL()+"/scim/v2/")
	}
	if made && s.options.has(habitNoID) {
		delete(body, "id")
		if meta, ok := body["meta"].(map[string]any); ok {
			delete(meta, "location")
		}
	}
	if made && s.options.has(habitNoLocation) {
		c.Response().Header.Del("Location")
	}
	if s.options.has(habitActiveText) || s.options.has(habitNoMeta) || s.options.has(habitCutMembers) {
		s.plain(body)
	}
	if s.options.has(habitOtherCase) {
		body = otherCase(body).(map[string]any)
	}
	text, err := json.Marshal(body)
	if err != nil {
		return err
	}
	c.Response().SetBodyRaw(text)
	return nil
}

func (s *Server) habitualBulk(results []any) {
	if s.options.has(habitBulkOrder) {
		slices.Reverse(results)
	}
	for _, item := range results {
		result := item.(map[string]any)
		if s.options.has(habitBulkUnnamed) {
			delete(result, "bulkId")
		}
		response, _ := result["response"].(map[string]any)
		if result["method"] == "POST" && result["status"] == "201" && s.options.has(habitNoID) {
			delete(response, "id")
			delete(response, "meta")
		}
		if result["method"] == "POST" && s.options.has(habitNoLocation) {
			delete(result, "location")
		}
	}
}

// byReference leaves members their $ref only, at any depth.
func byReference(value any, base string) {
	switch v := value.(type) {
	case map[string]any:
		for name, inner := range v {
			if list, ok := inner.([]any); ok && name == "members" {
				for i, item := range list {
					member, _ := item.(map[string]any)
					kind, _ := member["type"].(string)
					id, _ := member["value"].(string)
					list[i] = map[string]any{"$ref": base + kind + "s/" + id}
				}
				continue
			}
			byReference(inner, base)
		}
	case []any:
		for _, item := range v {
			byReference(item, base)
		}
	}
}

// otherCase lets each name begin with a capital letter.
func otherCase(value any) any {
	switch v := value.(type) {
	case map[string]any:
		out := make(map[string]any, len(v))
		for name, inner := range v {
			if name != "" && !strings.HasPrefix(name, "urn:") {
				name = strings.ToUpper(name[:1]) + name[1:]
			}
			out[name] = otherCase(inner)
		}
		return out
	case []any:
		for i, item := range v {
			v[i] = otherCase(item)
		}
	}
	return value
}

// unseen is what a write loses in a service that applies it to what it shows.
func (s *Server) unseen(shown view, endpoint string, edit edit) edit {
	if !s.options.has(habitStoredView) || endpoint != "Groups" || shown.has("members") {
		return edit
	}
	return func(t resourceType, resource map[string]any) (map[string]any, []memberEdit, *failure) {
		out, edits, f := edit(t, resource)
		return out, append([]memberEdit{{clear: true}}, edits...), f
	}
}

// withoutParts leaves out what is said about a part of an attribute.
func withoutParts(operations []scim.PatchOperation) []scim.PatchOperation {
	return slices.DeleteFunc(slices.Clone(operations), func(o scim.PatchOperation) bool {
		name := strings.TrimPrefix(o.Path, scim.EnterpriseURN+":")
		return strings.ContainsAny(name, ".[")
	})
}

// strict refuses to replace a part of a complex attribute that is not there.
func (t resourceType) strict(resource map[string]any, operations []scim.PatchOperation) *failure {
	for i, operation := range operations {
		if operation.Path == "" || !strings.EqualFold(operation.Op, "replace") {
			continue
		}
		tgt, f := t.target(clone(resource).(map[string]any), operation.Path)
		if f != nil {
			return f
		}
		inner, _ := tgt.holder[tgt.attribute.Name].(map[string]any)
		if tgt.sub != "" && !tgt.attribute.MultiValued && len(inner) == 0 {
			return &failure{http.StatusBadRequest, "noTarget", "operation " + strconv.Itoa(i+1) + ": " + operation.Path + " is not there"}
		}
	}
	return nil
}
