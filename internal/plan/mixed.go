package plan

import (
	"fmt"
	"slices"

	"nimbleharbor/internal/stack"
)

// Options are what a person asks of a launch.
type Options struct {
	Services  []string
	Except    []string
	Native    []string // services to run natively
	Container []string // services to run in a container
	Shift     int      // added to every published port
	// On are the services that run on other engines, with the contexts of those.
	On         map[string]string
	Provide    []string // servers to run beside the stack, by what they speak
	Fixed      bool     // the ports stay where they are, even where another stack of ours has them
	Literal    bool
	Background bool
	Halt       bool // stop starting things at the first failure
}

// Mixed is a stack as it is to be launched, beside the survey that it was made from: settings are
// written in the terms of that one.
type Mixed struct {
	Survey, Stack *stack.Stack
	// Engines are the contexts over which the services are spread; empty where there is one engine.
	Engines map[string]Where
}

// Where is how an engine on another machine and this one reach each other.
type Where struct {
	Host   string // the engine's machine, as seen from here
	Here   string // this machine, as seen from there
	Tunnel bool   // its own ports are published on its loopback, and led here
}

// Mix turns a survey into the stack that is to be launched: it moves services between container and
// machine as asked, and shifts the ports. The survey is left as it is. Its error is a *stack.Fault
// with the code shift-too-far, not-native or not-container.
func Mix(s *stack.Stack, opt Options) (*Mixed, error) {
	out := *s
	out.Services = slices.Clone(s.Services)
	for i := range out.Services {
		svc := &out.Services[i]
		if svc.Ports = slices.Clone(svc.Ports); svc.Kind == stack.Once {
			// a job is asked nothing, and may have its ports in common with a server
			svc.Ports = nil
		}
		if err := shift(svc, opt.Shift); err != nil {
			return nil, err
		}
	}
	for _, name := range opt.Native {
		if err := toNative(out.Service(name)); err != nil {
			return nil, err
		}
	}
	for _, name := range opt.Container {
		if err := toContainer(out.Service(name)); err != nil {
			return nil, err
		}
	}
	for name, context := range opt.On {
		svc := out.Service(name)
		if svc == nil || svc.Runs != stack.Container {
			return nil, &stack.Fault{Kind: stack.WrongCall, Code: stack.CodeNotContainer,
				Text: fmt.Sprintf("%s can't run on the engine %s: no container of that name is "+
					"launched here", name, context), Remedy: "See what there is: nharbor survey"}
		}
	}
	return &Mixed{Survey: s, Stack: &out}, nil
}

func shift(svc *stack.Service, by int) error {
	for k := range svc.Ports {
		p := &svc.Ports[k]
		if p.Host == 0 {
			continue
		}
		if p.Host += by; p.Host < 1 || p.Host > 65535 {
			return &stack.Fault{Kind: stack.WrongCall, Code: stack.CodeShiftTooFar,
				Text: fmt.Sprintf("--shift %d moves a port of %s to %d, which is no port", by,
					svc.Name, p.Host), Remedy: "Choose a smaller shift."}
		}
		if p.HostTo > 0 {
			p.HostTo = min(65535, p.HostTo+by)
		}
		if svc.Runs == stack.Native {
			p.Target = p.Host
		}
	}
	return nil
}

// toNative lets a service run on the machine itself. One that there is not is named by order.Build.
func toNative(svc *stack.Service) error {
	if svc == nil || svc.Runs == stack.Native {
		return nil
	}
	if len(svc.NativeCommand) == 0 {
		return &stack.Fault{Kind: stack.WrongCall, Code: stack.CodeNotNative, At: svc.At,
			Text: fmt.Sprintf("%s can't run natively: no project with a serve command belongs "+
				"to it", svc.Name),
			Remedy: "Only a service that is built from a project of the workspace can."}
	}
	svc.Runs, svc.Command, svc.Address = stack.Native, slices.Clone(svc.NativeCommand), ""
	for k := range svc.Ports {
		svc.Ports[k].Target = svc.Ports[k].Host
	}
	return nil
}

// toContainer lets a service run in a container.
func toContainer(svc *stack.Service) error {
	if svc == nil || svc.Runs != stack.Native {
		return nil
	}
	if svc.Container == nil || svc.Build == "" {
		return &stack.Fault{Kind: stack.WrongCall, Code: stack.CodeNotContainer, At: svc.At,
			Text: fmt.Sprintf("%s can't run in a container: no compose service and no "+
				"Dockerfile stands for it", svc.Name),
			Remedy: "Describe it in the compose file, or add a Dockerfile to its folder."}
	}
	svc.Runs, svc.Command, svc.Address = stack.Container, nil, svc.Name
	if svc.ContainerPort > 0 && len(svc.Ports) > 0 {
		svc.Ports[0].Target = svc.ContainerPort
	}
	return nil
}
