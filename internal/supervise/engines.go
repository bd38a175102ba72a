package supervise

import (
	"maps"
	"slices"

	"nimbleharbor/internal/engine"
)

// on is the engine that a service's containers run on.
func (x *Executor) on(service string) *engine.Engine {
	if e := x.others[x.plan().Options.On[service]]; e != nil {
		return e
	}
	return x.engine
}

// engines are all that the plan uses.
func (x *Executor) engines() (out []*engine.Engine) {
	if x.engine != nil {
		out = append(out, x.engine)
	}
	for _, name := range slices.Sorted(maps.Keys(x.others)) {
		out = append(out, x.others[name])
	}
	return out
}
