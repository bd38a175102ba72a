// Package workspace finds the folder that nharbor works on, and keeps its state there.
package workspace

import (
	"crypto/sha256"
	"encoding/hex"
	"os"
	"path/filepath"
	"sync"
	"time"

	"nimbleharbor/internal/compose"
	"nimbleharbor/internal/ecosystem"
)

// StateDir is the folder in a workspace that holds its state.
const StateDir = ".nharbor"

// Root finds the workspace that dir lies in: the nearest folder upwards with .nharbor or
// nharbor.toml, else the top of the checkout, else dir itself.
func Root(dir string) string {
	top := ""
	for d := dir; ; d = filepath.Dir(d) {
		for _, mark := range []string{StateDir, "nharbor.toml"} {
			if _, err := os.Lstat(filepath.Join(d, mark)); err == nil {
				return d
			}
		}
		if top == "" {
			if _, err := os.Lstat(filepath.Join(d, ".git")); err == nil {
				top = d
			}
		}
		if d == filepath.Dir(d) {
			break
		}
	}
	if top != "" {
		return top
	}
	return dir
}

// Near lists folders around dir that look like the top of an application: first those above it,
// then those beside it.
func Near(dir string) []string {
	var out []string
	for d := filepath.Dir(dir); d != filepath.Dir(d); d = filepath.Dir(d) {
		if likely(d) {
			out = append(out, d)
		}
	}
	entries, err := os.ReadDir(filepath.Dir(dir))
	if err != nil {
		return out
	}
	for _, e := range entries {
		d := filepath.Join(filepath.Dir(dir), e.Name())
		if e.IsDir() && d != dir && likely(d) && len(out) < 8 {
			out = append(out, d)
		}
	}
	return out
}

func likely(dir string) bool {
	for _, names := range [][]string{compose.FileNames, ecosystem.Manifests(), {StateDir}} {
		for _, n := range names {
			if _, err := os.Lstat(filepath.Join(dir, n)); err == nil {
				return true
			}
		}
	}
	return false
}

// ID is the short hash of a workspace's path by which its stack is known: two folders of the same
// name never share a container, a network or a volume.
func ID(root string) string {
	if real, err := filepath.EvalSymlinks(root); err == nil {
		root = real
	}
	sum := sha256.Sum256([]byte(root))
	return hex.EncodeToString(sum[:5])
}

// writing is held while a file is written.
var writing sync.RWMutex

// Settle waits, at most so long, until no file is being written by WriteFile, and lets none be
// written any more: the program is about to end.
func Settle(most time.Duration) {
	settled := make(chan struct{})
	go func() { // it may end with the program
		writing.Lock()
		close(settled)
	}()
	select {
	case <-settled:
	case <-time.After(most):
	}
}

// WriteFile puts data into the named file at once: a reader, or a crash, finds the old content or
// the new, never a part.
func WriteFile(name string, data []byte, perm os.FileMode) (err error) {
	writing.RLock()
	defer writing.RUnlock()
	f, err := os.CreateTemp(filepath.Dir(name), ".nharbor-*")
	if err != nil {
		return err
	}
	defer func() {
		if err != nil {
			f.Close()
			os.Remove(f.Name())
		}
	}()
	if _, err = f.Write(data); err != nil {
		return err
	}
	if err = f.Chmod(perm); err != nil {
		return err
	}
	if err = f.Sync(); err != nil {
		return err
	}
	if err = f.Close(); err != nil {
		return err
	}
	return os.Rename(f.Name(), name)
}
