// Package memory keeps what a workspace remembers of earlier launches.
package memory

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/reading"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/workspace"
)

// Work is a step as far as it matters for whether it must be done again.
type Work struct {
	ID      string // ROLE:PROJECT-PATH
	Role    stack.Role
	Command []string
	As      []string // the command by which it is remembered; nil for Command
	Env     []string // KEY=VALUE, all that the process gets
	// Inputs are the files and folders, relative to the workspace, on whose content it depends.
	Inputs []string
	// Outputs are what it leaves behind, relative to the workspace.
	Outputs []string
	// EveryTime is true for a step that is never taken for done.
	EveryTime bool
}

// Memory is what a workspace remembers of earlier launches: which steps are done, by the content of
// what they depend on, and how long everything took. Several goroutines may use it at once.
type Memory struct {
	mu   sync.Mutex
	data memoryData
	root string
}

type memoryData struct {
	Done    map[string]string        `json:"done"` // by step id: the digest of its inputs
	Seconds map[stack.NodeID]float64 `json:"seconds"`
	// Made are the database files that steps have made, by step id: one that is missing makes the
	// step run again.
	Made map[string][]string `json:"made,omitempty"`
	// Unmade are the outputs that a step was expected to leave and has not left, by step id: that
	// they are missing says nothing. An install without any dependency makes no folder for them.
	Unmade map[string][]string `json:"unmade,omitempty"`
	// Seen are the ports that services have opened, by service.
	Seen map[string]Seen `json:"seen,omitempty"`
	// Asked are the questions that have been answered, by their ids.
	Asked map[string]bool `json:"asked,omitempty"`
	// Printed are the passwords that services have printed when they made them up, by service and
	// user.
	Printed map[string]Printed `json:"printed,omitempty"`
	// Looks are what builds could see, by the names of their images.
	Looks map[string]Look `json:"looks,omitempty"`
	// Lessons are what launches had to learn.
	Lessons []Lesson `json:"lessons,omitempty"`
	// Seals are sums of the passwords that stores of data were made with, by what tells the store
	// from others.
	Seals map[string]string `json:"seals,omitempty"`
}

// memoryFile holds it, in the workspace's state.
const memoryFile = "memory.json"

// Recall reads a workspace's memory. What can't be read is forgotten.
func Recall(root string) *Memory {
	m := &Memory{root: root}
	if data, err := workspace.ReadState(root, memoryFile); err == nil {
		if json.Unmarshal(data, &m.data) != nil {
			m.data = memoryData{}
		}
	}
	if m.data.Done == nil {
		m.data.Done = map[string]string{}
	}
	if m.data.Seconds == nil {
		m.data.Seconds = map[stack.NodeID]float64{}
	}
	return m
}

// Seconds tells how long nodes took, in seconds.
func (m *Memory) Seconds() map[stack.NodeID]float64 {
	m.mu.Lock()
	defer m.mu.Unlock()
	out := make(map[stack.NodeID]float64, len(m.data.Seconds))
	for k, v := range m.data.Seconds {
		out[k] = v
	}
	return out
}

// Digest sums up all that a step depends on; it is empty for a step of which nothing is known to
// depend. data is what identifies the database that the step works on.
func Digest(root string, s *Work, data string) string {
	onData := s.Role == stack.Create || s.Role == stack.Seed
	if len(s.Inputs) == 0 && !onData || s.EveryTime {
		return ""
	}
	h := sha256.New()
	command := s.Command
	if s.As != nil {
		command = s.As
	}
	fmt.Fprintf(h, "%q %q\n", command, data)
	for _, kv := range s.Env {
		// Of the settings only those count that say which database it is.
		if key, value, _ := strings.Cut(kv, "="); s.Role.Rank() >= stack.Create.Rank() &&
			databaseKey.MatchString(key) {
			fmt.Fprintf(h, "%q %q\n", key, value)
		}
	}
	there := false
	for _, in := range s.Inputs {
		switch err := sum(h, root, filepath.Join(root, filepath.FromSlash(in))); {
		case errors.Is(err, fs.ErrNotExist):
			fmt.Fprintf(h, "%q is absent\n", in)
		case err != nil:
			return ""
		default:
			there = true
		}
	}
	if !there && !onData {
		return ""
	}
	return hex.EncodeToString(h.Sum(nil))
}

