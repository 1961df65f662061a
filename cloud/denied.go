package cloud

import (
	"errors"
	"fmt"
	"net/http"
	"slices"
)

// Feature is something that discovery may promise.
type Feature string

// The features without which there is another way.
const (
	FeaturePatch  Feature = "patch"
	FeatureBulk   Feature = "bulk"
	FeatureFilter Feature = "filter"
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

// without takes away what the service was found not to do; c.mu is held.
func (c Capabilities) without(denied map[Feature]string) Capabilities {
	if len(denied) == 0 {
		return c
	}
	c.Denied = denied
	if denied[FeaturePatch] != "" {
		c.Patch = false
	}
	if denied[FeatureBulk] != "" {
		c.BulkOperations = 0
	}
	if denied[FeatureFilter] != "" {
		c.Filter, c.Sort = false, false
	}
	return c
}

// lacking tells the refusal of something that the service does not do at all.
func lacking(err error, more ...int) bool {
	var refusal *Refusal
	return errors.As(err, &refusal) && slices.Contains(append([]int{http.StatusMethodNotAllowed, http.StatusNotImplemented}, more...), refusal.Status)
}
