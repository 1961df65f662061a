// Package wire holds the messages that cross Kambrel's own HTTP interface:
// between service and agent, and between service and its clients. It has no
// behaviour.
package wire

import (
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/settings"
)

// Order is one piece of work for an agent. Orders are idempotent: one that was
// begun and not finished is simply done again.
type Order struct {
	ID         int64            `json:"id"`
	Directory  string           `json:"directory"`
	Dialect    settings.Dialect `json:"dialect"`
	Base       string           `json:"base"`
	Attributes []string         `json:"attributes"`
	// Cookie is where the last read stopped; empty asks for everything.
	Cookie []byte `json:"cookie,omitempty"`
	// LeaseSeconds is how long the order stays this agent's without a word.
	LeaseSeconds int `json:"leaseSeconds"`
}

// Line is one line of an agent's NDJSON answer; exactly one field is set. The
// last line is Done or Failed; an answer without either counts as broken off.
type Line struct {
	Entry   *entry.Entry `json:"entry,omitempty"`
	Gone    *entry.ID    `json:"gone,omitempty"`
	Present []entry.ID   `json:"present,omitempty"`
	Restart bool         `json:"restart,omitempty"`
	Alive   bool         `json:"alive,omitempty"` // keeps the lease while the directory is slow
	Done    *ReadDone    `json:"done,omitempty"`
	Failed  *Failure     `json:"failed,omitempty"`
}

// ReadDone ends a read that succeeded; see directory.Result.
type ReadDone struct {
	Cookie   []byte `json:"cookie"`
	Complete bool   `json:"complete"`
}

// Failure ends an order that could not be done.
type Failure struct {
	Code   string `json:"code"`
	Detail string `json:"detail"`
}

// Hello is what an agent tells about itself when it starts.
type Hello struct {
	Version     string   `json:"version"`
	Host        string   `json:"host"`
	Directories []string `json:"directories"`
}

// EnrolRequest exchanges a one-time code for an identity. PublicKey is a JWK
// (RFC 7517) of an Ed25519 key; the private half never leaves the agent.
type EnrolRequest struct {
	Code      string `json:"code" minLength:"1"`
	Name      string `json:"name" minLength:"1" maxLength:"63"`
	Host      string `json:"host"`
	PublicKey string `json:"publicKey"`
}

// EnrolResponse tells the agent who it is.
type EnrolResponse struct {
	AgentID string `json:"agentId"`
}