var databaseKey = expr.New(
	`(?i)(^|_)(DATABASE|DB|PG|POSTGRES|MYSQL|MONGO|SQLITE)(_?(URL|URI|DSN|HOST|NAME|DATABASE|DB|PATH|FILE))?$`)

// Sum is a file's sum, or that of all files in a folder; empty for one that isn't there.
func Sum(root, name string) string {
	h := sha256.New()
	if err := sum(h, root, filepath.Join(root, filepath.FromSlash(name))); err != nil {
		return ""
	}
	return hex.EncodeToString(h.Sum(nil))
}

// sum adds the name and the content of a file, or of all files in a folder.
func sum(h io.Writer, root, name string) error {
	return filepath.WalkDir(name, func(file string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if d.IsDir() {
			if file != name && (d.Name() == "node_modules" || d.Name() == ".git" ||
				d.Name() == "__pycache__") {
				return fs.SkipDir
			}
			return nil
		}
		if !d.Type().IsRegular() && file != name {
			return nil
		}
		f, err := reading.Open(file)
		if err != nil {
			return err
		}
		defer f.Close()
		rel, _ := filepath.Rel(root, file)
		fmt.Fprintf(h, "%q\n", filepath.ToSlash(rel))
		_, err = io.Copy(h, f)
		return err
	})
}

// Done reports whether the step was done with these inputs, and what it made is still there.
func (m *Memory) Done(s *Work, digest string) bool {
	m.mu.Lock()
	defer m.mu.Unlock()
	if digest == "" || m.data.Done[s.ID] != digest {
		return false
	}
	for _, out := range s.Outputs {
		if slices.Contains(m.data.Unmade[s.ID], out) {
			continue
		}
		if _, err := os.Stat(filepath.Join(m.root, filepath.FromSlash(out))); err != nil {
			return false
		}
	}
	for _, file := range m.data.Made[s.ID] {
		if _, err := os.Stat(file); err != nil {
			return false
		}
	}
	return true
}

// Forget forgets what was done, so that the next launch does it again; how long things took stays
// known. It gives the database files that steps have made.
func (m *Memory) Forget() []string {
	m.mu.Lock()
	defer m.mu.Unlock()
	var files []string
	for _, list := range m.data.Made {
		files = append(files, list...)
	}
	m.data.Done, m.data.Made, m.data.Unmade = map[string]string{}, nil, nil
	m.data.Asked, m.data.Printed = nil, nil
	m.write()
	slices.Sort(files)
	return slices.Compact(files)
}

// Remember notes that a step is done. A memory that can't be written costs time later, no more.
// made are the database files that it has left.
func (m *Memory) Remember(s *Work, digest string, made []string) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if digest != "" {
		m.data.Done[s.ID] = digest
		delete(m.data.Unmade, s.ID)
		for _, out := range s.Outputs {
			if _, err := os.Stat(filepath.Join(m.root, filepath.FromSlash(out))); err != nil {
				if m.data.Unmade == nil {
					m.data.Unmade = map[string][]string{}
				}
				m.data.Unmade[s.ID] = append(m.data.Unmade[s.ID], out)
			}
		}
	}
	if len(made) > 0 {
		if m.data.Made == nil {
			m.data.Made = map[string][]string{}
		}
		m.data.Made[s.ID] = made
	}
	m.write()
}

// Took notes how long a node took until it was done or up.
func (m *Memory) Took(id stack.NodeID, took time.Duration) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.data.Seconds[id] = float64(took.Milliseconds()) / 1000
	m.write()
}

// Seen is the main port that a service has opened. Said is the one that was expected then; 0 for
// none.
type Seen struct {
	Port   int    `json:"port"`
	Speaks string `json:"speaks"`
	Said   int    `json:"said"`
}

// Saw remembers on which port a service was seen to listen.
func (m *Memory) Saw(service string, s Seen) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.data.Seen == nil {
		m.data.Seen = map[string]Seen{}
	}
	m.data.Seen[service] = s
	m.write()
}

// Seen tells on which ports services were seen to listen.
func (m *Memory) Seen() map[string]Seen {
	m.mu.Lock()
	defer m.mu.Unlock()
	return maps.Clone(m.data.Seen)
}

