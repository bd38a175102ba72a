// Package record keeps what a workspace knows of its launched stack, and asks the stack's steward.
// The record is a file of the workspace's state; while the steward lives it is asked instead, since
// it knows more.
package record

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"nimbleharbor/internal/plan"
	"nimbleharbor/internal/process"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/workspace"
)

// Record is what a workspace knows of its launched stack. It holds no secret.
type Record struct {
	PID      int       `json:"pid"` // of the steward
	ID       string    `json:"id"`  // of the stack
	Root     string    `json:"root"`
	Socket   string    `json:"socket"`
	Started  time.Time `json:"started"`
	Shift    int       `json:"shift"`
	Ended    bool      `json:"ended"` // everything has been stopped
	Services []Service `json:"services"`
	Steps    []Step    `json:"steps"` // that did not come to their aim

	// Options are what the launch was asked for, and Prints what it was made from, in sums.
	Options plan.Options `json:"options"`
	Prints  *plan.Prints `json:"prints,omitempty"`
}

// Service is one service of a launched stack.
type Service struct {
	Name  string         `json:"name"`
	Runs  stack.Way      `json:"runs"`
	Kind  stack.Lifetime `json:"kind"`
	State stack.State    `json:"state"`
	// Doing is what is going on in the state.
	Doing stack.EventKind `json:"doing,omitempty"`
	Text  string          `json:"text"`
	Why
	PID   int          `json:"pid"` // the process group of a native service
	Ports []stack.Port `json:"ports"`
}

// Step is a step of a launch.
type Step struct {
	ID    stack.NodeID `json:"id"`
	State stack.State  `json:"state"`
	Text  string       `json:"text"`
	Why
}

// Why is what is known of a failure; all of it is empty where nothing is.
type Why struct {
	Code   string `json:"code,omitempty"` // of the rule that knows the cause
	Cause  string `json:"cause,omitempty"`
	Remedy string `json:"remedy,omitempty"`
	Of     string `json:"of,omitempty"` // what it is about: an address, a setting, a package
}

// Failures are what did not come to its aim: what failed first, then what was skipped for it.
func (r *Record) Failures() []stack.Failure {
	var failed, skipped []stack.Failure
	add := func(id stack.NodeID, state stack.State, text string, why Why) {
		f := stack.Failure{ID: id, State: state, Text: text, Code: why.Code, Cause: why.Cause,
			Of:     why.Of,
			Remedy: why.Remedy}
		switch state {
		case stack.Failed, stack.Quiet:
			failed = append(failed, f)
		case stack.Skipped:
			skipped = append(skipped, f)
		}
	}
	for _, s := range r.Steps {
		add(s.ID, s.State, s.Text, s.Why)
	}
	for _, s := range r.Services {
		add(stack.ServiceNode(s.Name), s.State, s.Text, s.Why)
	}
	return append(failed, skipped...)
}

// Running reports whether the service has, or is about to have, a process.
func (s *Service) Running() bool {
	switch s.State {
	case stack.IsUp, stack.Running, stack.Quiet, stack.Starting:
		return true
	}
	return false
}

// Masked gives the texts with the stack's secrets taken out, as only its steward can; the texts as
// they are where it does not answer.
func (r *Record) Masked(texts []string) []string {
	if m := r.Ask(Request{Do: "mask", Texts: texts}); m != nil && len(m.Texts) == len(texts) {
		return m.Texts
	}
	return texts
}

// Name is the record's file in the workspace's state.
const Name = "stack.json"

// File is where the record of a workspace lies.
func File(root string) string { return filepath.Join(workspace.State(root), Name) }

// Read reads what the workspace knows of its stack; nil if none was launched.
func Read(root string) (*Record, error) {
	data, err := workspace.ReadState(root, Name)
	// the steward's place is known without the file, which may have been removed or changed
	if err != nil {
		if socket := socketName(workspace.ID(root)); socket != "" {
			if now := (&Record{Socket: socket}).Now(); now != nil {
				return now, nil
			}
		}
	}
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if errors.Is(err, workspace.ErrForged) {
		return nil, &stack.Fault{Kind: stack.Unreadable, Code: stack.CodeStateUnreadable,
			At: stack.Place{File: File(root)},
			Text: "the state of the stack was changed by something else than nharbor, and is " +
				"not believed",
			Remedy: "nharbor stop ends what carries this stack's mark, and removes the " +
				"file.", Cause: err}
	}
	if err != nil {
		return nil, err
	}
	var r Record
	if err := json.Unmarshal(data, &r); err != nil {
		return nil, &stack.Fault{Kind: stack.Unreadable, Code: stack.CodeStateUnreadable,
			At: stack.Place{File: File(root)}, Text: "the state of the stack can't be " +
				"read: " + err.Error(),
			Remedy: "nharbor stop ends what carries this stack's mark, and removes the " +
				"file.", Cause: err}
	}
	if now := r.Now(); now != nil {
		return now, nil
	}
	return &r, nil
}

// Now asks the steward itself, which knows more than the file where that could not be written: on a
// full disk.
func (r *Record) Now() *Record {
	if m := r.Ask(Request{Do: "record"}); m != nil {
		return m.Record
	}
	return nil
}

