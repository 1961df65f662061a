package entry

// Dialect is how a directory tells identity and change.
type Dialect string

// The dialects.
const (
	AD       Dialect = "ad"       // objectGUID, DirSync control, unicodePwd
	Standard Dialect = "standard" // entryUUID, RFC 4533, RFC 3062
)

// Feature is something that needs a right in a directory beyond reading.
type Feature string

// The features.
const (
	FeatureRepair         Feature = "repair"          // write the values that a survey proposes
	FeatureResetPasswords Feature = "reset-passwords" // set passwords of people
	FeatureUnlock         Feature = "unlock"          // unlock accounts
)

// Features lists the features in the order in which they are shown.
var Features = []Feature{FeatureRepair, FeatureResetPasswords, FeatureUnlock}

// FeaturesInUse are those that something is done with; of the others only the
// rights can be tried.
var FeaturesInUse = []Feature{FeatureRepair}
