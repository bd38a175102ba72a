package consent

import (
	"cmp"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"nimbleharbor/internal/stack"
)

// whereRun tells in which folder something runs, where that is not the workspace's own.
func whereRun(dir string) []string {
	if dir == "" || dir == "." {
		return nil
	}
	return []string{"in " + dir}
}

// reach says in words what of this machine a container may reach beyond its own network and
// volumes.
func reach(v *stack.Service, s *stack.Stack) (out []string) {
	c := v.Container
	for _, m := range c.Mounts {
		switch {
		case m.Type == "bind" && isEngine(m.Source):
			out = append(out, "sees the container engine's socket "+m.Source+": it can do all "+
				"that root can on this machine")
		case m.Type == "bind":
			says := "sees of this machine: " + m.Source
			if m.Source == "." {
				says = "sees of this machine: all of this workspace"
			}
			says += leaving(s.Root, m.Source)
			says += ", at " + m.Target
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
	out = append(out, beyond(c, s)...)
	out = append(out, whileBuilding(&c.Building)...)
	for _, p := range v.Ports {
		if p.Host > 0 && (p.HostIP == "0.0.0.0" || p.HostIP == "::") {
			out = append(out, fmt.Sprintf("publishes port %d to every address of this machine, "+
				"so that others can reach it", p.Host))
		}
	}
	return out
}

// shared are the namespaces that a container may have in common with this machine or with another
// container.
var shared = []struct {
	what string
	mode func(c *stack.ContainerSpec) string
}{
	{"network", func(c *stack.ContainerSpec) string { return c.NetworkMode }},
	{"list of processes", func(c *stack.ContainerSpec) string { return c.PID }},
	{"memory between processes", func(c *stack.ContainerSpec) string { return c.IPC }},
	{"name", func(c *stack.ContainerSpec) string { return c.UTS }},
	{"user numbers", func(c *stack.ContainerSpec) string { return c.UserNS }},
	{"control groups", func(c *stack.ContainerSpec) string { return c.CgroupNS }},
}

// beyond says what else of this machine, and of others' containers, a container may use.
func beyond(c *stack.ContainerSpec, s *stack.Stack) (out []string) {
	for _, reach := range reaches {
		out = append(out, reach(c, s)...)
	}
	return out
}

// reaches are the ways out of a container, each of which tells what of it there is.
var reaches = []func(c *stack.ContainerSpec, s *stack.Stack) []string{
	func(c *stack.ContainerSpec, _ *stack.Stack) (out []string) {
		if c.Privileged {
			out = append(out, "privileged: it can do all that root can on this machine")
		}
		if c.EngineSocket {
			out = append(out, "uses the container engine itself: it can do all that root can on "+
				"this machine")
		}
		return out
	},
	sharesOf,
	func(c *stack.ContainerSpec, _ *stack.Stack) (out []string) {
		out = each("has the capability %s", c.CapAdd)
		for _, option := range c.SecurityOpt {
			if !strings.HasPrefix(option, "no-new-privileges") {
				out = append(out, "has the security option "+option)
			}
		}
		return out
	},
	devicesOf,
	func(c *stack.ContainerSpec, _ *stack.Stack) (out []string) {
		for _, from := range c.VolumesFrom {
			if other, theirs := strings.CutPrefix(from, "container:"); theirs {
				out = append(out, fmt.Sprintf("sees the volumes of the container %s, which is not "+
					"this stack's", other))
			}
		}
		return append(out, each("reaches the container %s, which is not this stack's",
			c.ExternalLinks)...)
	},
	func(c *stack.ContainerSpec, _ *stack.Stack) (out []string) {
		if c.Runtime != "" {
			out = append(out, "runs by the engine's runtime "+c.Runtime)
		}
		if c.Logging != nil && c.Logging.Driver != "" {
			out = append(out, fmt.Sprintf("what it writes goes to the log driver %s%s",
				c.Logging.Driver, inOrder(c.Logging.Options)))
		}
		return out
	},
	filesOf,
	volumesOf,
	func(c *stack.ContainerSpec, _ *stack.Stack) (out []string) {
		for _, h := range c.PostStart {
			out = append(out, "after its start runs: "+strings.Join(h.Command, " "))
		}
		for _, w := range c.Watch {
			if w.Exec != nil {
				out = append(out, fmt.Sprintf("when files of %s change runs: %s", w.Path,
					strings.Join(w.Exec.Command, " ")))
			}
		}
		for _, h := range c.PreStop {
			out = append(out, "before its end runs: "+strings.Join(h.Command, " "))
		}
		return out
	},
}

// each puts each word into a sentence.
func each(format string, words []string) (out []string) {
	for _, w := range words {
		out = append(out, fmt.Sprintf(format, w))
	}
	return out
}

// inOrder are options as they are shown, each behind a space.
func inOrder(options map[string]string) (out string) {
	for _, key := range slices.Sorted(maps.Keys(options)) {
		out += " " + key + "=" + options[key]
	}
	return out
}

// sharesOf tells what of this machine, or of another container, it shares.
func sharesOf(c *stack.ContainerSpec, _ *stack.Stack) (out []string) {
	for _, one := range shared {
		mode := one.mode(c)
		if mode == "host" {
			out = append(out, "shares this machine's "+one.what)
		} else if other, theirs := strings.CutPrefix(mode, "container:"); theirs {
			out = append(out, fmt.Sprintf("shares the %s of the container %s", one.what, other))
		}
	}
	return out
}

// devicesOf tells which devices of this machine it uses.
func devicesOf(c *stack.ContainerSpec, _ *stack.Stack) (out []string) {
	for _, d := range c.Devices {
		out = append(out, fmt.Sprintf("uses this machine's device %s (%s)", d.Source,
			d.Permissions))
	}
	out = append(out, each("may use devices of this machine: %s", c.DeviceACL)...)
	if len(c.Requests) > 0 {
		out = append(out, "uses devices of this machine that the engine finds for it, such as "+
			"graphics cards")
	}
	return out
}

// filesOf tells which files of this machine it is handed beside its mounts.
func filesOf(c *stack.ContainerSpec, s *stack.Stack) (out []string) {
	for i := range c.Handed {
		if h := &c.Handed[i]; h.File != "" && h.UID+h.GID+h.Mode != "" { // others are mounts
			out = append(out, "reads "+h.File+leaving(s.Root, h.File))
		}
	}
	for _, name := range c.LabelFiles {
		if to := leaving(s.Root, name); to != "" {
			out = append(out, "has labels from "+name+to)
		}
	}
	return out
}

// volumesOf tells which of its volumes a driver makes, or options that lead elsewhere.
func volumesOf(c *stack.ContainerSpec, s *stack.Stack) (out []string) {
	for _, m := range c.Mounts {
		v := s.Volumes[m.Source]
		plain := (v.Driver == "" || v.Driver == "local") && len(v.Options) == 0
		if m.Type == "volume" && !plain {
			out = append(out, fmt.Sprintf("its volume %s is made by the driver %s%s", m.Source,
				cmp.Or(v.Driver, "local"), inOrder(v.Options)))
		}
	}
	return out
}

// whileBuilding says what of this machine the building of an image may use, beyond its context.
func whileBuilding(b *stack.Building) (out []string) {
	say := func(format string, words ...any) { out = append(out, fmt.Sprintf(format, words...)) }
	if b.BuildNetwork == "host" {
		say("its build shares this machine's network")
	}
	if b.BuildAsRoot || len(b.Entitlements) > 0 {
		say("its build may do more than others: %s",
			strings.Join(append(slices.Clone(b.Entitlements),
				map[bool]string{true: "privileged"}[b.BuildAsRoot]), " "))
	}
	for _, name := range slices.Sorted(maps.Keys(b.Contexts)) {
		say("its build reads %s as %s", b.Contexts[name], name)
	}
	for i := range b.BuildHands {
		if h := &b.BuildHands[i]; h.File != "" {
			say("its build reads the secret %s from %s", h.Name, h.File)
		} else {
			say("its build is given the secret %s", h.Name)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(b.SSH)) {
		say("its build uses your SSH keys: %s", strings.TrimSuffix(name+" "+b.SSH[name], " "))
	}
	for _, to := range b.CacheTo {
		say("its build writes its cache to %s", to)
	}
	return out
}

// leaving tells of a file that lies outside of the workspace, or leads there.
func leaving(root, name string) string {
	if to := Leads(root, name); to != "" {
		return ", which leads to " + to + ", outside of the workspace"
	}
	if !filepath.IsLocal(filepath.FromSlash(name)) {
		return ", outside of the workspace"
	}
	return ""
}

func isEngine(source string) bool {
	return strings.HasSuffix(source, "docker.sock") || strings.HasSuffix(source, "podman.sock") ||
		strings.HasSuffix(source, "containerd.sock")
}

// Leads is where a folder of the workspace really lies, if a link leads out of the workspace; empty
// where none does.
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
		// of what is not there yet, the nearest folder that is
		if os.IsNotExist(err) && name != top {
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
