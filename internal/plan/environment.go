package plan

import (
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"nimbleharbor/internal/stack"
)

// stepEnv is the environment of a step: that of the native service of its folder, else of any of
// its project.
func (m *mixer) stepEnv(proj *stack.Project, dir string) []string {
	env, best := m.path(proj.Bin), ""
	for _, id := range slices.Sorted(maps.Keys(m.plan.Services)) {
		ready := m.plan.Services[id]
		svc := m.Stack.Service(ready.Name)
		if svc.Runs != stack.Native || svc.Project != proj.Path || svc.Manager != proj.Manager {
			continue
		}
		if best == "" || svc.Dir() == dir && best != dir {
			env, best = ready.Environment, svc.Dir()
		}
	}
	return env
}

// ofShell is the shell's environment as what is launched gets it. Development servers open a
// browser by themselves where they can; the address is shown when it answers, and a person opens
// it.
func ofShell(env []string) []string {
	env = slices.DeleteFunc(slices.Clone(env),
		func(kv string) bool { return strings.HasPrefix(kv, "BROWSER=") })
	return append(env, "BROWSER=none")
}

// path is the shell's environment with a project's own programs first in its PATH.
func (m *mixer) path(bin []string) []string {
	out := slices.Clone(m.shell)
	if len(bin) == 0 {
		return out
	}
	var dirs []string
	for _, b := range bin {
		dirs = append(dirs, filepath.Join(m.root, filepath.FromSlash(b)))
	}
	for i, kv := range out {
		if old, ok := strings.CutPrefix(kv, "PATH="); ok {
			out[i] = "PATH=" + strings.Join(append(dirs, old), string(os.PathListSeparator))
			return out
		}
	}
	return append(out, "PATH="+strings.Join(dirs, string(os.PathListSeparator)))
}
