package wire

import (
	"encoding/json"
	"time"

	"kambrel.example/kambrel/core/about"
	"kambrel.example/kambrel/core/act"
)

// Page is one page of a list; Next is empty on the last one.
type Page[T any] struct {
	Items []T    `json:"items"`
	Next  string `json:"next,omitempty" doc:"Cursor of the next page"`
	Total int    `json:"total" doc:"How many there are in all pages"`
	// AtLeast is said by lists of which only so many are counted.
	AtLeast bool `json:"atLeast,omitempty" doc:"There are more than total, which were not counted"`
}

// Act is something that an operator, an agent or the host did that changed something.
type Act struct {
	ID     int64           `json:"id"`
	At     time.Time       `json:"at"`
	By     string          `json:"by"`
	Kind   act.Kind        `json:"kind"`
	Title  string          `json:"title"`
	About  about.Thing     `json:"about"`
	Name   string          `json:"name" doc:"What people call the thing that it was done to"`
	Before json.RawMessage `json:"before,omitempty" doc:"How it was, as JSON"`
	After  json.RawMessage `json:"after,omitempty" doc:"How it is since"`
	Result act.Result      `json:"result" enum:"done,refused,failed"`
	Undo   act.Kind        `json:"undo,omitempty" doc:"The act that takes it back"`
	Origin string          `json:"origin,omitempty" doc:"From where it was done: an address, and by console, command line or token; nothing of what the service, an agent or the host did"`
	Note   string          `json:"note,omitempty"`
}

// Event tells that something changed; what it is, is read from its own route.
type Event struct {
	Kind string `json:"kind" enum:"run,settings,draft,agent,order,repair"`
	ID   int64  `json:"id,omitempty"`
}
