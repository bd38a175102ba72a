package launch

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"sync"
	"time"

	"nimbleharbor/internal/workspace"
)

// Memory is what a workspace remembers of earlier launches: which steps are done, by the content of
// what they depend on, and how long everything took.
type Memory struct {
	file string

	mu   sync.Mutex
	data memoryData
	root string
}

type memoryData struct {
	Done    map[string]string  `json:"done"`    // by step id: the digest of its inputs
	Seconds map[string]float64 `json:"seconds"` // by node id
}

// Recall reads a workspace's memory. What can't be read is forgotten.
func Recall(root string) *Memory {
	m := &Memory{root: root, file: filepath.Join(root, workspace.StateDir, "memory.json")}
	if data, err := os.ReadFile(m.file); err == nil {
		if json.Unmarshal(data, &m.data) != nil {
			m.data = memoryData{}
		}
	}
	if m.data.Done == nil {
		m.data.Done = map[string]string{}
	}
	if m.data.Seconds == nil {
		m.data.Seconds = map[string]float64{}
	}
	return m
}

// Seconds tells how long nodes took, by id.
func (m *Memory) Seconds() map[string]float64 {
	m.mu.Lock()
	defer m.mu.Unlock()
	out := make(map[string]float64, len(m.data.Seconds))
	for k, v := range m.data.Seconds {
		out[k] = v
	}
	return out
}

// Digest sums up all that a step depends on; it is empty for a step of which nothing is known to depend.
func (m *Memory) Digest(root string, s *Step) string {
	if len(s.Inputs) == 0 {
		return ""
	}
	h := sha256.New()
	fmt.Fprintf(h, "%q\n", s.Command)
	for _, in := range s.Inputs {
		f, err := os.Open(filepath.Join(root, filepath.FromSlash(in)))
		if err != nil {
			return ""
		}
		fmt.Fprintf(h, "%q\n", in)
		_, err = io.Copy(h, f)
		f.Close()
		if err != nil {
			return ""
		}
	}
	return hex.EncodeToString(h.Sum(nil))
}

// Done reports whether the step was done with these inputs, and what it made is still there.
func (m *Memory) Done(s *Step, digest string) bool {
	m.mu.Lock()
	defer m.mu.Unlock()
	if digest == "" || m.data.Done[s.ID] != digest {
		return false
	}
	for _, out := range s.Outputs {
		if _, err := os.Stat(filepath.Join(m.root, filepath.FromSlash(out))); err != nil {
			return false
		}
	}
	return true
}

// Remember notes that a step is done. A memory that can't be written costs time later, no more.
func (m *Memory) Remember(s *Step, digest string, took time.Duration) {
	m.mu.Lock()
	if digest != "" {
		m.data.Done[s.ID] = digest
	}
	m.mu.Unlock()
	m.Took("step:"+s.ID, took)
}

// Took notes how long a node took until it was done or up.
func (m *Memory) Took(id string, took time.Duration) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.data.Seconds[id] = float64(took.Milliseconds()) / 1000
	data, err := json.MarshalIndent(m.data, "", " ")
	if err != nil {
		return
	}
	if _, err := workspace.MakeStateDir(m.root); err == nil {
		workspace.WriteFile(m.file, data, 0o600)
	}
}
