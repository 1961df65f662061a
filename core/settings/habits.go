package settings

import "slices"

// CloudHabits is what a cloud does otherwise than it says of itself. Most of that is found out
// while it is used; what is said here is kept to from the first request on.
type CloudHabits struct {
	// PageSize is how many resources are asked for at once at most.
	PageSize int `json:"pageSize,omitempty" yaml:"pageSize,omitempty" doc:"The most resources to ask for at once; 0 for what the cloud says"`
	// Paging is how lists are read, where the cloud offers a way that it does not keep to.
	Paging Paging `json:"paging,omitempty" yaml:"paging,omitempty" doc:"index or cursor; empty for what the cloud offers"`
	// Without are features that the cloud promises and that are not to be used.
	Without []CloudFeature `json:"without,omitempty" yaml:"without,omitempty" doc:"What is promised and not to be used: patch, bulk, filter, changes, etag"`
	// WholeAttributes: a change sets attributes as a whole, since the cloud refuses, or loses,
	// a change of a part of one (RFC 7644 section 3.5.2).
	WholeAttributes bool `json:"wholeAttributes,omitempty" yaml:"wholeAttributes,omitempty" doc:"Changes set attributes as a whole, never a part of one"`
}

// Paging is a way to read a list.
type Paging string

// The ways.
const (
	ByIndex  Paging = "index"
	ByCursor Paging = "cursor" // RFC 9865
)

// CloudFeature is what a cloud may promise and not keep.
type CloudFeature string

// The features without which there is another way.
const (
	FeaturePatch  CloudFeature = "patch"  // else whole resources are put
	FeatureBulk   CloudFeature = "bulk"   // else each change is a request
	FeatureFilter CloudFeature = "filter" // else all is read, to find one too
	// FeatureChanges is that what changed since a time can be read, in order.
	FeatureChanges CloudFeature = "changes" // else each run reads all
	FeatureETag    CloudFeature = "etag"    // else what others change in the same second may be overwritten
)

// CloudFeatures are those that can be done without.
var CloudFeatures = []CloudFeature{FeaturePatch, FeatureBulk, FeatureFilter, FeatureChanges, FeatureETag}

// longestPage is more than any cloud gives at once.
const longestPage = 10000

func (v *validation) habits(h CloudHabits) {
	if h.PageSize < 0 || h.PageSize > longestPage {
		v.add("cloud.habits.pageSize", "is %d; give how many resources to ask for at once, 1 to %d, or 0 for what the cloud says", h.PageSize, longestPage)
	}
	if h.Paging != "" && h.Paging != ByIndex && h.Paging != ByCursor {
		v.add("cloud.habits.paging", "%q is no way to read lists; write index or cursor", h.Paging)
	}
	for i, feature := range h.Without {
		switch {
		case !slices.Contains(CloudFeatures, feature):
			v.add("cloud.habits.without", "%q is nothing that can be done without; write patch, bulk, filter, changes or etag", feature)
		case slices.Contains(h.Without[:i], feature):
			v.add("cloud.habits.without", "%s is named twice", feature)
		}
	}
	if h.WholeAttributes && slices.Contains(h.Without, FeaturePatch) {
		v.add("cloud.habits.wholeAttributes", "is a way to PATCH, and without says that this is not used")
	}
}
