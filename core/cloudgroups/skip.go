package cloudgroups

// Skip is why a member of a group in the cloud is none in the directory.
type Skip string

// The reasons.
const (
	SkipUnknown   Skip = "unknown"
	SkipFlat      Skip = "nested-off"
	SkipLeft      Skip = "out-of-scope"
	SkipElsewhere Skip = "other-directory"
	SkipNotKept   Skip = "group-not-kept"
	SkipCloudOnly Skip = "cloud-only"
	SkipScope     Skip = "scope"
	SkipRefused   Skip = "refused"
)

// Skips lists them.
var Skips = []Skip{SkipCloudOnly, SkipElsewhere, SkipLeft, SkipFlat, SkipNotKept, SkipScope, SkipRefused, SkipUnknown}

// SkipText says a reason in words; detail is the other directory, or what the directory
// said.
func (k *Keeping) SkipText(skip Skip, detail string) string {
	switch skip {
	case SkipUnknown:
		return "the cloud names it, and has no such resource"
	case SkipFlat:
		return "a group, and the settings leave groups in groups out"
	case SkipLeft:
		return "its entry in " + k.Directory + " is out of scope or gone"
	case SkipElsewhere:
		return "its entry is in the directory " + detail
	case SkipNotKept:
		return "a group of the cloud that is not kept in " + k.Directory
	case SkipCloudOnly:
		return "only in the cloud: no entry stands behind it"
	case SkipScope:
		return "a " + string(k.Scope) + " group cannot hold it by its scope"
	}
	return "the directory refused it: " + detail
}
