package run

import (
	"os/exec"
	"path/filepath"
	"strings"
)

// lookPath finds the program of a command: one with a slash in its folder, any other in the PATH
// that it gets, not in ours.
func lookPath(spec NativeSpec) (string, error) {
	name := spec.Command[0]
	if strings.ContainsAny(name, `/\`) {
		if !filepath.IsAbs(name) {
			name = filepath.Join(spec.Dir, name)
		}
		return exec.LookPath(name)
	}
	for _, kv := range spec.Env {
		if list, ok := strings.CutPrefix(kv, "PATH="); ok {
			for _, dir := range filepath.SplitList(list) {
				if !filepath.IsAbs(dir) {
					continue // a relative folder in PATH would be one of the checkout
				}
				if path, err := exec.LookPath(filepath.Join(dir, name)); err == nil {
					return path, nil
				}
			}
			return "", &exec.Error{Name: name, Err: exec.ErrNotFound}
		}
	}
	return exec.LookPath(name)
}