// Ask asks the steward one thing; nil if it does not answer.
func (r *Record) Ask(req Request) *Message {
	if r.Ended || r.Socket == "" {
		return nil
	}
	c, err := net.DialTimeout("unix", r.Socket, time.Second)
	if err != nil {
		return nil
	}
	defer c.Close()
	r.Wake()
	c.SetDeadline(time.Now().Add(2 * time.Second))
	var m Message
	if json.NewEncoder(c).Encode(req) != nil || json.NewDecoder(c).Decode(&m) != nil {
		return nil
	}
	return &m
}

// Alive reports whether the record's steward answers.
func (r *Record) Alive() bool {
	if r == nil || r.Ended || r.Socket == "" {
		return false
	}
	c, err := net.DialTimeout("unix", r.Socket, time.Second)
	if err != nil {
		return false
	}
	c.Close()
	return true
}

// Service returns the service of that name, or nil.
func (r *Record) Service(name string) *Service {
	if r == nil {
		return nil
	}
	for i := range r.Services {
		if r.Services[i].Name == name {
			return &r.Services[i]
		}
	}
	return nil
}

// InContainers reports whether a service of the stack runs in a container.
func (r *Record) InContainers() bool {
	return slices.ContainsFunc(r.Services,
		func(s Service) bool { return s.Runs == stack.Container })
}

// HeldPorts are the ports of this machine that the stack's running services publish.
func (r *Record) HeldPorts() map[int]bool {
	out := map[int]bool{}
	if !r.Alive() {
		return out
	}
	for _, s := range r.Services {
		for _, p := range s.Ports {
			if s.State != stack.Stopped && s.State != stack.Failed {
				out[p.Host] = true
			}
		}
	}
	return out
}

// Wake lets a steward go on that was stopped by a signal: else everybody would wait for it for
// ever.
func (r *Record) Wake() {
	if r.PID > 1 && process.IsStopped(r.PID) && process.IsThisProgram(r.PID) {
		process.GoOn(r.PID)
	}
}

// socketName is the place of a workspace's steward, if somebody may be there; empty if not.
func socketName(id string) string {
	for _, dir := range Meetings() {
		name := filepath.Join(dir, id+".sock")
		info, err := os.Lstat(dir)
		if err != nil || !info.IsDir() || !IsMine(info) {
			continue
		}
		if _, err := os.Lstat(name); err == nil {
			return name
		}
	}
	return ""
}

// Meetings are the folders in which stewards may listen, the first that can be had before the
// others. Another user can have taken the name of one in a folder that all share.
func Meetings() (out []string) {
	if dir := os.Getenv("XDG_RUNTIME_DIR"); dir != "" && len(dir) <= 60 {
		out = append(out, filepath.Join(dir, "nharbor"))
	}
	for _, dir := range []string{os.TempDir(), "/tmp"} {
		if len(dir) > 60 {
			continue
		}
		name := filepath.Join(dir, fmt.Sprintf("nharbor-%d", os.Getuid()))
		out = append(out, name)
		for i := 1; i < 10; i++ {
			out = append(out, fmt.Sprintf("%s-%d", name, i))
		}
	}
	return out
}

// SocketPath is where a workspace's steward listens: in a folder that this user alone can enter,
// with a name short enough for a socket.
func SocketPath(id string) (string, error) {
	var first error
	for _, dir := range Meetings() {
		// What the folder stands in belongs to the login or to all: where it is absent, it isn't
		// ours to make.
		err := os.Mkdir(dir, 0o700)
		if errors.Is(err, fs.ErrExist) {
			err = nil
		}
		if err == nil {
			err = private(dir)
		}
		if err == nil {
			return filepath.Join(dir, id+".sock"), nil
		}
		if first == nil {
			first = err
		}
	}
	return "", first
}

// Merge takes over from the record what the launch has changed: which services run, and on which
// ports.
func (r *Record) Merge(services []stack.Service) []stack.Service {
	out := slices.Clone(services)
	if !r.Alive() {
		return out
	}
	for i := range out {
		if rec := r.Service(out[i].Name); rec != nil {
			out[i].Ports, out[i].Runs = rec.Ports, rec.Runs
		}
	}
	// what runs counts, also where the files don't speak of it any more
	for _, rec := range r.Services {
		if !slices.ContainsFunc(out, func(s stack.Service) bool { return s.Name == rec.Name }) {
			out = append(out, stack.Service{Name: rec.Name, Runs: rec.Runs, Kind: rec.Kind,
				Ports: rec.Ports})
		}
	}
	return out
}

// Has complains of a name that no launched service has; of a nil record, where nothing is launched,
// too.
func (r *Record) Has(names []string) error {
	for _, name := range names {
		if r.Service(name) != nil {
			continue
		}
		f := &stack.Fault{Kind: stack.WrongCall, Code: stack.CodeServiceUnknown,
			Text: "no launched service is called " + name, Remedy: "Nothing is launched here."}
		if r != nil {
			var known []string
			for _, s := range r.Services {
				known = append(known, s.Name)
			}
			f.Remedy = "There are: " + strings.Join(known, ", ")
		}
		return f
	}
	return nil
}
