package supervise

import (
	"context"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"strings"
	"time"

	"nimbleharbor/internal/consent"
	"nimbleharbor/internal/engine"
	"nimbleharbor/internal/launch"
	"nimbleharbor/internal/stack"
)

func (x *Executor) prepareEngine(ctx context.Context) error {
	if x.engine == nil {
		return nil
	}
	labels := map[string]string{engine.LabelStack: x.plan().ID}
	// Containers of an earlier launch that nobody could stop would hold names and ports.
	left, err := x.engine.List(ctx, labels)
	if err != nil {
		return err
	}
	for _, c := range left {
		if err := x.engine.Remove(ctx, c.ID); err != nil {
			return err
		}
	}
	return x.ensure(ctx)
}

// ensure makes the networks and volumes that the plan asks for and that are not there yet.
func (x *Executor) ensure(ctx context.Context) error {
	labels := map[string]string{engine.LabelStack: x.plan().ID, engine.LabelRoot: x.plan().Root}
	data := map[string]string{}
	networks := map[string]bool{}
	volumes := map[string]bool{}
	for _, s := range x.plan().Services {
		if s.Runs != stack.Container || s.Container == nil {
			continue
		}
		for _, n := range s.Container.Networks {
			networks[n] = true
		}
		for _, m := range s.Container.Mounts {
			if m.Type == "volume" && m.Source != "" {
				volumes[m.Source] = true
			}
		}
	}
	for n := range networks {
		if spec := x.plan().Networks[n]; !spec.External {
			if err := x.engine.EnsureNetwork(ctx, networkName(x.plan(), n), spec.Internal, labels); err != nil {
				return fmt.Errorf("making the network %s: %w", n, err)
			}
		}
	}
	for v := range volumes {
		if !x.plan().Volumes[v].External {
			id, err := x.engine.EnsureVolume(ctx, volumeName(x.plan().ID, x.plan().Volumes, v), labels)
			if err != nil {
				return fmt.Errorf("making the volume %s: %w", v, err)
			}
			data[v] = id
		}
	}
	x.mu.Lock()
	x.data = data
	x.mu.Unlock()
	return nil
}

func networkName(p *launch.Plan, n string) string {
	if spec := p.Networks[n]; spec.External {
		return first(spec.Name, n)
	}
	return "nharbor-" + p.ID + "-" + n
}

func volumeName(id string, volumes map[string]stack.Volume, v string) string {
	if spec := volumes[v]; spec.External {
		return first(spec.Name, v)
	}
	return "nharbor-" + id + "-" + v
}

func first(a, b string) string {
	if a != "" {
		return a
	}
	return b
}

// healthTest is the command of a container's health check; nil if it has none.
func healthTest(s *launch.Service) []string {
	if s.Runs != stack.Container || s.Container == nil || s.Container.Health == nil ||
		len(s.Container.Health.Test) < 2 {
		return nil
	}
	t := s.Container.Health.Test
	switch t[0] {
	case "CMD":
		return t[1:]
	case "CMD-SHELL":
		return []string{"/bin/sh", "-c", t[1]}
	}
	return nil
}

// awaitHealth runs the health check until it succeeds. The engine runs it too, but only at its
// interval; we need not wait for that.
func (x *Executor) awaitHealth(ctx context.Context, id string, test []string) error {
	for pause := 20 * time.Millisecond; ; pause = min(pause*3/2, time.Second) {
		if code, err := x.engine.Exec(ctx, id, test); err == nil && code == 0 {
			return nil
		}
		if s, err := x.engine.Inspect(ctx, id); err == nil && s.Health == "healthy" {
			return nil
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(pause):
		}
	}
}

