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
	habitSharedKeys  = "shared-link-keys" // several resources may bear one externalId
)

var habits = []string{habitBulkOrder, habitBulkUnnamed, habitOnRequest, habitByReference, habitLateLists, habitOtherCase, habitNoID, habitNoLocation,
	habitFirstPage, habitSoftDelete, habitNoDiscovery, habitStoredView, habitStrictParts, habitFreeNames, habitSharedKeys, habitNoTitles, habitNoSelf}

// lateFor is how long lists lag behind.
const lateFor = 2 * time.Second

func (o Options) has(habit string) bool { return slices.Contains(o.Habits, habit) }

// listed tells whether lists know of a resource already.
func (s *store) listed(item *stored) bool {
	return !s.has(habitLateLists) || time.Since(item.created) > lateFor
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
	if s.options.has(habitNoDiscovery) && strings.HasSuffix(c.Path(), "/ServiceProviderConfig") {
		return refuse(c, &failure{http.StatusNotFound, "", "there is no such endpoint"})
	}
	if err := c.Next(); err != nil {
		return err
	}
	if !slices.ContainsFunc([]string{habitBulkOrder, habitBulkUnnamed, habitByReference, habitOtherCase, habitNoID, habitNoLocation}, s.options.has) {
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
