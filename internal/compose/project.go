package compose

import (
	"slices"
	"strconv"
	"strings"

	"nimbleharbor/internal/dotenv"
	"nimbleharbor/internal/protocol"
	"nimbleharbor/internal/stack"
)

// Service is one service of the model, typed as far as a launch acts on it.
type Service struct {
	stack.Service
	Active bool     // no profiles, or one of them is active
	Unset  []string // keys without a value, which the environment does not give either
}

// Service returns the service of that name, or nil.
func (p *Project) Service(name string) *Service {
	if i, ok := p.byName[name]; ok {
		return &p.Services[i]
	}
	return nil
}

// decode makes the typed form of the model.
func (p *Project) decode(profiles []string, env dotenv.Lookup) {
	p.byName = map[string]int{}
	p.Networks, p.Volumes = map[string]stack.Network{}, map[string]stack.Volume{}
	for _, m := range p.Model.Get("networks").orEmpty().Members {
		p.Networks[m.Key] = stack.Network{Name: m.Value.Get("name").or(""), External: truth(m.Value.Get("external")),
			Internal: truth(m.Value.Get("internal"))}
	}
	for _, m := range p.Model.Get("volumes").orEmpty().Members {
		p.Volumes[m.Key] = stack.Volume{Name: m.Value.Get("name").or(""), External: truth(m.Value.Get("external"))}
	}
	for _, m := range p.Model.Get("services").orEmpty().Members {
		p.byName[m.Key] = len(p.Services)
		p.Services = append(p.Services, p.service(m, profiles, env))
	}
	// What an active service waits for is active too.
	for changed := true; changed; {
		changed = false
		for i := range p.Services {
			if !p.Services[i].Active {
				continue
			}
			for _, a := range p.Services[i].After {
				if other := p.Service(a.Service); other != nil && !other.Active && !a.Optional {
					other.Active, changed = true, true
				}
			}
		}
	}
}

