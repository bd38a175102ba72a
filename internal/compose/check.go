package compose

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"nimbleharbor/internal/dotenv"
	"nimbleharbor/internal/stack"
)

// check finds what the services say of things that don't exist, and cycles.
func (p *Project) check() stack.Faults {
	var faults stack.Faults
	fault := func(at stack.Place, code stack.Code, text, remedy string) {
		faults = append(faults, p.fault(at, 0, code, text, remedy))
	}
	services := p.Model.Get("services")
	for _, m := range services.orEmpty().Members {
		s := m.Value
		if s.Kind != Mapping {
			continue // which was said already
		}
		if s.Get("image") == nil && s.Get("build") == nil && s.Get("provider") == nil && s.Get("extends") == nil {
			fault(stack.Place{File: s.File, Line: m.Line}, stack.CodeComposeNoImage,
				fmt.Sprintf("the service %s has neither image nor build", m.Key), "Say what it runs: image: or build:.")
		}
		for _, d := range s.Get("depends_on").orEmpty().Members {
			if services.Get(d.Key) == nil && d.Value.Get("required").or("true") == "true" {
				fault(stack.Place{File: d.Value.File, Line: d.Line}, stack.CodeComposeUndefined,
					fmt.Sprintf("the service %s waits for %s, which no file defines", m.Key, d.Key),
					"Correct the name, or define the service.")
			}
		}
		for _, d := range s.Get("networks").orEmpty().Members {
			if d.Key != "default" && p.Model.Get("networks").Get(d.Key) == nil {
				fault(stack.Place{File: s.File, Line: d.Line}, stack.CodeComposeUndefined,
					fmt.Sprintf("the service %s uses the network %s, which no file defines", m.Key, d.Key),
					"Define it below networks: at the top.")
			}
		}
		for _, section := range []string{"secrets", "configs"} {
			for _, v := range slices.Concat(s.Get(section).orEmpty().Items,
				s.Get("build").Get(section).orEmpty().Items) {
				if name := v.Get("source").or(""); name != "" && p.Model.Get(section).Get(name) == nil {
					fault(v.At(), stack.CodeComposeUndefined,
						fmt.Sprintf("the service %s uses the %s %s, which no file defines", m.Key,
							strings.TrimSuffix(section, "s"), name),
						fmt.Sprintf("Define it below %s: at the top.", section))
				}
			}
		}
		for _, key := range []string{"network_mode", "ipc", "pid"} {
			if other, ok := strings.CutPrefix(s.Get(key).or(""), "service:"); ok && services.Get(other) == nil {
				fault(s.Get(key).At(), stack.CodeComposeUndefined,
					fmt.Sprintf("the %s of the service %s names the service %s, which no file defines", key, m.Key,
						other), "Correct the name, or define the service.")
			}
		}
		if s.Get("network_mode") != nil && s.Get("networks") != nil {
			fault(s.Get("network_mode").At(), stack.CodeComposeConflict,
				fmt.Sprintf("the service %s has both network_mode and networks", m.Key), "Keep one of the two.")
		}
		for _, v := range s.Get("volumes").orEmpty().Items {
			name := v.Get("source").or("")
			if v.Get("type").or("") == "volume" && name != "" && p.Model.Get("volumes").Get(name) == nil {
				fault(v.At(), stack.CodeComposeUndefined,
					fmt.Sprintf("the service %s uses the volume %s, which no file defines", m.Key, name),
					"Define it below volumes: at the top; a folder's path begins with ./ or /.")
			}
		}
	}
	if cycle := dependencyCycle(services); len(cycle) > 0 {
		at := services.Get(cycle[0]).Get("depends_on").At()
		fault(at, stack.CodeComposeCycle, "services wait for each other: "+strings.Join(cycle, " → "),
			"Remove one of these depends_on.")
	}
	return faults
}

// dependencyCycle gives the names along the first cycle of depends_on, its beginning again at the end.
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

