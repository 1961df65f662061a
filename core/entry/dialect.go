package entry

// Dialect is how a directory tells identity and change.
type Dialect string

// The dialects. All but AD follow the standards: names of members are what the group has,
// classes are those of RFC 4519 and RFC 2798.
const (
	AD       Dialect = "ad"       // objectGUID, DirSync control, unicodePwd
	Standard Dialect = "standard" // entryUUID, RFC 4533, RFC 3062
	DS389    Dialect = "389ds"    // nsUniqueId, persistent search, nsAccountLock, RFC 3062
)

// Dialects lists them in the order in which they are shown.
var Dialects = []Dialect{AD, Standard, DS389}

// Feature is something that needs a right in a directory beyond reading.
type Feature string

// The features.
const (
	FeatureRepair          Feature = "repair"           // write the values that a survey proposes
	FeatureResetPasswords  Feature = "reset-passwords"  // set passwords of people
	FeatureChangePasswords Feature = "change-passwords" // set them for people who give the old one
	FeatureUnlock          Feature = "unlock"           // unlock accounts
	FeatureDigests         Feature = "password-digests" // let people sign in to the cloud with the same password
	FeatureCloudGroups     Feature = "cloud-groups"     // keep groups of the cloud in a container
)

// Features lists the features in the order in which they are shown.
var Features = []Feature{FeatureRepair, FeatureResetPasswords, FeatureChangePasswords, FeatureUnlock, FeatureDigests, FeatureCloudGroups}

// PasswordFeatures are those of the way by which passwords come from the cloud.
var PasswordFeatures = []Feature{FeatureResetPasswords, FeatureChangePasswords, FeatureUnlock}
