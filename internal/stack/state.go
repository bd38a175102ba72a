package stack

import "slices"

// State is how far a service or a step has come.
type State string

// The states of a service; Waiting, Running, Failed and Skipped are a step's too.
const (
	Waiting   State = "waiting"
	Starting  State = "starting"
	IsUp      State = "answering"
	Running   State = "running"
	Quiet     State = "quiet"
	Ended     State = "finished"
	Failed    State = "failed"
	Stopped   State = "stopped"
	Skipped   State = "skipped"
	Done      State = "done"
	Unchanged State = "unchanged"
)

// Settled reports whether nothing more is expected to happen by itself.
func (s State) Settled() bool {
	return s != Waiting && s != Starting
}

// Good reports whether the state is what a launch wants to see at its end.
func (s State) Good() bool {
	switch s {
	case IsUp, Running, Ended, Done, Unchanged:
		return true
	}
	return false
}

// Verdict is what asking a port has shown.
type Verdict string

// The verdicts.
const (
	Answers  Verdict = "answers"  // speaks the protocol
	Errs     Verdict = "errs"     // speaks it, and reports an error
	Refuses  Verdict = "refuses"  // nothing listens
	Silent   Verdict = "silent"   // accepts, says nothing
	Stranger Verdict = "stranger" // another program, or another protocol
)

// PortCheck is the verdict on one port.
type PortCheck struct {
	Service   string  `json:"service"`
	Address   string  `json:"address"`
	Expected  string  `json:"expected"`
	Verdict   Verdict `json:"verdict"`
	Speaks    string  `json:"speaks"`
	Status    int     `json:"status,omitempty"`
	Title     string  `json:"title"`
	LatencyMs float64 `json:"latencyMs"`
	Owner     *Owner  `json:"owner,omitempty"`
	Cause     string  `json:"cause"`
	Remedy    string  `json:"remedy"`

	// Said is the text of an error page, for who looks for its reason; it is shown nowhere.
	Said string `json:"-"`
}

// Owner is the process that listens on a port.
type Owner struct {
	PID     int    `json:"pid"`
	Command string `json:"command"`
}

// Check is the answer of the command check: contract nharbor.check/1.
type Check struct {
	Schema  string      `json:"schema"`
	Answers bool        `json:"answers"`
	Ports   []PortCheck `json:"ports"`

	// SignIns are those that services have printed and that files mention; passwords that were printed are left out of
	// answers for programs. Pages are the addresses that READMEs name beyond the first page of a port.
	SignIns []SignIn    `json:"signIns,omitempty"`
	Pages   []PageCheck `json:"pages,omitempty"`
	// Changed is what has changed since the stack was launched; nil where nothing has.
	Changed *Changed `json:"changed,omitempty"`
}

// Hide takes out the passwords that services have printed.
func (c *Check) Hide() {
	c.SignIns = slices.Clone(c.SignIns)
	for i := range c.SignIns {
		if c.SignIns[i].Service != "" {
			c.SignIns[i].Password = ""
		}
	}
}

// PageCheck is an address that a README names.
type PageCheck struct {
	Service string `json:"service"`
	Address string `json:"address"`
	At      Place  `json:"at"`
}

// Changed is what has changed since a stack was launched: files, services whose command or settings are others now,
// steps that would run again, checkouts with new commits; and the command that makes the stack follow, where one
// does.
type Changed struct {
	Files    []string `json:"files"`
	Services []string `json:"services"`
	Steps    []string `json:"steps"`
	Commits  []string `json:"commits"`
	Remedy   string   `json:"remedy"`
}

// Any reports whether anything has changed.
func (c *Changed) Any() bool {
	return c != nil && len(c.Files)+len(c.Services)+len(c.Steps)+len(c.Commits) > 0
}

// Event is one line of a launch: at T seconds since its beginning, the node ID reached a state.
type Event struct {
	T     float64 `json:"t"`
	ID    NodeID  `json:"id"`
	State State   `json:"state"`
	Text  string  `json:"text"`
}

// ServiceResult is how one service stands at the end of a launch.
type ServiceResult struct {
	Name    string  `json:"name"`
	State   State   `json:"state"`
	Seconds float64 `json:"seconds"`
}

// Outcome is how a launch has gone as a whole.
type Outcome string

// The outcomes: everything is as it should be; something is not; somebody stopped it before it was.
const (
	AllAnswer  Outcome = "answering"
	SomeFailed Outcome = "failed"
	WasStopped Outcome = "stopped"
)

// LaunchResult closes a launch: contract nharbor.launch/1.
type LaunchResult struct {
	Schema   string          `json:"schema"`
	Outcome  Outcome         `json:"outcome"`
	Seconds  float64         `json:"seconds"`
	Services []ServiceResult `json:"services"`
	Check    Check           `json:"check"`
}
