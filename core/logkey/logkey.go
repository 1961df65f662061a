// Package logkey names the attributes of log lines, so that the same thing is found
// by the same key whoever logs it. Messages are fixed; what differs is an attribute.
package logkey

// The keys.
const (
	Address   = "address" // network address of a caller
	Agent     = "agent"
	Code      = "code" // of a problem
	Detail    = "detail"
	Directory = "directory"
	Error     = "error"
	Event     = "event" // the jti of a security event token
	File      = "file"
	Failures  = "failures" // how often it failed
	Kind      = "kind"     // of an order
	Missed    = "missed"   // changes that were not told
	Operator  = "operator"
	Order     = "order"
	PerMinute = "perMinute" // requests
	Repair    = "repair"
	Run       = "run"
	Seconds   = "seconds"
	State     = "state"
	Statement = "statement" // of SQL, without values
	Stream    = "stream"    // of acts
	Until     = "until"
	URL       = "url"
	Version   = "version"
	Within    = "within" // the run that one comes in between of
)
