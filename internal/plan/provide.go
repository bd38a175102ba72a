package plan

import (
	"fmt"
	"slices"
	"strings"

	"nimbleharbor/internal/protocol"
	"nimbleharbor/internal/stack"
)

// Providable reports whether a server that settings point at can be run in a container beside the
// stack.
func Providable(w *stack.Server) bool {
	p := protocol.Named(w.Speaks)
	return p != nil && (p.Beside != nil || w.Image != "" && len(p.Ports) > 0)
}

// Provide adds servers to a stack that settings point at and that nothing of it offers: each as a
// container with the database, the user and the password of the settings, on the very port, waited
// for by the services that want it. The stack given is left as it is. Its error is a *stack.Fault
// with the code not-provided.
func Provide(s *stack.Stack, kinds []string) (*stack.Stack, error) {
	if len(kinds) == 0 {
		return s, nil
	}
	out := *s
	out.Services, out.Servers = slices.Clone(s.Services), slices.Clone(s.Servers)
	out.Volumes = map[string]stack.Volume{}
	for name, v := range s.Volumes {
		out.Volumes[name] = v
	}
	for _, kind := range kinds {
		if slices.ContainsFunc(s.Services, func(v stack.Service) bool {
			return v.Source == stack.FromProvide && v.Ports[0].Speaks == kind
		}) {
			continue // by the mix that this one is made from
		}
		i := slices.IndexFunc(out.Servers, func(w stack.Server) bool { return w.Speaks == kind })
		if i < 0 || !Providable(&out.Servers[i]) {
			var could []string
			for i := range out.Servers {
				if w := &out.Servers[i]; Providable(w) && !slices.Contains(could, w.Speaks) {
					could = append(could, w.Speaks)
				}
			}
			remedy := "Nothing of the kind is wanted here: no setting points at a server that " +
				"the stack lacks."
			if len(could) > 0 {
				remedy = "What could be provided: " + strings.Join(could, ", ")
			}
			return nil, &stack.Fault{Kind: stack.WrongCall, Code: stack.CodeNotProvided,
				Text: fmt.Sprintf("no %s can be provided", kind), Remedy: remedy}
		}
		for _, port := range portsOf(out.Servers, kind) {
			provide(&out, kind, port)
		}
	}
	return &out, nil
}

// portsOf are those on which servers of a kind are wanted.
func portsOf(servers []stack.Server, kind string) (out []int) {
	for _, w := range servers {
		if w.Speaks == kind && !slices.Contains(out, w.Port) {
			out = append(out, w.Port)
		}
	}
	return out
}

// provide adds the server of one port.
func provide(s *stack.Stack, kind string, port int) {
	known := protocol.Named(kind)
	var wants []stack.Server
	s.Servers = slices.DeleteFunc(s.Servers, func(w stack.Server) bool {
		ours := w.Speaks == kind && w.Port == port
		if ours {
			wants = append(wants, w)
		}
		return ours
	})
	w := wants[0]
	for _, other := range wants { // one may say less than another
		w.Database, w.User, w.Password = either(w.Database, other.Database), either(w.User,
			other.User),
			either(w.Password, other.Password)
		if w.Image == "" {
			w.Image = other.Image
		}
	}
	name := kind
	for n := 2; s.Service(name) != nil; n++ {
		name = fmt.Sprintf("%s-%d", kind, n)
	}
	image, data := w.Image, ""
	if known.Beside != nil {
		image, data = either(image, known.Beside.Image), known.Beside.Data
	}
	svc := stack.Service{Name: name, Source: stack.FromProvide, Runs: stack.Container,
		Kind: stack.Lasting, Image: image,
		Env: known.Environment(w.User, w.Database, w.Password), At: w.At,
		Ports: []stack.Port{{Host: port, Target: known.Ports[0], Transport: "tcp", Speaks: kind,
			HostIP: "127.0.0.1", At: w.At}}, ContainerWay: stack.ContainerWay{Address: name,
			Container: &stack.ContainerSpec{Networks: []string{"default"}, StopGrace: 10}}}
	if data != "" {
		volume := "provided-" + name
		s.Volumes[volume] = stack.Volume{}
		svc.Container.Mounts = []stack.Mount{{Type: "volume", Source: volume, Target: data,
			At: w.At}}
	}
	s.Services = append(s.Services, svc)
	for _, want := range wants {
		reader := s.Service(want.For)
		if reader == nil {
			continue
		}
		reader.After = append(slices.Clone(reader.After),
			stack.After{Service: name, Until: stack.Answering,
				Because: stack.Inferred, At: want.At, Reason: fmt.Sprintf("%s:%d points at it (%s)",
					want.At.File, want.At.Line, want.Key)})
	}
}

func either(a, b string) string {
	if a != "" {
		return a
	}
	return b
}