// container is what the engine is asked to make for a service.
func (x *Executor) container(s *launch.Service) engine.Spec {
	c := s.Container
	spec := engine.Spec{
		Name: "nharbor-" + x.plan().ID + "-" + s.Name, Image: first(s.ImageTag, s.Image), Entrypoint: c.Entrypoint,
		Command: s.Command, Env: s.Environment,
		WorkingDir: c.WorkingDir, User: c.User, ExtraHosts: c.ExtraHosts, StopSignal: c.StopSignal, Init: c.Init,
		ReadOnly:   c.ReadOnly,
		Privileged: c.Privileged, NetworkMode: c.NetworkMode, StopGrace: seconds(c.StopGrace),
		Labels: map[string]string{},
	}
	if c.NetworkMode == "" { // the engine takes no name for one that shares a network
		spec.Hostname = c.Hostname
	}
	if other, ok := strings.CutPrefix(c.NetworkMode, "service:"); ok {
		spec.NetworkMode = "container:nharbor-" + x.plan().ID + "-" + other
	}
	maps.Copy(spec.Labels, c.Labels)
	// Ours last: by them a container is found again, whatever labels the checkout asks for.
	maps.Copy(spec.Labels, map[string]string{engine.LabelStack: x.plan().ID, engine.LabelService: s.Name,
		engine.LabelRoot: x.plan().Root})
	for _, net := range c.Networks {
		spec.Networks = append(spec.Networks,
			engine.Attach{Network: networkName(x.plan(), net), Aliases: append([]string{s.Name}, c.Aliases...)})
	}
	for _, p := range s.Ports {
		if p.Host > 0 {
			ip := p.HostIP
			if ip == "" && !x.plan().Options.Literal { // a file that names no address hardly means the whole network
				ip = "127.0.0.1"
			}
			spec.Publish = append(spec.Publish, engine.Publish{HostIP: ip, Host: p.Host, Target: p.Target,
				Transport: p.Transport})
		}
	}
	for _, m := range c.Mounts {
		mount := engine.Mount{Type: m.Type, Source: m.Source, Target: m.Target, ReadOnly: m.ReadOnly}
		switch {
		case m.Type == "volume" && m.Source != "":
			mount.Source = volumeName(x.plan().ID, x.plan().Volumes, m.Source)
		case m.Type == "bind":
			mount.Source = hostPath(x.plan().Root, m.Source)
		}
		spec.Mounts = append(spec.Mounts, mount)
	}
	if h := c.Health; h != nil {
		spec.Health = &engine.Health{Test: h.Test, Interval: seconds(h.Interval), Timeout: seconds(h.Timeout),
			StartPeriod: seconds(h.StartPeriod), Retries: h.Retries}
	}
	return spec
}

// linksAsVouched makes sure that every folder that a container sees leads where it led when consent was asked for.
func linksAsVouched(p *launch.Plan, s *launch.Service) error {
	for _, m := range s.Container.Mounts {
		if m.Type != "bind" {
			continue
		}
		if to := consent.Leads(p.Root, m.Source); to != p.Leads[m.Source] {
			return fmt.Errorf("%s leads to %s, outside of the workspace, and nobody has vouched for that", m.Source,
				first(to, "another place than it did"))
		}
	}
	return nil
}

// hostPath is where a folder of a bind mount lies on this machine. One inside the workspace that isn't there
// yet is made, as the short form of the specification asks; elsewhere nothing is ever made.
func hostPath(rootDir, source string) string {
	if rest, ok := strings.CutPrefix(source, "~"); ok {
		if home, err := os.UserHomeDir(); err == nil {
			return filepath.Join(home, filepath.FromSlash(rest))
		}
	}
	if filepath.IsAbs(source) {
		return source
	}
	if filepath.IsLocal(filepath.FromSlash(source)) {
		if root, err := os.OpenRoot(rootDir); err == nil {
			root.MkdirAll(filepath.FromSlash(source), 0o755)
			root.Close()
		}
	}
	return filepath.Join(rootDir, filepath.FromSlash(source))
}

func seconds(s float64) time.Duration { return time.Duration(s * float64(time.Second)) }
