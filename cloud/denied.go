package cloud

import (
	"errors"
	"fmt"
	"maps"
	"net/http"
	"slices"

	"kambrel.example/kambrel/core/settings"
)

// Feature is something that discovery may promise.
type Feature = settings.CloudFeature

// The features that a service is found not to have when it refuses them.
const (
	FeaturePatch  = settings.FeaturePatch
	FeatureBulk   = settings.FeatureBulk
	FeatureFilter = settings.FeatureFilter
)

// deny notes that the service refuses what discovery promises, so that the plain way is
// taken from now on; Capabilities tell so.
func (c *Client) deny(feature Feature, err error) {
	var refusal *Refusal
	if !errors.As(err, &refusal) {
		return
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.denied == nil {
		c.denied = map[Feature]string{}
	}
	if c.denied[feature] == "" {
		c.denied[feature] = fmt.Sprintf("promised, and refused with %d", refusal.Status)
	}
}

// used is what is used of what the service can do: without what it was found not to do, and
// what it is known for by the settings; c.mu is held.
func (c *Client) used(can Capabilities) Capabilities {
	can.Denied = maps.Clone(c.denied)
	if can.Denied == nil {
		can.Denied = map[Feature]string{}
	}
	for _, feature := range c.habits.Without {
		can.Denied[feature] = "not used, by the settings"
	}
	has := func(feature Feature) bool { return can.Denied[feature] == "" }
	can.Patch = can.Patch && has(FeaturePatch)
	can.Filter = can.Filter && has(FeatureFilter)
	can.Sort = can.Sort && has(FeatureFilter) && has(settings.FeatureChanges)
	can.ETag = can.ETag && has(settings.FeatureETag)
	if !has(FeatureBulk) {
		can.BulkOperations = 0
	}
	can.WholeAttributes = c.habits.WholeAttributes
	if c.habits.PageSize > 0 {
		can.MaxResults = min(can.MaxResults, c.habits.PageSize)
	}
	if c.habits.Paging != "" {
		can.Pages = string(c.habits.Paging)
	}
	return can
}

// lacking tells the refusal of something that the service does not do at all.
func lacking(err error, more ...int) bool {
	var refusal *Refusal
	return errors.As(err, &refusal) && slices.Contains(append([]int{http.StatusMethodNotAllowed, http.StatusNotImplemented}, more...), refusal.Status)
}
