package standin

import (
	"encoding/json"
	"strconv"
	"strings"

	"github.com/gofiber/fiber/v2"

	"kambrel.example/kambrel/protocol/scim"
)

// bulk carries out several requests in their order (RFC 7644 section 3.7). A
// bulkId of an earlier creation can stand in a later path.
func (s *Server) bulk(c *fiber.Ctx) error {
	if s.lacks("bulk") {
		return refuse(c, unsupported("bulk requests"))
	}
	if len(c.Body()) > maxBulkPayload {
		return refuse(c, &failure{413, "tooMany", "the payload is larger than " + strconv.Itoa(maxBulkPayload) + " bytes"})
	}
	var request scim.BulkRequest
	if err := json.Unmarshal(c.Body(), &request); err != nil {
		return refuse(c, invalidSyntax("the body is no bulk request: %s", err))
	}
	if len(request.Operations) > maxBulkOperations {
		return refuse(c, &failure{413, "tooMany", "more than " + strconv.Itoa(maxBulkOperations) + " operations"})
	}
	response := scim.BulkResponse{Schemas: []string{scim.BulkResponseURN}, Operations: make([]scim.BulkResult, 0, len(request.Operations))}
	made := map[string]string{}
	errors := 0
	for _, operation := range request.Operations {
		if request.FailOnErrors > 0 && errors >= request.FailOnErrors {
			break
		}
		result, f := s.bulkOne(operation, made)
		if f != nil {
			errors++
			result.Status = scim.Status(strconv.Itoa(f.status))
			result.Response, _ = json.Marshal(errorBody(f)) // texts only
		}
		response.Operations = append(response.Operations, result)
	}
	if err := s.store.flush(); err != nil {
		return err
	}
	return send(c, 200, response)
}

func (s *Server) bulkOne(operation scim.BulkOperation, made map[string]string) (scim.BulkResult, *failure) {
	result := scim.BulkResult{Method: strings.ToUpper(operation.Method), BulkID: operation.BulkID, Location: operation.Path}
	endpoint, id, _ := strings.Cut(strings.TrimPrefix(operation.Path, "/"), "/")
	if bulkID, ok := strings.CutPrefix(id, "bulkId:"); ok {
		id = made[bulkID]
	}
	if s.lacks("etag") {
		operation.Version = ""
	}
	var item written
	var f *failure
	status := 200
	switch result.Method {
	case "POST":
		var body map[string]any
		if operation.BulkID == "" {
			return result, invalidSyntax("a POST in a bulk request needs a bulkId")
		}
		if body, f = object(operation.Data); f == nil {
			item, f = s.store.create(endpoint, body, s.asked(view{}))
			status = 201
		}
	case "PUT":
		var body map[string]any
		if body, f = object(operation.Data); f == nil {
			item, f = s.store.change(endpoint, id, operation.Version, view{}, replaced(endpoint, body))
		}
	case "PATCH":
		if s.lacks("patch") || s.options.has(habitPatchless) {
			return result, unsupported("PATCH")
		}
		var operations []scim.PatchOperation
		if operations, f = patchOperations(operation.Data); f == nil {
			item, f = s.store.change(endpoint, id, operation.Version, view{}, s.patched(endpoint, operations))
		}
	case "DELETE":
		f = s.store.delete(endpoint, id, operation.Version)
		status = 204
	default:
		f = invalidSyntax("%q is no method of a bulk request", operation.Method)
	}
	if f != nil {
		return result, f
	}
	result.Status = scim.Status(strconv.Itoa(status))
	if status != 204 {
		made[operation.BulkID] = item.id
		result.Version, result.Location, result.Response = item.tag, "/scim/v2/"+endpoint+"/"+item.id, s.unversioned(item.text)
	}
	return result, nil
}
