// Package password says what can be asked about somebody's password, and why a directory,
// an agent or the service does not do it: as a code, as a sentence for the person, and as
// one for whoever administers the directory.
package password

import (
	"fmt"
	"strings"
)

// OriginURN is the extension of users in the cloud (RFC 7643 section 3.3) that says from
// which entry of which directory they come.
const OriginURN = "urn:kambrel.example:params:scim:schemas:extension:origin:1.0:User"

// Act is what is asked.
type Act string

// The acts.
const (
	Reset  Act = "reset"  // set a new password without the old one
	Change Act = "change" // set a new one by somebody who knows the old one
	Unlock Act = "unlock" // take the lock away and leave the password
)

// Reason is why something was not done; "" means that it was.
type Reason string

// The reasons.
const (
	Done Reason = ""

	// Of the directory's own policy.
	TooShort   Reason = "too-short"
	NotComplex Reason = "not-complex"
	UsedBefore Reason = "used-before"
	TooYoung   Reason = "too-young"
	NotAllowed Reason = "not-allowed"
	WrongOld   Reason = "wrong-old-password"
	Policy     Reason = "against-policy"

	// Of who may not.
	Protected  Reason = "protected"
	Disabled   Reason = "disabled"
	NotLinked  Reason = "not-linked"
	OutOfScope Reason = "out-of-scope"
	Off        Reason = "switched-off"
	TooMany    Reason = "too-many"

	// Of the way.
	Nobody       Reason = "nobody-answers"
	Unreachable  Reason = "directory-unreachable"
	RightMissing Reason = "right-missing"
	Refused      Reason = "directory-refused"
	Unknown      Reason = "outcome-unknown"
	Expired      Reason = "expired"
	Untrusted    Reason = "not-trusted"
	Unreadable   Reason = "cannot-be-opened"
)

// text is a reason in words.
type text struct {
	person   string // to whom the password belongs
	operator string
}

const laterOn = "Your password was not changed. Try again in a few minutes; if it happens again, ask your service desk."

var texts = map[Reason]text{
	Done:       {"It is done.", "done"},
	TooShort:   {"The new password is too short.", "the directory's policy asks for a longer password"},
	NotComplex: {"The new password is too simple: mix capital letters, small letters, digits and signs, and leave your name out.", "the directory's policy asks for a more complex password"},
	UsedBefore: {"You have used this password before: choose one that is new.", "the password is in the directory's history of old ones"},
	TooYoung:   {"Your password was changed only a short while ago, and your organization asks to keep it for longer than that.", "the directory's policy asks to keep a password for longer"},
	NotAllowed: {"Your organization does not let you change this password yourself: ask your service desk.", "the directory does not let this person change the password"},
	WrongOld:   {"The old password is wrong.", "the old password is wrong"},
	Policy:     {"Your organization's directory does not take this password: choose another one that is longer, new, and without your name.", "the directory's policy refuses the password and does not say why"},

	Protected:  {"This account is protected, so its password cannot be changed here: ask your service desk.", "the account is protected by the filter in the settings or in the agent's configuration"},
	Disabled:   {"This account is disabled in your organization's directory: ask your service desk.", "the account is disabled in the directory"},
	NotLinked:  {"This account does not belong to your organization's directory, so its password cannot be changed here.", "the resource is linked to no entry of this directory"},
	OutOfScope: {"This account does not take part any more, so its password cannot be changed here: ask your service desk.", "the entry is out of scope"},
	Off:        {"Your organization does not let this be done here: ask your service desk.", "it is not switched on for the directory"},
	TooMany:    {"There were too many attempts. Wait a while, then try again.", "the limit for attempts is reached"},

	Nobody:       {laterOn, "no agent took it in time"},
	Unreachable:  {laterOn, "the agent could not reach the directory"},
	RightMissing: {laterOn, "the agent's account lacks the right for this in the directory"},
	Refused:      {laterOn, "the directory refused"},
	Unknown:      {"It is not known whether your organization's directory took the new password. Try to sign in with it; if that fails, use the old one.", "the directory did not answer, so it is not known whether it was done"},
	Expired:      {laterOn, "it came too late"},
	Untrusted:    {laterOn, "the agent does not trust the event"},
	Unreadable:   {laterOn, "the agent cannot open the envelope"},
}

// Reasons lists all reasons.
func Reasons() []Reason {
	out := make([]Reason, 0, len(texts))
	for reason := range texts {
		out = append(out, reason)
	}
	return out
}

// Known tells whether there is such a reason.
func Known(reason Reason) bool { _, known := texts[reason]; return known }

// OfPolicy tells the reasons by which a directory refuses a password by its own rules:
// they say that the way is open.
func (r Reason) OfPolicy() bool {
	switch r {
	case TooShort, NotComplex, UsedBefore, TooYoung, NotAllowed, WrongOld, Policy:
		return true
	}
	return false
}

// Refusal is an error: what was not done, and why.
type Refusal struct {
	Reason Reason
	// Least is how many characters the policy asks for, 0 where that is not known.
	Least int
	// Detail is what a directory or an agent has said. It never holds a password.
	Detail string
}

// Refuse makes one.
func Refuse(reason Reason, format string, facts ...any) *Refusal {
	return &Refusal{Reason: reason, Detail: fmt.Sprintf(format, facts...)}
}

func (r *Refusal) Error() string {
	said := texts[r.Reason].operator
	if r.Reason == TooShort && r.Least > 0 {
		said += fmt.Sprintf(" (at least %d characters)", r.Least)
	}
	if r.Detail != "" {
		said += ": " + r.Detail
	}
	return said
}

// ForPerson is the sentence for the person whose password it is. It tells nothing of the
// directory but its rules for passwords.
func ForPerson(reason Reason, least int) string {
	said := texts[reason].person
	if reason == TooShort && least > 0 {
		said = strings.TrimSuffix(said, ".") + fmt.Sprintf(": it needs at least %d characters.", least)
	}
	return said
}
