package survey

import (
	"cmp"
	"slices"

	"nimbleharbor/internal/claim"
	"nimbleharbor/internal/demand"
	"nimbleharbor/internal/stack"
)

// sure says of each conclusion how it is known. What no file says is only usual: a command by which
// a framework is usually served, a migration that a framework usually has, a port that no line
// names, an edge to the one server here that a driver could be for. What a README tells to do is
// said, whoever concluded it first.
func (s *knowing) sure() {
	told := map[stack.Doer]bool{} // what READMEs' commands come to, by node
	for _, d := range s.Stack.Readme {
		told[d.By] = true
	}
	for i := range s.Stack.Services {
		v := &s.Stack.Services[i]
		v.Sure = said(v.Source != stack.FromFramework || told[demand.Service(v.Name)] ||
			s.Witness(v.At, 0) == claim.Correction)
		for k := range v.Ports {
			v.Ports[k].Sure = s.surePort(v, &v.Ports[k])
		}
		for k := range v.After {
			v.After[k].Sure = cmp.Or(v.After[k].Sure, stack.Said)
		}
	}
	for i := range s.Stack.Projects {
		for k := range s.Stack.Projects[i].Steps {
			st := &s.Stack.Projects[i].Steps[k]
			// a manifest is there for its packages to be installed
			st.Sure = said(st.Role == stack.Install || len(st.Expands) > 0 ||
				told[stack.ByNode(stack.StepNode(st.ID))] ||
				slices.Contains(tellSteps, s.Witness(st.At, 0)))
		}
	}
	for i := range s.Stack.EnvFiles {
		e := &s.Stack.EnvFiles[i]
		e.Sure = said(e.Present || e.Template != "" || !e.WantedAt.IsZero())
	}
}

// said is how sure what is that a file says, or that is only usual.
func said(is bool) stack.Sure {
	if is {
		return stack.Said
	}
	return stack.Usual
}

// tellSteps are the witnesses that have commands of their own, and not packages from which a
// command would follow.
var tellSteps = []stack.Witness{claim.Correction, claim.Compose, claim.Procfile, claim.Task,
	claim.Readme, claim.Develop, claim.Workflow}

// surePort is how one knows a port.
func (s *knowing) surePort(v *stack.Service, p *stack.Port) stack.Sure {
	if v.Runs == stack.Container {
		return claim.Sure(s.Witness(p.At, 0))
	}
	if seen := s.ports.Seen(v); p.Said != 0 || seen != nil && seen.Port == p.Host {
		return stack.Seen
	}
	if c, ok := s.ports.Claims(v).Counts(); ok && c.Value == p.Host {
		return claim.Sure(c.Witness)
	}
	return claim.Sure(s.Witness(p.At, p.Host))
}