// remark names what is read and has no effect on a launch.
func (p *Project) remark() {
	ignored := map[string][]string{} // key: services
	where := map[string]stack.Place{}
	note := func(key, who string, file string, line int) {
		if _, ok := where[key]; !ok {
			where[key] = stack.Place{File: file, Line: line}
		}
		if !slices.Contains(ignored[key], who) {
			ignored[key] = append(ignored[key], who)
		}
	}
	for _, m := range p.Model.Get("services").orEmpty().Members {
		for _, k := range m.Value.Members {
			if !actedOn[k.Key] {
				note(k.Key, m.Key, k.Value.File, k.Line)
				continue
			}
			withoutEffect(k.Key, k.Value, func(key string, v *Value, line int) { note(key, m.Key, v.File, line) })
		}
	}
	for _, section := range []string{"networks", "volumes"} {
		for _, m := range p.Model.Get(section).orEmpty().Members {
			for _, k := range m.Value.orEmpty().Members {
				acted := k.Key == "external" || k.Key == "internal" || k.Key == "name" && truth(m.Value.Get("external"))
				if !acted {
					note(section+"."+k.Key, m.Key, k.Value.File, k.Line)
				}
			}
		}
	}
	for _, top := range []string{"secrets", "configs", "models"} {
		if v := p.Model.Get(top); v != nil && len(ignored[top]) == 0 {
			note(top, "the whole file", v.File, v.Line)
		}
	}
	for _, key := range slices.Sorted(maps.Keys(ignored)) {
		remedy := "Expect the service to run without it."
		text := fmt.Sprintf("%s is read but has no effect on a launch yet (%s)", key, strings.Join(ignored[key], ", "))
		if key == "container_name" {
			text = fmt.Sprintf(
				"container_name is a name inside of the network only: outside containers carry nharbor's own names, "+
					"so that two copies can run side by side (%s)", strings.Join(ignored[key], ", "))
			remedy = "Other services reach it by that name and by the service's."
		}
		p.Remarks = append(p.Remarks, stack.Remark{Level: stack.Note, Code: stack.CodeComposeKeyWithoutEffect,
			At: where[key], Text: text, Remedy: remedy})
	}
	p.clashes()
	p.leaving()
	for _, u := range p.Unset {
		if u.Required {
			continue
		}
		if dotenv.IsSecret(u.Name, "") {
			p.Remarks = append(p.Remarks, stack.Remark{Level: stack.Note, Code: stack.CodeComposeVariableUnset,
				At:     u.At,
				Text:   fmt.Sprintf("the variable %s has no value yet", u.Name),
				Remedy: "nharbor fill makes one up, in the .env file beside the compose file."})
			continue
		}
		p.Remarks = append(p.Remarks, stack.Remark{Level: stack.Warning, Code: stack.CodeComposeVariableUnset, At: u.At,
			Text: fmt.Sprintf("the variable %s has no value; it is taken as empty", u.Name),
			Remedy: fmt.Sprintf("Set %s in the .env file beside the compose file, or give a default: ${%s:-value}.",
				u.Name, u.Name)})
	}
}

// partly are the keys inside of those that a launch obeys that it obeys too. A name of the person's choice
// in between, and the items of a list, are left out of the path.
var partly = map[string]map[string]bool{
	"build":    actedOnBuild,
	"ports":    {"target": true, "published": true, "host_ip": true, "protocol": true, "mode": true, "name": true},
	"volumes":  {"type": true, "source": true, "target": true, "read_only": true, "bind": true},
	"networks": {"aliases": true},
	"healthcheck": {"test": true, "interval": true, "timeout": true, "start_period": true, "retries": true,
		"disable": true},
	"depends_on": {"condition": true, "required": true},
	"env_file":   {"path": true, "required": true, "format": true},
}

// withoutEffect gives the keys inside of one that a launch obeys that it doesn't obey.
func withoutEffect(key string, v *Value, note func(key string, v *Value, line int)) {
	acted, ok := partly[key]
	if !ok {
		return
	}
	parts := []*Value{v}
	switch key {
	case "ports", "volumes", "env_file":
		parts = v.Items
	case "networks", "depends_on":
		parts = nil
		for _, m := range v.Members {
			parts = append(parts, m.Value)
		}
	}
	for _, part := range parts {
		for _, m := range part.orEmpty().Members {
			switch {
			case !acted[m.Key]:
				note(key+"."+m.Key, m.Value, m.Line)
			case m.Key == "bind":
				for _, b := range m.Value.Members {
					if b.Key != "create_host_path" || !truth(b.Value) {
						note("volumes.bind."+b.Key, b.Value, b.Line)
					}
				}
			case key == "ports" && m.Key == "published" && strings.Contains(m.Value.Text, "-"):
				note("the range in ports.published, but for its first port,", m.Value, m.Line)
			}
		}
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
	ends := map[string]bool{} // the services of which others wait for the end: they hold no port for long
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
				if held.service != s.Name && (held.ip == ip || held.ip == "0.0.0.0" || ip == "0.0.0.0") {
					p.Remarks = append(p.Remarks, stack.Remark{Level: stack.Problem, Code: stack.CodePortTwice,
						At: port.At,
						Text: fmt.Sprintf("%s and %s both want port %d of this machine", held.service, s.Name,
							port.Host), Remedy: "Change one of the two published ports."})
				}
			}
			taken[at] = append(taken[at], holder{ip, s.Name})
		}
	}
}

// leaving names what services read or mount from outside of the workspace by a path that leads out of it.
func (p *Project) leaving() {
	out := func(name string) bool { return name == ".." || strings.HasPrefix(name, "../") }
	for i := range p.Services {
		s := &p.Services[i]
		remark := func(at stack.Place, does, name string) {
			p.Remarks = append(p.Remarks, stack.Remark{Level: stack.Warning, Code: stack.CodePathOutside, At: at,
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
