package supervise

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net"
	"net/url"
	"slices"

	"nimbleharbor/internal/engine"
	"nimbleharbor/internal/launch"
	"nimbleharbor/internal/stack"
)

// A stack may be spread over several engines: the one that a launch uses by itself, and others by
// the names of their contexts, as launch --on asks for. The empty name is that of the first.

// connectOn connects to the engine of a context. Its error is a *stack.Fault with the code
// engine-unavailable.
func connectOn(ctx context.Context, name string) (*engine.Engine, error) {
	var e *engine.Engine
	var err error
	if name == "" {
		e, err = engine.Connect(ctx)
	} else {
		var c engine.Context
		if c, err = engine.NamedContext(name); err == nil {
			e, err = engine.At(ctx, c.Host)
		}
	}
	if err == nil {
		return e, nil
	}
	f := &stack.Fault{Kind: stack.NotSo, Code: stack.CodeEngineUnavailable, Text: err.Error(),
		Cause: err}
	var u *engine.Unavailable
	if errors.As(err, &u) {
		f.Remedy = u.Remedy()
	}
	if name != "" {
		f.Text = fmt.Sprintf("the engine %s: %s", name, f.Text)
	}
	return nil, f
}

// contextsOf are the contexts over which a launch is spread, without the first.
func contextsOf(opt launch.Options) []string {
	return slices.Compact(slices.Sorted(maps.Values(opt.On)))
}

// everyEngine connects to all engines of a launch that can be reached; the first one's error is
// given, and no other's.
func everyEngine(ctx context.Context, opt launch.Options) ([]*engine.Engine, error) {
	var out []*engine.Engine
	first, err := engine.Connect(ctx)
	if err == nil {
		out = append(out, first)
	}
	for _, name := range contextsOf(opt) {
		if e, err := connectOn(ctx, name); err == nil {
			out = append(out, e)
		}
	}
	return out, err
}

func closeAll(list []*engine.Engine) {
	for _, e := range list {
		e.Close()
	}
}

// Whereabouts tells how the engines of a launch and this machine reach each other. Its error is
// that of connectOn.
func Whereabouts(ctx context.Context, opt launch.Options) (map[string]launch.Where, error) {
	out := map[string]launch.Where{}
	for _, name := range contextsOf(opt) {
		e, err := connectOn(ctx, name)
		if err != nil {
			return nil, err
		}
		u, err := url.Parse(e.Address)
		e.Close()
		if err != nil {
			return nil, err
		}
		w := launch.Where{Host: u.Hostname(), Tunnel: u.Scheme == "ssh"}
		if ips, err := net.LookupIP(w.Host); err == nil && len(ips) > 0 {
			w.Host = ips[0].String()
		}
		if c, err := net.Dial("udp",
			net.JoinHostPort(w.Host, "9")); err == nil { // which sends nothing
			w.Here = c.LocalAddr().(*net.UDPAddr).IP.String()
			c.Close()
		}
		out[name] = w
	}
	return out, nil
}

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
