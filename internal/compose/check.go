package compose

import (
	"fmt"
	"slices"
	"strings"

	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/value"
)

// check finds what the services say of things that don't exist, and cycles.
func (p *Project) check() stack.Faults {
	c := &checker{Project: p}
	services := p.Model.Get("services")
	for _, m := range services.orEmpty().Members {
		if m.Value.Kind != Mapping {
			continue // which was said already
		}
		c.runsSomething(m)
		c.waits(m)
		c.resources(m)
		c.shares(m)
		p.contradictions(m.Key, m.Value, c.fault)
		c.volumes(m)
	}
	if cycle := dependencyCycle(services); len(cycle) > 0 {
		c.fault(services.Get(cycle[0]).Get("depends_on"), stack.CodeComposeCycle,
			"services wait for each other: "+strings.Join(cycle, " → "),
			"Remove one of these depends_on.")
	}
	return c.faults
}

// checker compares what services name with what is defined.
type checker struct {
	*Project
	faults stack.Faults
}

func (c *checker) fault(at *Value, code stack.Code, text, remedy string) {
	c.faults = append(c.faults, c.Project.fault(at.At(), at.Column, code, text, remedy))
}

// key is the place of a member's key.
func key(in *Value, m Member) *Value {
	return &Value{File: in.File, Line: m.Line, Column: m.Column}
}

// runsSomething asks for an image, or what makes one.
func (c *checker) runsSomething(m Member) {
	for _, by := range []string{"image", "build", "provider", "extends"} {
		if m.Value.Get(by) != nil {
			return
		}
	}
	c.fault(key(m.Value, m), stack.CodeComposeNoImage,
		fmt.Sprintf("the service %s has neither image nor build", m.Key),
		"Say what it runs: image: or build:.")
}

// waits asks for the services that one waits for.
func (c *checker) waits(m Member) {
	for _, d := range m.Value.Get("depends_on").orEmpty().Members {
		if c.Model.Get("services").Get(d.Key) == nil &&
			d.Value.Get("required").or("true") == "true" {
			c.fault(key(d.Value, d), stack.CodeComposeUndefined,
				fmt.Sprintf("the service %s waits for %s, which no file defines", m.Key, d.Key),
				"Correct the name, or define the service.")
		}
	}
}

// resources asks for the networks, secrets and configurations that one uses.
func (c *checker) resources(m Member) {
	for _, d := range m.Value.Get("networks").orEmpty().Members {
		if d.Key != "default" && c.Model.Get("networks").Get(d.Key) == nil {
			c.fault(key(d.Value, d), stack.CodeComposeUndefined,
				fmt.Sprintf("the service %s uses the network %s, which no file defines", m.Key,
					d.Key), "Define it below networks: at the top.")
		}
	}
	for _, section := range []string{"secrets", "configs"} {
		for _, v := range slices.Concat(m.Value.Get(section).orEmpty().Items,
			m.Value.Get("build").Get(section).orEmpty().Items) {
			if name := v.Get("source").or(""); name != "" && c.Model.Get(section).Get(name) == nil {
				c.fault(v, stack.CodeComposeUndefined,
					fmt.Sprintf("the service %s uses the %s %s, which no file defines", m.Key,
						strings.TrimSuffix(section, "s"), name),
					fmt.Sprintf("Define it below %s: at the top.", section))
			}
		}
	}
}

// shares asks for the services whose network or processes one shares.
func (c *checker) shares(m Member) {
	s := m.Value
	for _, shared := range []string{"network_mode", "ipc", "pid"} {
		other, ok := strings.CutPrefix(s.Get(shared).or(""), "service:")
		if ok && c.Model.Get("services").Get(other) == nil {
			c.fault(s.Get(shared), stack.CodeComposeUndefined,
				fmt.Sprintf("the %s of the service %s names the service %s, which no file defines",
					shared, m.Key, other), "Correct the name, or define the service.")
		}
	}
	if s.Get("network_mode") != nil && s.Get("networks") != nil {
		c.fault(s.Get("network_mode"), stack.CodeComposeConflict,
			fmt.Sprintf("the service %s has both network_mode and networks", m.Key),
			"Keep one of the two.")
	}
}

// volumes asks for the volumes that one mounts.
func (c *checker) volumes(m Member) {
	for _, v := range m.Value.Get("volumes").orEmpty().Items {
		name := v.Get("source").or("")
		if v.Get("type").or("") == "volume" && name != "" &&
			c.Model.Get("volumes").Get(name) == nil {
			c.fault(v, stack.CodeComposeUndefined,
				fmt.Sprintf("the service %s uses the volume %s, which no file defines", m.Key,
					name),
				"Define it below volumes: at the top; a folder's path begins with ./ or /.")
		}
	}
}