func (p *Project) service(m Member, profiles []string, env dotenv.Lookup) Service {
	v := m.Value
	settings := len(v.Get("environment").orEmpty().Members)
	s := Service{Service: stack.Service{
		Name: m.Key, Source: stack.FromCompose, Runs: stack.Container, Kind: stack.Lasting,
		Image: v.Get("image").or(""), Command: list(v.Get("command")), Profiles: list(v.Get("profiles")),
		At: stack.Place{File: v.File, Line: m.Line}, Env: make(map[string]string, settings),
		FromFiles: stack.FromFiles{EnvAt: make(map[string]stack.Place, settings),
			EnvLiteral: make(map[string]bool, settings), EnvFrom: map[string]string{}},
		ContainerWay: stack.ContainerWay{Address: m.Key},
	}}
	c := &stack.ContainerSpec{
		Entrypoint: list(v.Get("entrypoint")), WorkingDir: v.Get("working_dir").or(""), User: v.Get("user").or(""),
		ExtraHosts: list(v.Get("extra_hosts")), StopSignal: v.Get("stop_signal").or(""), Init: truth(v.Get("init")),
		ReadOnly: truth(v.Get("read_only")), Privileged: truth(v.Get("privileged")),
		NetworkMode: v.Get("network_mode").or(""),
		Labels:      map[string]string{},
	}
	s.Container = c
	if d, err := ParseDuration(v.Get("stop_grace_period").or("10s")); err == nil {
		c.StopGrace = d.Seconds()
	}
	if b := v.Get("build"); b != nil {
		s.Build = b.Get("context").or(".")
		if c.Inline = b.Get("dockerfile_inline").or(""); c.Inline == "" {
			c.Dockerfile = b.Get("dockerfile").or("Dockerfile")
		}
		c.Target = b.Get("target").or("")
		c.BuildArgs = map[string]string{}
		for _, a := range b.Get("args").orEmpty().Members {
			c.BuildArgs[a.Key] = a.Value.or("")
		}
	}
	for _, e := range v.Get("environment").orEmpty().Members {
		if e.Value.Kind == Null {
			if value, set := env(e.Key); set {
				s.Env[e.Key] = value
			} else {
				s.Unset = append(s.Unset, e.Key)
			}
		} else {
			s.Env[e.Key] = e.Value.Text
			s.EnvLiteral[e.Key] = !e.Value.expanded
			if e.Value.variable != "" {
				s.EnvFrom[e.Key] = e.Value.variable
			}
		}
		s.EnvAt[e.Key] = stack.Place{File: v.File, Line: e.Line}
	}
	for _, e := range v.Get("env_file").orEmpty().Items {
		s.EnvFiles = append(s.EnvFiles, stack.EnvFileRef{Path: e.Get("path").or(""), Required: truth(e.Get("required")),
			Raw: e.Get("format").or("") == "raw", At: e.At()})
	}
	for _, l := range v.Get("labels").orEmpty().Members {
		c.Labels[l.Key] = l.Value.or("")
	}
	for _, n := range v.Get("networks").orEmpty().Members {
		c.Networks = append(c.Networks, n.Key)
		c.Aliases = append(c.Aliases, list(n.Value.Get("aliases"))...)
	}
	c.Hostname = v.Get("hostname").or("")
	for _, name := range []string{c.Hostname, v.Get("container_name").or("")} {
		if name != "" && name != s.Name && !slices.Contains(c.Aliases, name) {
			c.Aliases = append(c.Aliases, name)
		}
	}
	if len(c.Networks) == 0 && c.NetworkMode == "" {
		c.Networks = []string{"default"}
	}
	for _, m := range v.Get("volumes").orEmpty().Items {
		c.Mounts = append(c.Mounts, stack.Mount{Type: m.Get("type").or("volume"), Source: m.Get("source").or(""),
			Target:   m.Get("target").or(""),
			ReadOnly: truth(m.Get("read_only")), At: m.At()})
	}
	for _, port := range v.Get("ports").orEmpty().Items {
		target, _ := strconv.Atoi(port.Get("target").or("0"))
		published := port.Get("published").or("")
		from, _, _ := parseRange(published)
		s.Ports = append(s.Ports, stack.Port{Host: from, Target: target, Transport: port.Get("protocol").or("tcp"),
			Speaks: protocol.OfPort(s.Image, target), HostIP: port.Get("host_ip").or(""), At: port.At()})
	}
	if h := v.Get("healthcheck"); h != nil {
		c.Health = health(h)
	}
	switch r := v.Get("restart").or("no"); r {
	case "no", "false":
	default:
		s.Restart = true
		if rule, times, _ := strings.Cut(r, ":"); rule == "on-failure" {
			s.RestartOnFailure = true
			s.RestartTimes, _ = strconv.Atoi(times)
		}
	}
	if other, ok := strings.CutPrefix(c.NetworkMode, "service:"); ok {
		s.After = append(s.After, stack.After{Service: other, Until: stack.Begun, Because: stack.Declared,
			At: v.Get("network_mode").At(), Reason: "network_mode shares its network"})
	}
	for _, key := range []string{"links", "volumes_from"} {
		for _, item := range v.Get(key).orEmpty().Items {
			other, _, _ := strings.Cut(item.or(""), ":")
			if other == "" || other == "container" || other == s.Name ||
				v.Get("depends_on").orEmpty().Get(other) != nil {
				continue
			}
			s.After = append(s.After, stack.After{Service: other, Until: stack.Begun, Because: stack.Declared,
				At: item.At(), Reason: key + " needs it"})
		}
	}
	for _, d := range v.Get("depends_on").orEmpty().Members {
		a := stack.After{Service: d.Key, Because: stack.Declared, At: stack.Place{File: d.Value.File, Line: d.Line},
			Optional: !truth(d.Value.Get("required"))}
		switch d.Value.Get("condition").or("") {
		case "service_healthy":
			a.Until, a.Reason = stack.Answering, "depends_on asks that it is healthy"
		case "service_completed_successfully":
			a.Until, a.Reason = stack.Finished, "depends_on asks that it has ended well"
		default:
			a.Until, a.Reason = stack.Begun, "depends_on"
		}
		s.After = append(s.After, a)
	}
	s.Active = len(s.Profiles) == 0 ||
		slices.ContainsFunc(s.Profiles, func(p string) bool {
			return slices.Contains(profiles, p) ||
				slices.Contains(profiles, "*")
		})
	return s
}

func health(h *Value) *stack.Health {
	out := &stack.Health{Test: list(h.Get("test"))}
	if truth(h.Get("disable")) {
		out.Test = []string{"NONE"}
	}
	seconds := func(key string) float64 {
		d, err := ParseDuration(h.Get(key).or("0s"))
		if err != nil {
			return 0
		}
		return d.Seconds()
	}
	out.Interval, out.Timeout, out.StartPeriod = seconds("interval"), seconds("timeout"), seconds("start_period")
	out.Retries, _ = strconv.Atoi(h.Get("retries").or("0"))
	return out
}

func list(v *Value) []string {
	if v == nil {
		return nil
	}
	out := make([]string, 0, len(v.Items))
	for _, item := range v.Items {
		out = append(out, item.Text)
	}
	return out
}

func truth(v *Value) bool { return v.or("") == "true" }

// Active is the model without the services of inactive profiles.
func (p *Project) Active() *Value {
	out := p.Model.shallow()
	services := p.Model.Get("services")
	if services == nil {
		return out
	}
	kept := services.shallow()
	kept.Members = slices.DeleteFunc(kept.Members, func(m Member) bool {
		s := p.Service(m.Key)
		return s != nil && !s.Active
	})
	out.Set("services", kept)
	return out
}
