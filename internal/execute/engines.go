package execute

import (
	"maps"
	"slices"

	"nimbleharbor/internal/engine"
)

// Machines are the engines of a launch: Here is that of this machine, nil if nothing runs in
// containers, or all of it elsewhere; Others are the rest by their contexts.
type Machines struct {
	Here   *engine.Engine
	Others map[string]*engine.Engine
}

// on is the engine that a service's containers run on.
func (x *Executor) on(service string) *engine.Engine {
	if e := x.machines.Others[x.Plan().Options.On[service]]; e != nil {
		return e
	}
	return x.machines.Here
}

// Engines are all that the plan uses.
func (x *Executor) Engines() (out []*engine.Engine) {
	if x.machines.Here != nil {
		out = append(out, x.machines.Here)
	}
	for _, name := range slices.Sorted(maps.Keys(x.machines.Others)) {
		out = append(out, x.machines.Others[name])
	}
	return out
}