// contradictions finds keys of one service that can't hold together.
func (p *Project) contradictions(name string, s *Value,
	fault func(*Value, stack.Code, string, string)) {
	if b := s.Get("build"); b.Get("dockerfile_inline") != nil && b.Get("dockerfile") != nil {
		fault(b.Get("dockerfile_inline"), stack.CodeComposeConflict,
			fmt.Sprintf("the build of the service %s has both dockerfile and dockerfile_inline",
				name), "Keep one of the two.")
	}
	count := either(s.Get("scale"), s.Get("deploy").Get("replicas"))
	if named := s.Get("container_name"); named != nil && whole64(count) > 1 {
		fault(named, stack.CodeComposeConflict,
			fmt.Sprintf("the service %s is to run %d times, and all would have the one "+
				"container_name %s", name,
				whole64(count), named.Text), "Remove container_name, or let it run once.")
	}
	a, b := s.Get("scale"), s.Get("deploy").Get("replicas")
	if a != nil && b != nil && whole64(a) != whole64(b) {
		fault(a, stack.CodeComposeConflict,
			fmt.Sprintf("scale and deploy.replicas of the service %s differ: %d and %d", name,
				whole64(a), whole64(b)), "Keep one of the two.")
	}
}

// dependencyCycle gives the names along the first cycle of depends_on, its beginning again at the
// end.
func dependencyCycle(services *Value) []string {
	const (
		unseen = iota
		open
		closed
	)
	marks := map[string]int{}
	after := map[string][]string{}
	names := []string{}
	for _, m := range services.orEmpty().Members {
		names = append(names, m.Key)
		for _, d := range m.Value.Get("depends_on").orEmpty().Members {
			after[m.Key] = append(after[m.Key], d.Key)
		}
	}
	type frame struct {
		name string
		next int
	}
	for _, start := range names {
		if marks[start] != unseen {
			continue
		}
		path := []frame{{name: start}}
		marks[start] = open
		for len(path) > 0 {
			top := &path[len(path)-1]
			if top.next == len(after[top.name]) {
				marks[top.name] = closed
				path = path[:len(path)-1]
				continue
			}
			other := after[top.name][top.next]
			top.next++
			switch marks[other] {
			case unseen:
				marks[other] = open
				path = append(path, frame{name: other})
			case open:
				var cycle []string
				for _, f := range path {
					if f.name == other || len(cycle) > 0 {
						cycle = append(cycle, f.name)
					}
				}
				return append(cycle, other)
			}
		}
	}
	return nil
}

// remark says what else is worth knowing of the files.
func (p *Project) remark() {
	p.withoutEffect()
	p.clashes()
	p.leaving()
	p.looseEnds()
	for _, u := range p.Unset {
		if u.Required {
			continue
		}
		if value.IsSecret(u.Name, "") {
			p.Remarks = append(p.Remarks,
				stack.Remark{Level: stack.Note, Code: stack.CodeComposeVariableUnset, At: u.At,
					Text:   fmt.Sprintf("the variable %s has no value yet", u.Name),
					Remedy: "nharbor fill makes one up, in the .env file beside the compose file."})
			continue
		}
		p.Remarks = append(p.Remarks,
			stack.Remark{Level: stack.Warning, Code: stack.CodeComposeVariableUnset, At: u.At,
				Text: fmt.Sprintf("the variable %s has no value; it is taken as empty", u.Name),
				Remedy: fmt.Sprintf("Set %s in the .env file beside the compose file, or give a "+
					"default: ${%s:-value}.", u.Name, u.Name)})
	}
}

// clashes finds ports of this machine that two active services publish.
func (p *Project) clashes() {
	type portKey struct {
		transport string
		port      int
	}
	type holder struct{ ip, service string }
	taken := map[portKey][]holder{}
	// the services of which others wait for the end: they hold no port for long
	ends := map[string]bool{}
	for i := range p.Services {
		for _, a := range p.Services[i].After {
			ends[a.Service] = ends[a.Service] || a.Until == stack.Finished
		}
	}
	for i := range p.Services {
		s := &p.Services[i]
		if !s.Active || ends[s.Name] {
			continue
		}
		for _, port := range s.Ports {
			if port.Host == 0 {
				continue
			}
			ip := port.HostIP
			if ip == "" || ip == "::" {
				ip = "0.0.0.0"
			}
			at := portKey{port.Transport, port.Host}
			for _, held := range taken[at] {
				if held.service != s.Name &&
					(held.ip == ip || held.ip == "0.0.0.0" || ip == "0.0.0.0") {
					p.Remarks = append(p.Remarks,
						stack.Remark{Level: stack.Problem, Code: stack.CodePortTwice, At: port.At,
							Text: fmt.Sprintf("%s and %s both want port %d of this machine",
								held.service, s.Name,
								port.Host), Remedy: "Change one of the two published ports."})
				}
			}
			taken[at] = append(taken[at], holder{ip, s.Name})
		}
	}
}

// leaving names what services read or mount from outside of the workspace by a path that leads out
// of it.
func (p *Project) leaving() {
	out := func(name string) bool { return name == ".." || strings.HasPrefix(name, "../") }
	for i := range p.Services {
		s := &p.Services[i]
		remark := func(at stack.Place, does, name string) {
			p.Remarks = append(p.Remarks,
				stack.Remark{Level: stack.Warning, Code: stack.CodePathOutside, At: at,
					Text:   fmt.Sprintf("%s %s %s, outside of the workspace", s.Name, does, name),
					Remedy: "nharbor vouch shows it, and nothing is read before you have agreed."})
		}
		if out(s.Build) {
			remark(s.At, "is built from", s.Build)
		}
		for _, e := range s.EnvFiles {
			if out(e.Path) {
				remark(e.At, "reads the settings in", e.Path)
			}
		}
		for _, m := range s.Container.Mounts {
			if m.Type == "bind" && out(m.Source) {
				remark(m.At, "mounts", m.Source)
			}
		}
	}
}
