package cloud

import (
	"context"
	"fmt"
	"net/url"
	"slices"

	"github.com/google/uuid"

	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/settings"
)

// fewTried is how many resources a probe reads at most, to see how lists come.
const fewTried = 100

// notYet is a time of which no change can be.
const notYet = "2999-01-01T00:00:00Z"

// tried holds what the service promises against what it does, as far as reading shows that.
func (c *Client) tried(ctx context.Context, can Capabilities) []Step {
	steps, first := c.triedPages(ctx, can)
	if can.Filter {
		steps = append(steps, c.triedFilter(ctx, can)...)
	}
	versioned := func(r entry.Resource) bool { return r.Version() != "" }
	if can.ETag && len(first) > 0 && !slices.ContainsFunc(first, versioned) {
		steps = append(steps, Step{"etag", "doubtful", "entity tags are promised, and no resource has one (meta.version)", instead(settings.FeatureETag) + " Until then a change that somebody makes in the cloud in the same second may be overwritten."})
	}
	return steps
}

// instead says how runs do without a feature.
func instead(feature Feature) string {
	return "'kambrel cloud habits set --without " + string(feature) + "' has runs do without; tell the cloud's makers."
}

// triedPages reads a page and the beginning of the next.
func (c *Client) triedPages(ctx context.Context, can Capabilities) ([]Step, []entry.Resource) {
	page, err := c.list(ctx, entry.User, can.page(1, "", fewTried))
	if err != nil {
		return []Step{failedStep(err)}, nil
	}
	steps := []Step{{"read", "good", fmt.Sprintf("%d users can be read", page.total), ""}}
	if len(page.resources) == 0 || len(page.resources) >= page.total {
		return steps, page.resources
	}
	if asked := min(fewTried, can.MaxResults); len(page.resources) < asked {
		steps[0].Detail += fmt.Sprintf(", %d on a page where %d are asked for", len(page.resources), asked)
	}
	other, way := "cursor", ""
	if can.Pages == other {
		other = "index"
	}
	if can.Index && can.Cursor {
		way = " 'kambrel cloud habits set --paging " + other + "' reads them the other way that is offered."
	}
	next, err := c.list(ctx, entry.User, can.page(len(page.resources)+1, page.next, fewTried))
	switch {
	case err != nil:
		return append(steps, Step{"pages", "bad", "the second page of users: " + err.Error(), "A list must be readable to its end." + way}), page.resources
	case len(next.resources) == 0, slices.ContainsFunc(next.ids(), func(id string) bool { return slices.Contains(page.ids(), id) }):
		return append(steps, Step{"pages", "bad", fmt.Sprintf("of %d users a page brings %d, and the next brings none or the same again", page.total, len(page.resources)),
			"No list is believed that contradicts itself, so runs stop." + way + " Otherwise the cloud's makers must mend it (RFC 7644 section 3.4.2.4)."}), page.resources
	}
	return steps, page.resources
}

// triedFilter asks for what nobody can be.
func (c *Client) triedFilter(ctx context.Context, can Capabilities) []Step {
	ask := func(feature Feature, what, filter string, more url.Values) []Step {
		query := can.page(1, "", 1)
		for name, values := range more {
			query[name] = values
		}
		query.Set("filter", filter)
		page, err := c.list(ctx, entry.User, query)
		switch {
		case err != nil:
			return []Step{{string(feature), "doubtful", what + ": promised, and not answered: " + err.Error(), instead(feature)}}
		case page.total > 0 || len(page.resources) > 0:
			return []Step{{string(feature), "doubtful", fmt.Sprintf("%s: what nobody can be brings %d users, so the filter is not heeded", what, max(page.total, len(page.resources))), instead(feature)}}
		}
		return nil
	}
	steps := ask(FeatureFilter, "look for a login", fmt.Sprintf("userName eq %q", uuid.NewString()), nil)
	if len(steps) == 0 && can.Sort {
		steps = ask(settings.FeatureChanges, "look for changes", `meta.lastModified ge "`+notYet+`"`, url.Values{"sortBy": {"meta.lastModified"}, "sortOrder": {"ascending"}})
	}
	return steps
}
