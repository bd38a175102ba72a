// Package engines connects to the engines of a launch.
package engines

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net"
	"net/url"
	"slices"

	"nimbleharbor/internal/engine"
	"nimbleharbor/internal/plan"
	"nimbleharbor/internal/stack"
)

// A stack may be spread over several engines: the one that a launch uses by itself, and others by
// the names of their contexts, as launch --on asks for. The empty name is that of the first.

// On connects to the engine of a context. Its error is a *stack.Fault with the code
// engine-unavailable.
func On(ctx context.Context, name string) (*engine.Engine, error) {
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

// Contexts are the contexts over which a launch is spread, without the first.
func Contexts(opt plan.Options) []string {
	return slices.Compact(slices.Sorted(maps.Values(opt.On)))
}

// All connects to all engines of a launch that can be reached; the first one's error is
// given, and no other's.
func All(ctx context.Context, opt plan.Options) ([]*engine.Engine, error) {
	var out []*engine.Engine
	first, err := engine.Connect(ctx)
	if err == nil {
		out = append(out, first)
	}
	for _, name := range Contexts(opt) {
		if e, err := On(ctx, name); err == nil {
			out = append(out, e)
		}
	}
	return out, err
}

// Close closes connections.
func Close(list []*engine.Engine) {
	for _, e := range list {
		e.Close()
	}
}

// Whereabouts tells how the engines of a launch and this machine reach each other. Its error is
// that of On.
func Whereabouts(ctx context.Context, opt plan.Options) (map[string]plan.Where, error) {
	out := map[string]plan.Where{}
	for _, name := range Contexts(opt) {
		e, err := On(ctx, name)
		if err != nil {
			return nil, err
		}
		u, err := url.Parse(e.Address)
		e.Close()
		if err != nil {
			return nil, err
		}
		w := plan.Where{Host: u.Hostname(), Tunnel: u.Scheme == "ssh"}
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
