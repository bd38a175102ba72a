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
	say := func(format string, words ...any) { out = append(out, fmt.Sprintf(format, words...)) }
	if c.Privileged {
		say("privileged: it can do all that root can on this machine")
	}
	if c.EngineSocket {
		say("uses the container engine itself: it can do all that root can on this machine")
	}
	for _, one := range shared {
		switch mode := one.mode(c); {
		case mode == "host":
			say("shares this machine's %s", one.what)
		case strings.HasPrefix(mode, "container:"):
			say("shares the %s of the container %s", one.what,
				strings.TrimPrefix(mode, "container:"))
		}
	}
	for _, name := range c.CapAdd {
		say("has the capability %s", name)
	}
	for _, option := range c.SecurityOpt {
		if !strings.HasPrefix(option, "no-new-privileges") {
			say("has the security option %s", option)
		}
	}
	for _, d := range c.Devices {
		say("uses this machine's device %s (%s)", d.Source, d.Permissions)
	}
	for _, rule := range c.DeviceACL {
		say("may use devices of this machine: %s", rule)
	}
	if len(c.Requests) > 0 {
		say("uses devices of this machine that the engine finds for it, such as graphics cards")
	}
	for _, from := range c.VolumesFrom {
		if other, theirs := strings.CutPrefix(from, "container:"); theirs {
			say("sees the volumes of the container %s, which is not this stack's", other)
		}
	}
	for _, link := range c.ExternalLinks {
		say("reaches the container %s, which is not this stack's", link)
	}
	if c.Runtime != "" {
		say("runs by the engine's runtime %s", c.Runtime)
	}
	if c.Logging != nil && c.Logging.Driver != "" {
		to := ""
		for _, key := range slices.Sorted(maps.Keys(c.Logging.Options)) {
			to += " " + key + "=" + c.Logging.Options[key]
		}
		say("what it writes goes to the log driver %s%s", c.Logging.Driver, to)
	}
	for i := range c.Handed {
		if h := &c.Handed[i]; h.File != "" && h.UID+h.GID+h.Mode != "" { // others are mounts
			say("reads %s%s", h.File, leaving(s.Root, h.File))
		}
	}
	for _, name := range c.LabelFiles {
		if to := leaving(s.Root, name); to != "" {
			say("has labels from %s%s", name, to)
		}
	}
	for _, m := range c.Mounts {
		if v := s.Volumes[m.Source]; m.Type == "volume" &&
			(v.Driver != "" && v.Driver != "local" || len(v.Options) > 0) {
			options := ""
			for _, key := range slices.Sorted(maps.Keys(v.Options)) {
				options += " " + key + "=" + v.Options[key]
			}
			say("its volume %s is made by the driver %s%s", m.Source, cmp.Or(v.Driver, "local"),
				options)
		}
	}
	for _, h := range c.PostStart {
		say("after its start runs: %s", strings.Join(h.Command, " "))
	}
	for _, w := range c.Watch {
		if w.Exec != nil {
			say("when files of %s change runs: %s", w.Path, strings.Join(w.Exec.Command, " "))
		}
	}
	for _, h := range c.PreStop {
		say("before its end runs: %s", strings.Join(h.Command, " "))
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
