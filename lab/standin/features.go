package standin

import (
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/gofiber/fiber/v2"

	"kambrel.example/kambrel/protocol/scim"
)

// Features that can be taken away, since services may lack each of them.
var features = []string{"bulk", "etag", "sort", "filter", "patch", "domains", "groups", "contacts", "contact-members", "passwords", "federation"}

// lacks tells whether a feature was taken away.
func (s *Server) lacks(feature string) bool { return slices.Contains(s.options.Without, feature) }

func (o Options) check() error {
	for _, feature := range o.Without {
		if !slices.Contains(features, feature) {
			return fmt.Errorf("%q cannot be taken away; there are %s", feature, strings.Join(features, ", "))
		}
	}
	for _, habit := range o.Habits {
		if !slices.Contains(habits, habit) {
			return fmt.Errorf("%q is no habit; there are %s", habit, strings.Join(habits, ", "))
		}
	}
	if !slices.Contains([]string{"", "index", "cursor", "both"}, o.Paging) {
		return fmt.Errorf("paging %q: use index, cursor or both", o.Paging)
	}
	if o.PageSize < 0 || o.PageSize > maxResults {
		return fmt.Errorf("page size %d: use 1 to %d", o.PageSize, maxResults)
	}
	return nil
}

func (s *Server) pageSize() int {
	if s.options.PageSize > 0 {
		return s.options.PageSize
	}
	return maxResults
}

func (s *Server) byCursor() bool { return s.options.Paging == "cursor" || s.options.Paging == "both" }
func (s *Server) byIndex() bool  { return s.options.Paging != "cursor" }

// unsupported answers a request for a feature that was taken away.
func unsupported(what string) *failure {
	return &failure{501, "", "this service does not support " + what}
}

// page finds out where a list begins and how it goes on: by index (RFC 7644
// section 3.4.2.4) or by cursor (RFC 9865 section 2).
func (s *Server) page(c *fiber.Ctx, request searchRequest) (start int, cursor bool, f *failure) {
	given := request.Cursor != nil
	if c.Method() == fiber.MethodGet {
		given = c.Context().QueryArgs().Has("cursor")
	}
	switch {
	case !given && s.byIndex():
		if s.options.has(habitFirstPage) {
			return 1, false, nil
		}
		return max(request.StartIndex, 1), false, nil
	case !given && request.StartIndex > 1:
		return 0, false, invalidValue("startIndex: this service pages by cursor only")
	case !given:
		return 1, true, nil
	case !s.byCursor():
		return 0, false, invalidValue("cursor: this service pages by index only")
	}
	text := c.Query("cursor")
	if request.Cursor != nil {
		text = *request.Cursor
	}
	if text == "" {
		return 1, true, nil
	}
	plain, err := base64.RawURLEncoding.DecodeString(text)
	n, err2 := strconv.Atoi(strings.TrimPrefix(string(plain), "from "))
	if err != nil || err2 != nil || n < 1 {
		return 0, false, &failure{400, "invalidCursor", "the cursor was not made by this service"}
	}
	return n, true, nil
}

func cursorAt(start int) string {
	return base64.RawURLEncoding.EncodeToString(fmt.Appendf(nil, "from %d", start))
}

// domains lists the login domains; of one only how its people sign in can be changed.
func (s *Server) domains(c *fiber.Ctx) error {
	if s.lacks("domains") {
		return refuse(c, &failure{404, "", "there is no endpoint Domains"})
	}
	all := slices.Concat(s.options.Domains, s.options.Claimed)
	response := scim.ListResponse{Schemas: []string{scim.ListResponseURN}, TotalResults: len(all), ItemsPerPage: len(all)}
	for _, domain := range all {
		listed, f := s.domain(strings.ToLower(domain))
		if f != nil {
			return refuse(c, f)
		}
		text, err := json.Marshal(listed)
		if err != nil {
			return err
		}
		response.Resources = append(response.Resources, text)
	}
	return send(c, 200, response)
}

// proofOf is the record by which somebody proves to have a domain.
func proofOf(domain string) string {
	sum := sha256.Sum256([]byte(domain))
	return "standin-proof=" + hex.EncodeToString(sum[:8])
}

// verifyDomain finds the record of a domain, as if it had been published.
func (s *Server) verifyDomain(c *fiber.Ctx) error {
	domain := strings.ToLower(c.Params("domain"))
	if !slices.Contains(s.options.Claimed, domain) {
		return refuse(c, &failure{404, "", "nobody has claimed the domain " + domain})
	}
	s.store.verify(domain)
	return c.SendStatus(fiber.StatusNoContent)
}
