// Package wire holds the messages that cross Kambrel's own HTTP interface between
// the service and its clients, and by which an agent enrols and says what it serves;
// its work is in protocol/orders. They do nothing but say what is wrong with them.
package wire

import (
	"slices"
	"time"

	"kambrel.example/kambrel/core/entry"
)

// Hello is what an agent tells about itself when it starts.
type Hello struct {
	Version     string   `json:"version"`
	Host        string   `json:"host"`
	Directories []string `json:"directories"`
	Plain       []string `json:"plain" doc:"Those of them that it reaches by plain LDAP"`
	// Trusts is the issuer whose events the agent carries out, by keys of its own
	// configuration; "" for none.
	Trusts string `json:"trusts,omitempty"`
	// Keys are its statements of the key for which passwords are sealed (events.Statement,
	// as a JWS), by directory.
	Keys map[string]string `json:"keys,omitempty"`
	// Digests are the directories of whose passwords it can make digests, as far as its
	// configuration says.
	Digests []string `json:"digests,omitempty"`
	// Local are those of which it can open the domain controller's local socket.
	Local []string `json:"local,omitempty"`
	// Platform is that of its program, as linux-amd64; "" from a version that did not say.
	Platform string `json:"platform,omitempty"`
	// Updates is the thumbprint of the key by which the programs are signed that it takes from
	// the service, "" where it takes none.
	Updates string `json:"updates,omitempty"`
}

// Check tells what is wrong with a hello, "" when nothing is.
func (h Hello) Check() string {
	switch {
	case len(h.Version) > 63, len(h.Host) > 255, len(h.Platform) > 63, len(h.Updates) > 63:
		return "the version, the platform and the thumbprint have up to 63 bytes, and the host up to 255"
	case len(h.Directories) > 200, len(h.Plain) > 200:
		return "an agent serves up to 200 directories"
	}
	if len(h.Trusts) > 500 || len(h.Keys) > len(h.Directories) || max(len(h.Digests), len(h.Local)) > len(h.Directories) {
		return "the issuer that it trusts has up to 500 bytes, and there is a key for each directory at most"
	}
	for directory, statement := range h.Keys {
		if !slices.Contains(h.Directories, directory) || len(statement) > 2000 {
			return "each key is for a directory that the agent serves, and has up to 2000 bytes"
		}
	}
	for _, name := range append(slices.Clone(h.Directories), h.Plain...) {
		if name == "" || len(name) > 63 {
			return "the name of a directory has up to 63 bytes"
		}
	}
	return ""
}

// How watching a directory goes.
const (
	Watched     = "watched"     // changes are heard of as they come
	WatchBroken = "broken"      // it is tried again
	WatchPolled = "polled"      // the directory does not tell, and is asked every so often
	NotWatched  = "not-offered" // there is no way to know but to read
)

// Watch is how an agent watches a directory.
type Watch struct {
	Directory string    `json:"directory"`
	State     string    `json:"state" enum:"watched,polled,broken,not-offered"`
	Since     time.Time `json:"since"`
	Detail    string    `json:"detail,omitempty"`
}

// Watches is what an agent says of all that it watches.
type Watches struct {
	States []Watch `json:"states"`
	// Certificates are until when those are valid by which directories are known, by directory.
	Certificates map[string]time.Time `json:"certificates,omitempty"`
}

// Check tells what is wrong with it, "" when nothing is.
func (w Watches) Check() string {
	if len(w.States) > 200 || len(w.Certificates) > 200 {
		return "an agent watches up to 200 directories"
	}
	for _, one := range w.States {
		if one.Directory == "" || len(one.Directory) > 63 || len(one.Detail) > 2000 || !slices.Contains([]string{Watched, WatchPolled, WatchBroken, NotWatched}, one.State) {
			return "the name of a directory has up to 63 bytes, the detail up to 2000, and the state is one that there is"
		}
	}
	return ""
}

// WatchWanted is a directory that an agent is to watch.
type WatchWanted struct {
	Directory string        `json:"directory"`
	Dialect   entry.Dialect `json:"dialect"`
	Base      string        `json:"base"`
}

// Changed says that something has changed in a directory.
type Changed struct {
	Directory string `json:"directory"`
}

// EnrolRequest exchanges a one-time code for an identity. PublicKey is a JWK
// (RFC 7517) of an Ed25519 key; the private half never leaves the agent.
type EnrolRequest struct {
	Code      string `json:"code" minLength:"1" maxLength:"200"`
	Name      string `json:"name" minLength:"1" maxLength:"63"`
	Host      string `json:"host" maxLength:"255"`
	PublicKey string `json:"publicKey" maxLength:"1000"`
}

// EnrolResponse tells the agent who it is.
type EnrolResponse struct {
	AgentID string `json:"agentId"`
}

// Agent is one enrolled agent.
type Agent struct {
	ID          string     `json:"id"`
	Name        string     `json:"name"`
	Host        string     `json:"host"`
	Version     string     `json:"version"`
	Directories []string   `json:"directories" doc:"Directories that it reaches and may speak for"`
	Asks        []string   `json:"asks" doc:"Directories that it says it reaches, and that no administrator has granted it: nothing is taken from it for them"`
	Granted     []string   `json:"granted" doc:"Directories that it may speak for"`
	Plain       []string   `json:"plain" doc:"Directories that it reaches by plain LDAP: what is read can be seen on the network"`
	Enrolled    time.Time  `json:"enrolled"`
	LastContact *time.Time `json:"lastContact,omitempty"`
	State       string     `json:"state" enum:"online,offline,never-seen"`
	// Watches are how it hears of changes.
	Watches []Watch `json:"watches" doc:"Directories that it watches for changes, while the settings want them live"`
	// Faults are where it fails for a cause of its own.
	Platform string `json:"platform" doc:"System and processor of its program, as linux-amd64; empty until it has said so"`
	// Updates is by whose key it takes newer programs.
	Updates string       `json:"updates" doc:"Thumbprint (RFC 7638) of the key by which those programs are signed that it takes from the service; empty where its host allows none"`
	Update  *AgentUpdate `json:"update,omitempty"`
	Takes   string       `json:"takes,omitempty" doc:"The newest version here that it could go on by; in the list of agents"`
	Faults  []AgentFault `json:"faults" doc:"Directories for which it fails while others may be well; it gets no more orders for them until a probe finds it well"`
}

// WellFor tells whether the agent serves a directory and does not fail for it.
func (a Agent) WellFor(directory string) bool {
	return slices.Contains(a.Directories, directory) && !slices.ContainsFunc(a.Faults, func(f AgentFault) bool { return f.Directory == directory })
}

// AgentFault is why an agent fails for a directory.
type AgentFault struct {
	Directory string    `json:"directory"`
	Code      string    `json:"code"`
	Title     string    `json:"title"`
	Detail    string    `json:"detail"`
	Since     time.Time `json:"since"`
}

// AgentGrant names the directories that an agent may speak for.
type AgentGrant struct {
	Directories []string `json:"directories" minItems:"1" maxItems:"100" doc:"Names as in the settings, also of directories that are still to come"`
}

// EnrolmentCode is a one-time code; it is shown once.
type EnrolmentCode struct {
	Code        string    `json:"code"`
	Expires     time.Time `json:"expires"`
	Directories []string  `json:"directories" doc:"The directories that the agent may speak for"`
	Command     string    `json:"command" doc:"What to run on the agent's host"`
}
