package launch

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
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
	if len(s.Inputs) == 0 || s.EveryTime {
		return ""
	}
	h := sha256.New()
	fmt.Fprintf(h, "%q\n", s.Command)
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
	if !there {
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
			if file != name && (d.Name() == "node_modules" || d.Name() == ".git" || d.Name() == "__pycache__") {
				return fs.SkipDir
			}
			return nil
		}
		if !d.Type().IsRegular() && file != name {
			return nil
		}
		f, err := os.Open(file)
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
