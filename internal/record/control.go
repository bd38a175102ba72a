package record

import (
	"nimbleharbor/internal/plan"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/timeline"
)

// Request is one line that a command sends to the steward.
type Request struct {
	// Do is "follow", "stop", "restart", "kill", "record", "launch" or "mask".
	Do string `json:"do"`
	// Lease, with follow, stops everything when the connection ends.
	Lease    bool       `json:"lease"`
	Services []string   `json:"services,omitempty"`
	Plan     *plan.Plan `json:"plan,omitempty"`  // with restart: how the files say it now
	Texts    []string   `json:"texts,omitempty"` // with mask: what may hold secrets
}

// Message is one line that the steward sends.
type Message struct {
	Event   *stack.Event `json:"event,omitempty"`
	Settled *Settled     `json:"settled,omitempty"` // every node has reached a state that lasts
	Stopped bool         `json:"stopped,omitempty"` // what was asked to stop has stopped
	Left    []int        `json:"left,omitempty"`    // but for these process groups
	Error   *stack.Fault `json:"error,omitempty"`
	Ready   string       `json:"ready,omitempty"` // the socket
	Record  *Record      `json:"record,omitempty"`
	// Launch answers "launch".
	Launch *timeline.Launch `json:"launch,omitempty"`
	Texts  []string         `json:"texts,omitempty"`
}

// Settled tells how a launch has gone.
type Settled struct {
	Outcome  stack.Outcome         `json:"outcome"`
	Seconds  float64               `json:"seconds"`
	Services []stack.ServiceResult `json:"services"`
	Failures []stack.Failure       `json:"failures"`
	Running  int                   `json:"running"` // services that have a process
}
