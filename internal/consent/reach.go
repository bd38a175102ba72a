package consent

import (
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"

	"nimbleharbor/internal/dotenv"
	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/stack"
)

// whereRun tells in which folder something runs, where that is not the workspace's own.
func whereRun(dir string) []string {
	if dir == "" || dir == "." {
		return nil
	}
	return []string{"in " + dir}
}

// loadsCode are variables that make programs load code, or run something else than they are told.
var loadsCode = expr.New(`^(NODE_OPTIONS|LD_(PRELOAD|LIBRARY_PATH|AUDIT)|DYLD_\w+|PYTHON(PATH|STARTUP|HOME)|` +
	`BASH_ENV|ENV|` +
	`(_?JAVA_TOOL|JDK_JAVA|_JAVA)_OPTIONS|CLASSPATH|RUBY(OPT|LIB)|PERL5(OPT|LIB|DB)|GIT_\w+|PATH|SHELL|IFS|EDITOR|` +
	`PAGER|` +
	`npm_config_\w+|BUNDLE_GEMFILE|GOFLAGS|RUSTC_WRAPPER|CARGO_\w+|PHPRC|PHP_INI_SCAN_DIR|` +
	`(GNU)?MAKEFLAGS|MAKEFILES|PROMPT_COMMAND)$`)

// loaders tells of such variables in the settings files that what runs in a folder gets.
func loaders(fsys fs.FS, s *stack.Stack, dir string) []string {
	var out []string
	for _, e := range s.EnvFiles {
		if at := path.Dir(e.Path); at != "." && at != dir {
			continue
		}
		data, err := fs.ReadFile(fsys, e.Path)
		if err != nil {
			continue
		}
		f, err := dotenv.Parse(e.Path, data)
		if f == nil || err != nil {
			continue
		}
		for _, setting := range f.Settings {
			if loadsCode.MatchString(setting.Key) && setting.HasValue {
				out = append(out, fmt.Sprintf("with %s=%s, which can load code "+
					"(%s:%d)", setting.Key, setting.Value, e.Path,
					setting.Line))
			}
		}
	}
	return out
}

// reach says in words what of this machine a container may reach beyond its own network and volumes.
func reach(v *stack.Service, s *stack.Stack) (out []string) {
	c := v.Container
	for _, m := range c.Mounts {
		switch {
		case m.Type == "bind" && isEngine(m.Source):
			out = append(out, "sees the container engine's socket "+m.Source+": it can do all that root can on this "+
				"machine")
		case m.Type == "bind":
			says := "sees of this machine: " + m.Source
			if m.Source == "." {
				says = "sees of this machine: all of this workspace"
			}
			if to := Leads(s.Root, m.Source); to != "" {
				says += ", which leads to " + to + ", outside of the workspace"
			} else if !filepath.IsLocal(filepath.FromSlash(m.Source)) {
				says += ", outside of the workspace"
			}
			if m.ReadOnly {
				says += " (to read)"
			}
			out = append(out, says)
		case m.Type == "volume" && s.Volumes[m.Source].External:
			out = append(out, "uses a volume that is not this stack's: "+m.Source)
		}
	}
	for _, n := range c.Networks {
		if s.Networks[n].External {
			out = append(out, "joins a network that is not this stack's: "+n)
		}
	}
	if c.Privileged {
		out = append(out, "privileged: it can do all that root can on this machine")
	}
	switch other, shares := strings.CutPrefix(c.NetworkMode, "container:"); {
	case c.NetworkMode == "host":
		out = append(out, "shares this machine's network")
	case shares:
		out = append(out, "shares the network of the container "+other)
	}
	for _, p := range v.Ports {
		if p.Host > 0 && (p.HostIP == "0.0.0.0" || p.HostIP == "::") {
			out = append(out, fmt.Sprintf("publishes port %d to every address of this machine, so that others can "+
				"reach it", p.Host))
		}
	}
	return out
}

func isEngine(source string) bool {
	return strings.HasSuffix(source, "docker.sock") || strings.HasSuffix(source, "podman.sock") ||
		strings.HasSuffix(source, "containerd.sock")
}

// Leads is where a folder of the workspace really lies, if a link leads out of the workspace; empty where none does.
func Leads(root, source string) string {
	if !filepath.IsLocal(filepath.FromSlash(source)) || root == "" {
		return ""
	}
	top, err := filepath.EvalSymlinks(root)
	if err != nil {
		return ""
	}
	name := filepath.Join(top, filepath.FromSlash(source))
	for {
		real, err := filepath.EvalSymlinks(name)
		if os.IsNotExist(err) && name != top { // of what is not there yet, the nearest folder that is
			name = filepath.Dir(name)
			continue
		}
		if err != nil {
			return ""
		}
		if rel, err := filepath.Rel(top, real); err == nil && filepath.IsLocal(rel) {
			return ""
		}
		return real
	}
}
