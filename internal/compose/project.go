package compose

import (
	"fmt"
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
		p.Networks[m.Key] = p.network(m)
	}
	for _, m := range p.Model.Get("volumes").orEmpty().Members {
		p.Volumes[m.Key] = p.volume(m)
	}
	for _, m := range p.Model.Get("services").orEmpty().Members {
		p.byName[m.Key] = len(p.Services)
		p.Services = append(p.Services, p.service(m, profiles, env))
	}
	p.sameImages()
	p.withoutNone()
	// What an active service waits for is active too.
	for changed := true; changed; {
		changed = false
		for i := range p.Services {
			if !p.Services[i].Active {
				continue
			}
			for _, a := range p.Services[i].After {
				if other := p.Service(a.Service); other != nil && !other.Active && !a.Optional &&
					!other.none() {
					other.Active, changed = true, true
					p.Remarks = append(p.Remarks,
						stack.Remark{Level: stack.Note, Code: stack.CodeServiceSwitchedOn,
							At: a.At, Text: fmt.Sprintf("%s belongs to the profile %s, which is "+
								"not active, but %s needs it; "+
								"it belongs to the launch", other.Name, strings.Join(other.Profiles,
								", "), p.Services[i].Name)})
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
		Image: v.Get("image").or(""), Command: list(v.Get("command")),
		Profiles: list(v.Get("profiles")),
		At:       stack.Place{File: v.File, Line: m.Line}, Env: make(map[string]string, settings),
		FromFiles: stack.FromFiles{EnvAt: make(map[string]stack.Place, settings),
			EnvBehind: map[string]bool{}, EnvFrom: map[string]string{}},
		ContainerWay: stack.ContainerWay{Address: m.Key},
	}}
	c := p.container(m.Key, v, env)
	s.Container = c
	if b := v.Get("build"); b != nil && c.Remote == "" {
		s.Build = b.Get("context").or(".")
	}
	s.environment(v, env)
	for _, e := range v.Get("env_file").orEmpty().Items {
		s.EnvFiles = append(s.EnvFiles,
			stack.EnvFileRef{Path: e.Get("path").or(""), Required: truth(e.Get("required")),
				Raw: e.Get("format").or("") == "raw", At: e.At()})
	}
	s.Ports = portsOf(v, s.Image)
	s.Restarts = restarts(v)
	s.After = waitsOf(v, s.Name)
	s.Active = len(s.Profiles) == 0 || slices.ContainsFunc(s.Profiles, func(p string) bool {
		return slices.Contains(profiles, p) || slices.Contains(profiles, "*")
	})
	return s
}

// environment keeps the variables of a service, with where each comes from. One without a value is
// the shell's, if that has it.
func (s *Service) environment(v *Value, env dotenv.Lookup) {
	for _, e := range v.Get("environment").orEmpty().Members {
		value, set := env(e.Key)
		switch {
		case e.Value.Kind != Null:
			s.Env[e.Key] = e.Value.Text
			if e.Value.expanded {
				s.EnvBehind[e.Key] = true
			}
			if e.Value.variable() != "" {
				s.EnvFrom[e.Key] = e.Value.variable()
			}
		case set:
			s.Env[e.Key], s.EnvBehind[e.Key] = value, true
		default:
			s.Unset = append(s.Unset, e.Key)
		}
		s.EnvAt[e.Key] = stack.Place{File: e.Value.File, Line: e.Line}
	}
}

// portsOf are the ports that a service publishes.
func portsOf(v *Value, image string) (out []stack.Port) {
	for _, port := range v.Get("ports").orEmpty().Items {
		target, _ := strconv.Atoi(port.Get("target").or("0"))
		published := port.Get("published").or("")
		from, to, _ := parseRange(published)
		if to == from {
			to = 0
		}
		speaks := protocol.OfPort(image, target)
		if said := protocol.Named(port.Get("app_protocol").or("")); said != nil {
			speaks = said.Name
		}
		out = append(out, stack.Port{Host: from, HostTo: to, Target: target,
			Transport: port.Get("protocol").or("tcp"), Speaks: speaks,
			HostIP: port.Get("host_ip").or(""), At: port.At()})
	}
	return out
}

// waitsOf are the services that one waits for: whose network or processes it shares, whom it links
// to or takes volumes from, and whom it says that it depends on.
func waitsOf(v *Value, name string) (out []stack.After) {
	for _, key := range []string{"network_mode", "pid", "ipc"} {
		if other, ok := strings.CutPrefix(v.Get(key).or(""), "service:"); ok {
			out = append(out, stack.After{Service: other, Until: stack.Begun,
				Because: stack.Declared,
				At:      v.Get(key).At(), Reason: key + " shares what that one has"})
		}
	}
	for _, key := range []string{"links", "volumes_from"} {
		for _, item := range v.Get(key).orEmpty().Items {
			other, _, _ := strings.Cut(item.or(""), ":")
			if other == "" || other == "container" || other == name ||
				v.Get("depends_on").orEmpty().Get(other) != nil {
				continue
			}
			out = append(out, stack.After{Service: other, Until: stack.Begun,
				Because: stack.Declared, At: item.At(), Reason: key + " needs it"})
		}
	}
	for _, d := range v.Get("depends_on").orEmpty().Members {
		a := stack.After{Service: d.Key, Because: stack.Declared,
			At:       stack.Place{File: d.Value.File, Line: d.Line},
			Optional: !truth(d.Value.Get("required"))}
		switch d.Value.Get("condition").or("") {
		case "service_healthy":
			a.Until, a.Reason = stack.Answering, "depends_on asks that it is healthy"
		case "service_completed_successfully":
			a.Until, a.Reason = stack.Finished, "depends_on asks that it has ended well"
		default:
			a.Until, a.Reason = stack.Begun, "depends_on"
		}
		out = append(out, a)
	}
	return out
}

// none reports whether the files ask for no container of the service.
func (s *Service) none() bool { return s.Container.Replicas != nil && *s.Container.Replicas == 0 }

// withoutNone leaves out the services of which no container is asked for, and lets nobody wait for
// them.
func (p *Project) withoutNone() {
	for i := range p.Services {
		s := &p.Services[i]
		if s.none() && s.Active {
			s.Active = false
			p.Remarks = append(p.Remarks,
				stack.Remark{Level: stack.Note, Code: stack.CodeServiceScaledToNone, At: s.At,
					Text:   fmt.Sprintf("%s is not launched: its scale is 0", s.Name),
					Remedy: "Give it a scale of 1 in an override file to have it."})
		}
		s.After = slices.DeleteFunc(s.After, func(a stack.After) bool {
			other := p.Service(a.Service)
			return other != nil && other.none()
		})
	}
}

// sameImages lets services that name the image which another one builds be built in the same way:
// nobody else has it.
func (p *Project) sameImages() {
	builders := map[string]*Service{}
	for i := range p.Services {
		if s := &p.Services[i]; s.Image != "" && (s.Build != "" || s.Container.Remote != "") &&
			builders[s.Image] == nil {
			builders[s.Image] = s
		}
	}
	for i := range p.Services {
		s := &p.Services[i]
		if from := builders[s.Image]; from != nil && s.Build == "" && s.Container.Remote == "" {
			s.Build, s.Container.Building = from.Build, from.Container.Building
		}
	}
}

// restarts tells when a service is started again: by restart, else by what deploy says.
func restarts(v *Value) (out stack.Restarts) {
	policy := v.Get("deploy").Get("restart_policy")
	if v.Get("restart") == nil && policy != nil {
		condition := policy.Get("condition").or("any")
		return stack.Restarts{Restart: condition != "none",
			RestartOnFailure: condition == "on-failure",
			RestartTimes:     int(whole64(policy.Get("max_attempts")))}
	}
	rule, times, _ := strings.Cut(v.Get("restart").or("no"), ":")
	out.Restart, out.RestartOnFailure = rule != "no", rule == "on-failure"
	out.RestartTimes, _ = strconv.Atoi(times)
	return out
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
	out.StartInterval = seconds("start_interval")
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
