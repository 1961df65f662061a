package wire

import (
	"time"
)

// Role is what an operator or a token may do.
type Role string

// The roles, each of which may do what the one before may.
const (
	Viewer        Role = "viewer"
	OperatorRole  Role = "operator"
	Administrator Role = "administrator"
)

// Allows tells whether this role is enough where least is asked for.
func (r Role) Allows(least Role) bool { return r.rank() >= least.rank() }

func (r Role) rank() int {
	return map[Role]int{Viewer: 1, OperatorRole: 2, Administrator: 3}[r]
}

// Session is who is signed in.
type Session struct {
	Name string `json:"name"`
	Role Role   `json:"role" enum:"viewer,operator,administrator"`
	// Directory vouches for a member of one of its groups.
	Directory string `json:"directory,omitempty" doc:"The directory by which it was signed in; none for an operator of Kambrel's own"`
	// SecondFactor: a code is asked for at sign-in.
	SecondFactor bool `json:"secondFactor,omitempty" doc:"A code of an authenticator is asked for at sign-in"`
}

// Credentials sign an operator in.
type Credentials struct {
	Name      string `json:"name" minLength:"1" maxLength:"200"`
	Password  string `json:"password" minLength:"1" maxLength:"200"`
	Directory string `json:"directory,omitempty" maxLength:"63" doc:"The directory that knows name and password; none for an operator of Kambrel's own"`
	Code      string `json:"code,omitempty" pattern:"^[0-9]{6}$" doc:"Of the second factor, where the operator has one (RFC 6238)"`
}

// SignInWays are how one can sign in.
type SignInWays struct {
	Directories []string `json:"directories" doc:"Whose groups let their members sign in"`
}

// OperatorGroup is a group of a directory whose members sign in.
type OperatorGroup struct {
	Directory string    `json:"directory"`
	EntryID   string    `json:"entryId"`
	DN        string    `json:"dn,omitempty"`
	Role      Role      `json:"role" enum:"viewer,operator,administrator"`
	CreatedBy string    `json:"createdBy"`
	Created   time.Time `json:"created"`
	Gone      bool      `json:"gone,omitempty" doc:"The directory has it no more, as far as is known"`
}

// NewOperatorGroup lets the members of a group sign in.
type NewOperatorGroup struct {
	Group string `json:"group" minLength:"1" maxLength:"1000" doc:"Its name, DN or id"`
	Role  Role   `json:"role" enum:"viewer,operator,administrator"`
}

// NewPassword sets an operator's password.
type NewPassword struct {
	Password string `json:"password" minLength:"10" maxLength:"72"`
}

// OwnPassword changes the password of whoever is signed in.
type OwnPassword struct {
	Current  string `json:"current" minLength:"1" maxLength:"200"`
	Password string `json:"password" minLength:"10" maxLength:"72"`
}

// NewFactor is a secret for an authenticator, which is shown once.
type NewFactor struct {
	Secret string `json:"secret" doc:"Base32, to type into the authenticator"`
	URI    string `json:"uri" doc:"The same with its parameters: otpauth://totp/…"`
	Image  string `json:"image" doc:"The URI as a QR code: a data URI of a PNG"`
}

// OwnFactor asks for codes of a secret from now on.
type OwnFactor struct {
	Current string `json:"current" minLength:"1" maxLength:"200" doc:"The password"`
	Secret  string `json:"secret" minLength:"32" maxLength:"128"`
	Code    string `json:"code" pattern:"^[0-9]{6}$" doc:"What the authenticator shows now"`
}

// NewOperator makes an operator.
type NewOperator struct {
	Name     string `json:"name" pattern:"^[a-z][a-z0-9.-]{0,62}$"`
	Password string `json:"password" minLength:"10" maxLength:"72"`
	Role     Role   `json:"role" enum:"viewer,operator,administrator"`
	// Emergency is for an account that lies in a safe.
	Emergency bool `json:"emergency,omitempty" doc:"It is for emergencies: everybody is told when it is used"`
}

// Operator is somebody who can sign in.
type Operator struct {
	Name      string    `json:"name"`
	Role      Role      `json:"role" enum:"viewer,operator,administrator"`
	Created   time.Time `json:"created"`
	Emergency bool      `json:"emergency,omitempty" doc:"It is for emergencies: everybody is told when it is used"`
	// SecondFactor: a code is asked for as well.
	SecondFactor bool       `json:"secondFactor,omitempty" doc:"A code of an authenticator is asked for as well"`
	Sessions     int        `json:"sessions" doc:"How many go on"`
	Used         *time.Time `json:"used,omitempty" doc:"When a session that goes on was used last, to the minute"`
}

// NewRole gives an operator another role.
type NewRole struct {
	Role Role `json:"role" enum:"viewer,operator,administrator"`
}

// OpenSession is a session that goes on.
type OpenSession struct {
	ID      string     `json:"id"`
	Name    string     `json:"name"`
	Role    Role       `json:"role" enum:"viewer,operator,administrator"`
	Created time.Time  `json:"created"`
	Expires time.Time  `json:"expires"`
	Used    *time.Time `json:"used,omitempty" doc:"When it was used last, to the minute"`
	From    string     `json:"from,omitempty" doc:"The address that it was used from last"`
	Own     bool       `json:"own,omitempty" doc:"It is the one that asks"`

	Directory string `json:"directory,omitempty" doc:"The directory that vouches for it; none for an operator of Kambrel's own"`
}

// NewToken asks for a token.
type NewToken struct {
	Name string `json:"name" minLength:"1" maxLength:"63"`
	Role Role   `json:"role" enum:"viewer,operator,administrator"`
	Days int    `json:"days,omitempty" minimum:"0" maximum:"3650" doc:"Days until it expires; 0 for a year"`
	// Purpose is for whoever finds it in the list.
	Purpose string `json:"purpose,omitempty" maxLength:"200" doc:"What it is for"`
}

// Token is a token without its secret, which is shown once when it is made.
type Token struct {
	ID        string     `json:"id"`
	Name      string     `json:"name"`
	Role      Role       `json:"role" enum:"viewer,operator,administrator"`
	CreatedBy string     `json:"createdBy"`
	Expires   time.Time  `json:"expires"`
	Created   time.Time  `json:"created"`
	Purpose   string     `json:"purpose,omitempty" doc:"What it is for"`
	Used      *time.Time `json:"used,omitempty" doc:"When it was used last, to the minute"`
	From      string     `json:"from,omitempty" doc:"The address that it was used from last"`
	Secret    string     `json:"secret,omitempty" doc:"Shown only in the answer that made it"`
}
