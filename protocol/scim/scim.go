// Package scim holds the messages of SCIM 2.0 (RFC 7644) that the client and
// the cloud stand-in exchange. It has no behaviour.
package scim

import "encoding/json"

// Schema URNs of the messages.
const (
	ListResponseURN = "urn:ietf:params:scim:api:messages:2.0:ListResponse"
	PatchOpURN      = "urn:ietf:params:scim:api:messages:2.0:PatchOp"
	BulkRequestURN  = "urn:ietf:params:scim:api:messages:2.0:BulkRequest"
	BulkResponseURN = "urn:ietf:params:scim:api:messages:2.0:BulkResponse"
	ErrorURN        = "urn:ietf:params:scim:api:messages:2.0:Error"
	UserURN         = "urn:ietf:params:scim:schemas:core:2.0:User"
	GroupURN        = "urn:ietf:params:scim:schemas:core:2.0:Group"
	EnterpriseURN   = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"
	ProviderURN     = "urn:ietf:params:scim:schemas:core:2.0:ServiceProviderConfig"
	ResourceTypeURN = "urn:ietf:params:scim:schemas:core:2.0:ResourceType"
	SchemaURN       = "urn:ietf:params:scim:schemas:core:2.0:Schema"
)

// MediaType is the content type of every message (RFC 7644 section 3.1).
const MediaType = "application/scim+json"

// ListResponse answers a query (RFC 7644 section 3.4.2).
type ListResponse struct {
	Schemas      []string `json:"schemas"`
	TotalResults int      `json:"totalResults"`
	StartIndex   int      `json:"startIndex,omitempty"`
	ItemsPerPage int      `json:"itemsPerPage"`
	// NextCursor is for cursor paging (RFC 9865 section 2).
	NextCursor string            `json:"nextCursor,omitempty"`
	Resources  []json.RawMessage `json:"Resources,omitempty"`
}

// PatchRequest changes a resource (RFC 7644 section 3.5.2).
type PatchRequest struct {
	Schemas    []string         `json:"schemas"`
	Operations []PatchOperation `json:"Operations"`
}

// PatchOperation is one step of a PatchRequest.
type PatchOperation struct {
	Op    string          `json:"op"`
	Path  string          `json:"path,omitempty"`
	Value json.RawMessage `json:"value,omitempty"`
}

// BulkRequest carries several requests (RFC 7644 section 3.7).
type BulkRequest struct {
	Schemas      []string        `json:"schemas"`
	FailOnErrors int             `json:"failOnErrors,omitempty"`
	Operations   []BulkOperation `json:"Operations"`
}

// BulkOperation is one request of a BulkRequest.
type BulkOperation struct {
	Method  string          `json:"method"`
	BulkID  string          `json:"bulkId,omitempty"`
	Version string          `json:"version,omitempty"`
	Path    string          `json:"path"`
	Data    json.RawMessage `json:"data,omitempty"`
}

// BulkResponse carries the results, in any order: bulkId tells which is which.
type BulkResponse struct {
	Schemas    []string     `json:"schemas"`
	Operations []BulkResult `json:"Operations"`
}

// BulkResult is the result of one BulkOperation; Response is the resource, or
// the Error when Status is not a success.
type BulkResult struct {
	Method   string          `json:"method"`
	BulkID   string          `json:"bulkId,omitempty"`
	Version  string          `json:"version,omitempty"`
	Location string          `json:"location,omitempty"`
	Status   Status          `json:"status"`
	Response json.RawMessage `json:"response,omitempty"`
}

// Status is an HTTP status as text (RFC 7644 section 3.7.3). Services that write
// a number, or an object that holds the code, are understood too.
type Status string

// UnmarshalJSON reads any of the forms.
func (s *Status) UnmarshalJSON(text []byte) error {
	var object struct {
		Code Status `json:"code"`
	}
	var plain string
	switch {
	case json.Unmarshal(text, &plain) == nil:
		*s = Status(plain)
	case json.Unmarshal(text, &object) == nil:
		*s = object.Code
	default:
		*s = Status(text)
	}
	return nil
}

// Error is the body of a refusal (RFC 7644 section 3.12).
type Error struct {
	Schemas  []string `json:"schemas"`
	ScimType string   `json:"scimType,omitempty"`
	Detail   string   `json:"detail,omitempty"`
	Status   Status   `json:"status"`
}

// Supported is a feature switch of ServiceProviderConfig.
type Supported struct {
	Supported bool `json:"supported"`
}

// ServiceProviderConfig tells what the service can do (RFC 7643 section 5).
type ServiceProviderConfig struct {
	Schemas []string  `json:"schemas"`
	Patch   Supported `json:"patch"`
	Bulk    struct {
		Supported
		MaxOperations  int `json:"maxOperations"`
		MaxPayloadSize int `json:"maxPayloadSize"`
	} `json:"bulk"`
	Filter struct {
		Supported
		MaxResults int `json:"maxResults"`
	} `json:"filter"`
	ChangePassword Supported `json:"changePassword"`
	Sort           Supported `json:"sort"`
	ETag           Supported `json:"etag"`
	// Pagination is that of RFC 9865 section 4; services that know only index
	// paging leave it out.
	Pagination            *Pagination            `json:"pagination,omitempty"`
	AuthenticationSchemes []AuthenticationScheme `json:"authenticationSchemes"`
}

// Pagination tells how lists can be paged.
type Pagination struct {
	Cursor                  bool   `json:"cursor"`
	Index                   bool   `json:"index"`
	DefaultPaginationMethod string `json:"defaultPaginationMethod,omitempty"`
	DefaultPageSize         int    `json:"defaultPageSize,omitempty"`
	MaxPageSize             int    `json:"maxPageSize,omitempty"`
}

// AuthenticationScheme is one way to sign in to the service.
type AuthenticationScheme struct {
	Type        string `json:"type"`
	Name        string `json:"name"`
	Description string `json:"description"`
}

// ResourceType is one kind of resource that the service has (RFC 7643 section 6).
type ResourceType struct {
	ID               string `json:"id"`
	Name             string `json:"name"`
	Endpoint         string `json:"endpoint"`
	Schema           string `json:"schema"`
	SchemaExtensions []struct {
		Schema   string `json:"schema"`
		Required bool   `json:"required"`
	} `json:"schemaExtensions"`
}

// Schema lists the attributes of a resource type or an extension (RFC 7643
// section 7).
type Schema struct {
	ID          string      `json:"id"`
	Name        string      `json:"name"`
	Description string      `json:"description"`
	Attributes  []Attribute `json:"attributes"`
}

// Attribute is one attribute of a schema.
type Attribute struct {
	Name        string `json:"name"`
	Type        string `json:"type"`
	MultiValued bool   `json:"multiValued"`
	Description string `json:"description"`
	Required    bool   `json:"required"`
	CaseExact   bool   `json:"caseExact"`
	Mutability  string `json:"mutability"`
	Returned    string `json:"returned"`
	Uniqueness  string `json:"uniqueness"`
	// CanonicalValues are those that the service knows.
	CanonicalValues []string    `json:"canonicalValues,omitempty"`
	SubAttributes   []Attribute `json:"subAttributes,omitempty"`
}
