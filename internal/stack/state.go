package stack

import (
	"net"
	"slices"
)

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

	// Name is the host name by which it was called, where it answers to another than localhost.
	Name string `json:"name,omitempty"`
	// FirstMs is how long the first page took, where the next came much sooner: it was warming up.
	FirstMs float64 `json:"firstMs,omitempty"`
	// Announced is true for an address that a service has announced in its log, and that is
	// declared nowhere.
	Announced bool `json:"announced,omitempty"`

	// Said is the text of an error page, for who looks for its reason; it is shown nowhere.
	Said string `json:"-"`
}

// URL is the port as one writes it into a browser's or a client's address line.
func (c PortCheck) URL() string {
	_, port, err := net.SplitHostPort(c.Address)
	if err != nil || c.Expected != "http" && c.Expected != "https" {
		return c.Address
	}
	name, scheme := "localhost", "http"
	if c.Name != "" {
		name = c.Name
	}
	if c.Speaks == "https" || c.Speaks == "" && c.Expected == "https" {
		scheme = "https"
	}
	return scheme + "://" + net.JoinHostPort(name, port)
}

// Owner is the process that listens on a port.
type Owner struct {
	PID     int    `json:"pid"`
	Command string `json:"command"`
	// Stack is the workspace of another stack of ours that it belongs to; Command is its service
	// then.
	Stack string `json:"stack,omitempty"`
}

// Check is the answer of the command check: contract nharbor.check/1.
type Check struct {
	Schema  string      `json:"schema"`
	Answers bool        `json:"answers"` // everything that was launched is as it should be
	Ports   []PortCheck `json:"ports"`

	// Launched is true while the stack is launched. Services are those of the launch, and those
	// that it left out; Counts tells of the lasting ones. Failures are what did not come to its aim
	// at the launch, steps included.
	Launched bool           `json:"launched"`
	Services []ServiceCheck `json:"services"`
	Counts   Counts         `json:"counts"`
	Failures []Failure      `json:"failures,omitempty"`
	// Open is the address that a person would open first; empty where no page answers.
	Open string `json:"open,omitempty"`
	// Checks are those that the workspace has of its own, in nharbor.toml.
	Checks []OwnResult `json:"checks,omitempty"`

	// SignIns are those that services have printed and that files mention; passwords that were
	// printed are left out of answers for programs. Pages are the addresses that READMEs name
	// beyond the first page of a port.
	SignIns []SignIn    `json:"signIns,omitempty"`
	Pages   []PageCheck `json:"pages,omitempty"`
	// Changed is what has changed since the stack was launched; nil where nothing has.
	Changed *Changed `json:"changed,omitempty"`
}

// ServiceCheck is how one service stands.
type ServiceCheck struct {
	Name    string   `json:"name"`
	Runs    Way      `json:"runs"`
	Kind    Lifetime `json:"kind"`
	State   State    `json:"state"` // empty for one that was left out or never launched
	LeftOut bool     `json:"leftOut,omitempty"`
	Good    bool     `json:"good"`  // it is as it should be, as far as was asked
	Asked   int      `json:"asked"` // how many ports of it were asked
	Cause   string   `json:"cause"`
	Remedy  string   `json:"remedy"`
}

// Counts are of the lasting services of a launch: how many there are, have a process, and answer on
// every port that they have, of which there is one at least.
type Counts struct {
	Expected  int `json:"expected"`
	Running   int `json:"running"`
	Answering int `json:"answering"`
}

// Failure is a step or a service that did not come to its aim.
type Failure struct {
	ID     NodeID `json:"id"`
	State  State  `json:"state"`
	Text   string `json:"text"`
	Code   string `json:"code,omitempty"` // of the rule that knows the cause; empty where none does
	Cause  string `json:"cause,omitempty"`
	Remedy string `json:"remedy,omitempty"`
	Of     string `json:"of,omitempty"` // what it is about: an address, a setting, a package
}

// OwnCheck is a question that a workspace asks in nharbor.toml, beside those that ports are asked.
type OwnCheck struct {
	Name     string            `json:"name"`
	Service  string            `json:"service"` // whose first HTTP port is asked
	Method   string            `json:"method"`
	Path     string            `json:"path"`
	Headers  map[string]string `json:"-"`      // with ${KEY} for settings
	Body     string            `json:"-"`      // likewise
	Status   int               `json:"status"` // 0 for any below 400
	Contains string            `json:"contains,omitempty"`
	JSON     map[string]string `json:"json,omitempty"`   // by a path of keys and numbers with dots between: the value
	Within   float64           `json:"within,omitempty"` // seconds; 0 for as long as it takes
	Retries  int               `json:"retries,omitempty"`
	At       Place             `json:"at"`
}

// OwnResult is what such a question has shown.
type OwnResult struct {
	Name      string  `json:"name"`
	Service   string  `json:"service"`
	Address   string  `json:"address"`
	Passes    bool    `json:"passes"`
	Status    int     `json:"status,omitempty"`
	LatencyMs float64 `json:"latencyMs"`
	Cause     string  `json:"cause"`
	At        Place   `json:"at"`
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
	Service string  `json:"service"`
	Address string  `json:"address"`
	At      Place   `json:"at"`
	Verdict Verdict `json:"verdict,omitempty"` // empty for a page that was not asked for
	Status  int     `json:"status,omitempty"`
	Title   string  `json:"title,omitempty"`
}

// Changed is what has changed since a stack was launched: files, services whose command or settings
// are others now, steps that would run again, checkouts with new commits; and the command that
// makes the stack follow, where one does.
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
	// Kind tells apart what the state alone does not; empty where it says all.
	Kind EventKind `json:"kind,omitempty"`
}

// EventKind is what is going on in a state.
type EventKind string

// The kinds. Of what waits: its image is fetched or built meanwhile, or has been. Of what is
// starting: its process has ended, and it starts again after a pause.
const (
	Preparing   EventKind = "preparing"
	Prepared    EventKind = "prepared"
	StartsAgain EventKind = "starts-again"
)

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
	Failures []Failure       `json:"failures,omitempty"`
	Check    Check           `json:"check"`
	Mended   []Mended        `json:"mended,omitempty"`
}

// Mended is what a launch has done about a failure before it went on.
type Mended struct {
	ID     NodeID `json:"id"`     // whose failure it was
	Cause  string `json:"cause"`  // its code
	Act    string `json:"act"`    // what was done, in words
	Lesson bool   `json:"lesson"` // the next launch begins with it
}
