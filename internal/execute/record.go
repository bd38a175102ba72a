package execute

import (
	"nimbleharbor/internal/record"
)

// Services are the services with their processes, states and ports.
func (x State) Services() []record.Service {
	var out []record.Service
	for _, o := range x.Plan().Order.Nodes {
		n := x.at(o.ID)
		if n.svc == nil {
			continue
		}
		l := n.now()
		r := record.Service{Name: n.svc.Name, Runs: n.svc.Runs, Kind: n.svc.Kind, State: l.State,
			Doing: l.Kind, Text: l.Text, Why: l.Why, Ports: n.portsNow()}
		if p, ok := l.Process.(interface{ Group() int }); ok {
			r.PID = p.Group()
		}
		out = append(out, r)
	}
	return out
}

// Steps are the steps that have not come to their aim.
func (x State) Steps() []record.Step {
	out := []record.Step{}
	for _, o := range x.Plan().Order.Nodes {
		n := x.at(o.ID)
		if l := n.now(); n.svc == nil && !l.State.Good() {
			out = append(out, record.Step{ID: n.id, State: l.State, Text: l.Text, Why: l.Why})
		}
	}
	return out
}
