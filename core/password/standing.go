package password

// Standing is how somebody stands in a directory who signs in; "" is well.
type Standing string

// The standings.
const (
	StandsWell     Standing = ""
	StandsNobody   Standing = "nobody"   // there is no such person, or several
	StandsWrong    Standing = "wrong"    // the password
	StandsDisabled Standing = "disabled" // or locked
	StandsExpired  Standing = "expired"  // the password, or the account
)