// Lesson is what a launch had to learn of an application, so that the next one begins with it: a
// service waits for another one, or a server is run beside the stack.
type Lesson struct {
	Service string    `json:"service"`           // that it is about
	After   string    `json:"after,omitempty"`   // the service that it waits for
	Provide string    `json:"provide,omitempty"` // what the server speaks
	Because string    `json:"because"`           // the code of the cause
	At      time.Time `json:"at"`
}

// Learn adds a lesson, unless it is known.
func (m *Memory) Learn(l Lesson) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if slices.ContainsFunc(m.data.Lessons, l.same) {
		return
	}
	m.data.Lessons = append(m.data.Lessons, l)
	m.write()
}

// Unlearn drops a lesson that does not fit any more.
func (m *Memory) Unlearn(l Lesson) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.data.Lessons = slices.DeleteFunc(m.data.Lessons, l.same)
	m.write()
}

func (l Lesson) same(o Lesson) bool {
	return o.Service == l.Service && o.After == l.After && o.Provide == l.Provide
}

// Lessons are those that are known, the oldest first.
func (m *Memory) Lessons() []Lesson {
	m.mu.Lock()
	defer m.mu.Unlock()
	return slices.Clone(m.data.Lessons)
}

// Again forgets that a step is done, so that the next launch does it once more.
func (m *Memory) Again(step string) {
	m.mu.Lock()
	defer m.mu.Unlock()
	delete(m.data.Done, step)
	delete(m.data.Unmade, step)
	m.write()
}

// Printed is what a service has printed to sign in with.
type Printed struct {
	Service  string `json:"service"`
	User     string `json:"user"`
	Password string `json:"password"`
}

// Print remembers what services have printed to sign in with, in a file that others can't read.
func (m *Memory) Print(list []Printed) {
	m.mu.Lock()
	defer m.mu.Unlock()
	changed := false
	for _, p := range list {
		key := p.Service + " " + p.User
		if m.data.Printed[key] == p {
			continue
		}
		if m.data.Printed == nil {
			m.data.Printed = map[string]Printed{}
		}
		m.data.Printed[key], changed = p, true
	}
	if changed {
		m.write()
	}
}

// Printed gives what services have printed to sign in with, by service and user.
func (m *Memory) Printed() (out []Printed) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, key := range slices.Sorted(maps.Keys(m.data.Printed)) {
		out = append(out, m.data.Printed[key])
	}
	return out
}

// Asked reports whether a question has been answered.
func (m *Memory) Asked(id string) bool {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.data.Asked[id]
}

// Answer remembers that a question has been answered.
func (m *Memory) Answer(id string) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.data.Asked == nil {
		m.data.Asked = map[string]bool{}
	}
	m.data.Asked[id] = true
	m.write()
}

func (m *Memory) write() {
	data, err := json.MarshalIndent(m.data, "", " ")
	if err != nil {
		return
	}
	workspace.WriteState(m.root, memoryFile, data) // what can't be kept is done again
}

// Sealed remembers with which secrets a store of data was made. What was remembered of it first
// stays.
func (m *Memory) Sealed(store, seal string) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if _, known := m.data.Seals[store]; known || store == "" || seal == "" {
		return
	}
	if m.data.Seals == nil {
		m.data.Seals = map[string]string{}
	}
	m.data.Seals[store] = seal
	m.write()
}

// SealOf is the seal of a store of data; empty for one of which nothing is remembered.
func (m *Memory) SealOf(store string) string {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.data.Seals[store]
}

// Sealing reports whether any store's seal is remembered.
func (m *Memory) Sealing() bool {
	m.mu.Lock()
	defer m.mu.Unlock()
	return len(m.data.Seals) > 0
}

// Look is the sum of what a build could see, and a stamp that changes as soon as a file of it is
// written.
type Look struct {
	Stamp string `json:"stamp"`
	Sum   string `json:"sum"`
}

// Looked remembers what a build could see, by its image's name.
func (m *Memory) Looked(image string, l Look) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.data.Looks == nil {
		m.data.Looks = map[string]Look{}
	}
	m.data.Looks[image] = l
	m.write()
}

// LookOf is what a build could see last; the zero value where that isn't known.
func (m *Memory) LookOf(image string) Look {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.data.Looks[image]
}
