package execute

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"nimbleharbor/internal/consent"
	"nimbleharbor/internal/engine"
	"nimbleharbor/internal/logs"
	"nimbleharbor/internal/plan"
	"nimbleharbor/internal/run"
	"nimbleharbor/internal/stack"
)

func (x containers) prepareEngine(ctx context.Context) error {
	labels := map[string]string{engine.LabelStack: x.Plan().ID}
	// Containers of an earlier launch that nobody could stop would hold names and ports.
	for _, e := range x.Engines() {
		left, err := e.List(ctx, labels)
		if err != nil {
			return err
		}
		for _, c := range left {
			if err := e.Remove(ctx, c.ID); err != nil {
				return err
			}
		}
	}
	return x.ensure(ctx)
}

// ensure makes the networks and volumes that the plan asks for and that are not there yet, each on
// the engine of the services that use it.
func (x containers) ensure(ctx context.Context) error {
	labels := map[string]string{engine.LabelStack: x.Plan().ID, engine.LabelRoot: x.Plan().Root}
	data := map[string]string{}
	type place struct {
		on   *engine.Engine
		name string
	}
	networks, volumes := map[place]bool{}, map[place]bool{}
	for _, s := range x.Plan().Services {
		if s.Runs != stack.Container || s.Container == nil {
			continue
		}
		on := x.on(s.Name)
		for _, n := range s.Container.Networks {
			networks[place{on, n}] = true
		}
		for _, m := range s.Container.Mounts {
			if m.Type == "volume" && m.Source != "" {
				volumes[place{on, m.Source}] = true
			}
		}
	}
	for n := range networks {
		if spec := x.Plan().Networks[n.name]; !spec.External {
			if err := n.on.EnsureNetwork(ctx, networkName(x.Plan(), n.name), spec,
				labels); err != nil {
				return fmt.Errorf("making the network %s: %w", n.name, err)
			}
		}
	}
	for v := range volumes {
		if spec := x.Plan().Volumes[v.name]; !spec.External {
			id, err := v.on.EnsureVolume(ctx, volumeName(x.Plan().ID, x.Plan().Volumes, v.name),
				spec, labels)
			if err != nil {
				return fmt.Errorf("making the volume %s: %w", v.name, err)
			}
			data[v.name] = id
		}
	}
	x.mu.Lock()
	x.data = data
	x.mu.Unlock()
	return nil
}

func networkName(p *plan.Plan, n string) string {
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

// healthTest is the command of a container's health check; nil if it has none. That of its image
// counts where there is no port to ask: who made the image did not know what the application makes
// of it.
func (x containers) healthTest(ctx context.Context, svc *plan.Service, proc run.Process) []string {
	c, ok := proc.(*run.Container)
	if !ok || svc.Container == nil || svc.Container.Health == nil && slices.ContainsFunc(svc.Ports,
		func(p stack.Port) bool { return p.Host > 0 && p.Transport == "tcp" }) {
		return nil
	}
	s, err := c.Engine().Inspect(ctx, c.ID)
	if err != nil || len(s.Test) < 2 {
		return nil
	}
	switch s.Test[0] {
	case "CMD":
		return s.Test[1:]
	case "CMD-SHELL":
		return []string{"/bin/sh", "-c", s.Test[1]}
	}
	return nil
}

// awaitHealth runs the health check until it succeeds. The engine runs it too, but only at its
// interval; we need not wait for that.
func awaitHealth(ctx context.Context, e *engine.Engine, id string, test []string) error {
	for pause := 20 * time.Millisecond; ; pause = min(pause*3/2, time.Second) {
		if code, err := e.Exec(ctx, id, test); err == nil && code == 0 {
			return nil
		}
		if s, err := e.Inspect(ctx, id); err == nil && s.Health == "healthy" {
			return nil
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(pause):
		}
	}
}

// healthSays is what a health check that fails has to say, its last line.
func (x containers) healthSays(proc run.Process, test []string) string {
	c, ok := proc.(*run.Container)
	if !ok {
		return ""
	}
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	var out strings.Builder
	code, err := c.Engine().Hook(ctx, c.ID, stack.Hook{Command: test}, &out)
	if err != nil || code == 0 {
		return ""
	}
	lines := strings.Split(strings.TrimSpace(out.String()), "\n")
	said := fmt.Sprintf(": it ends with %d", code)
	if last := lines[len(lines)-1]; last != "" {
		said += ", and says: " + last
	}
	return said
}

// startContainers makes and starts the containers of a service: one, or as many as the files ask
// for.
func (x containers) startContainers(ctx context.Context, s *plan.Service,
	log *logs.Log) (run.Process, error) {
	count := 1
	if s.Container.Replicas != nil {
		count = max(1, *s.Container.Replicas)
	}
	var specs []run.ContainerSpec
	for i := range count {
		spec, err := x.container(s, i)
		if err != nil {
			return nil, err
		}
		specs = append(specs, spec)
	}
	proc, err := run.StartContainers(ctx, x.on(s.Name), specs, log.Stream)
	if named := s.Container.Named; named != "" && engine.IsConflict(err) && specs[0].Name == named {
		// The name is somebody else's, whom we leave alone; ours is found by the others all the
		// same.
		specs[0].Name = x.ownName(s.Name)
		log.Line(fmt.Sprintf("another container is called %s already, so that this one is "+
			"called %s", named, specs[0].Name))
		proc, err = run.StartContainers(ctx, x.on(s.Name), specs, log.Stream)
	}
	if err != nil {
		return nil, err
	}
	if x.on(s.Name).Remote {
		x.forward(s, proc, log)
	}
	return proc, nil
}

// forward lets the ports of a service on another machine be reached at this one's loopback, as long
// as it runs.
func (x containers) forward(s *plan.Service, proc run.Process, log *logs.Log) {
	ctx, cancel := context.WithCancel(context.Background())
	go func() {
		<-proc.Done()
		cancel()
	}()
	for _, p := range s.Ports {
		if p.Host == 0 || p.Transport != "tcp" {
			continue
		}
		if err := x.on(s.Name).Forward(ctx, p.Host); err != nil {
			log.Line(fmt.Sprintf("port %d of the engine's machine can't be led to this one's: %v",
				p.Host, err))
		}
	}
	for _, m := range s.Container.Mounts {
		if m.Type == "bind" && filepath.IsLocal(filepath.FromSlash(m.Source)) {
			log.Line(fmt.Sprintf("the engine is on another machine: %s went along as it is now, "+
				"and later changes are not seen there", m.Source))
		}
	}
}

func (x containers) ownName(service string) string {
	return "nharbor-" + x.Plan().ID + "-" + service
}

// container is what the engine is asked to make for a service, the index-th of its containers.
func (x containers) container(s *plan.Service, index int) (run.ContainerSpec, error) {
	c, p := s.Container, x.Plan()
	out := run.ContainerSpec{PostStart: c.PostStart, PreStop: c.PreStop}
	spec := &out.Spec
	*spec = engine.Spec{
		Name: x.ownName(s.Name), Image: first(s.ImageTag,
			s.Image), Platform: c.Platform, Entrypoint: c.Entrypoint,
		Command: s.Command, Env: s.Environment, WorkingDir: c.WorkingDir, User: c.User,
		Hostname:   c.Hostname,
		StopSignal: c.StopSignal, StopGrace: seconds(c.StopGrace), Health: c.Health,
		Confinement: c.Confinement,
		Labels:      map[string]string{},
	}
	switch {
	case index > 0:
		spec.Name += fmt.Sprintf("-%d", index+1)
	case c.Named != "" && p.Shift == 0: // a second copy is shifted, and has to be called otherwise
		spec.Name = c.Named
	}
	if err := x.readFor(&out, c); err != nil {
		return out, err
	}
	maps.Copy(spec.Labels, c.Labels)
	// Ours last: by them a container is found again, whatever labels the checkout asks for.
	maps.Copy(spec.Labels, map[string]string{engine.LabelStack: p.ID, engine.LabelService: s.Name,
		engine.LabelRoot: p.Root})
	if err := x.shareWith(spec, c); err != nil {
		return out, err
	}
	if err := x.attach(spec, s); err != nil {
		return out, err
	}
	spec.ExtraHosts = append(slices.Clone(spec.ExtraHosts), s.Across...)
	spec.Publish = append(spec.Publish, x.published(s, index)...)
	for _, m := range c.Mounts {
		if err := x.mount(&out, s, m); err != nil {
			return out, err
		}
	}
	changed, err := x.watching().initial(s)
	if err != nil {
		return out, err
	}
	out.Files = append(out.Files, changed...)
	if socket, ok := strings.CutPrefix(x.on(s.Name).Address, "unix://"); ok && c.EngineSocket {
		spec.Mounts = append(spec.Mounts,
			stack.Mount{Type: "bind", Source: socket, Target: "/var/run/docker.sock"})
	}
	return out, nil
}

// published are the ports of this machine that lead to a container; of several of a service, each
// has the next one.
func (x containers) published(s *plan.Service, index int) (out []engine.Publish) {
	if index == 0 {
		for _, p := range s.Exposed {
			out = append(out,
				engine.Publish{HostIP: p.HostIP, Host: p.Host, Target: p.Target, Transport: "tcp"})
		}
	}
	for _, port := range s.Ports {
		if port.Host == 0 || index > 0 && port.Host+index > port.HostTo {
			continue // one port of this machine leads to one container
		}
		ip := port.HostIP
		if ip == "" && !x.Plan().Options.Literal {
			// a file that names no address hardly means the whole network
			ip = x.on(s.Name).PublishIP()
		}
		out = append(out, engine.Publish{HostIP: ip, Host: port.Host + index, Target: port.Target,
			Transport: port.Transport})
	}
	return out
}

// mount adds a mount of a service. A folder here can't be seen by an engine elsewhere: its files go
// along, as they are now.
func (x containers) mount(out *run.ContainerSpec, s *plan.Service, m stack.Mount) error {
	p, remote := x.Plan(), x.on(s.Name).Remote
	switch {
	case m.Type == "volume" && m.Source != "":
		m.Source = volumeName(p.ID, p.Volumes, m.Source)
	case m.Type != "bind":
	case remote && filepath.IsLocal(filepath.FromSlash(m.Source)):
		files, volume, err := x.along(m)
		if err != nil {
			return err
		}
		out.Files = append(out.Files, files...)
		if volume {
			out.Spec.Mounts = append(out.Spec.Mounts, stack.Mount{Type: "volume", Target: m.Target})
		}
		return nil
	case remote:
		m.Source = strings.TrimPrefix(m.Source, "~") // a folder of the engine's own machine
	default:
		source, err := hostPath(p.Root, m.Source, !m.MustExist)
		if err != nil {
			return err
		}
		m.Source = source
	}
	out.Spec.Mounts = append(out.Spec.Mounts, m)
	return nil
}

// shareWith puts a container into the namespaces of others, as it asks.
func (x containers) shareWith(spec *engine.Spec, c *stack.ContainerSpec) error {
	spec.NetworkMode = c.NetworkMode
	for _, mode := range []*string{&spec.NetworkMode, &spec.PID, &spec.IPC} {
		other, ok := strings.CutPrefix(*mode, "service:")
		if !ok {
			continue
		}
		id, err := x.containerOf(other)
		switch {
		case err != nil:
			return err
		case id == "": // it runs on this machine itself
			*mode = "host"
		default:
			*mode = "container:" + id
		}
	}
	if strings.HasPrefix(spec.NetworkMode,
		"container:") { // the engine takes no name for one that shares a network
		spec.Hostname, spec.Domainname, spec.DNS, spec.ExtraHosts = "", "", nil, nil
	}
	for _, from := range c.VolumesFrom {
		if rest, ok := strings.CutPrefix(from, "container:"); ok {
			spec.VolumesFrom = append(spec.VolumesFrom, rest)
			continue
		}
		other, way, _ := strings.Cut(from, ":")
		id, err := x.containerOf(other)
		if err != nil {
			return err
		}
		if id == "" {
			return fmt.Errorf("it takes the volumes of %s, which runs on this machine itself "+
				"and has none", other)
		}
		spec.VolumesFrom = append(spec.VolumesFrom, strings.TrimSuffix(id+":"+way, ":"))
	}
	return nil
}

// containerOf is the id of a service's container; empty for one that runs natively.
func (x containers) containerOf(service string) (string, error) {
	n := x.at(stack.ServiceNode(service))
	if n == nil || n.svc == nil {
		return "", fmt.Errorf("it needs the container of %s, which does not take part", service)
	}
	if n.svc.Runs != stack.Container {
		return "", nil
	}
	if c, ok := n.now().Process.(*run.Container); ok {
		return c.ID, nil
	}
	return "", fmt.Errorf("it needs the container of %s, which does not run", service)
}

// across is the address at which a service finds another one that is on another engine; empty for
// one on its own.
func across(s *plan.Service, other string) string {
	for _, kv := range s.Across {
		if name, ip, _ := strings.Cut(kv, "="); name == other {
			return ip
		}
	}
	return ""
}

// attach puts a container into its networks, under all of its names.
func (x containers) attach(spec *engine.Spec, s *plan.Service) error {
	c := s.Container
	links := slices.Clone(c.ExternalLinks)
	for _, l := range c.Links {
		other, alias, ok := strings.Cut(l, ":")
		if !ok || alias == other {
			continue // it is found by its own name
		}
		if ip := across(s, other); ip != "" {
			spec.ExtraHosts = append(slices.Clone(spec.ExtraHosts), alias+"="+ip)
			continue
		}
		id, err := x.containerOf(other)
		if err != nil {
			return err
		}
		if id == "" {
			spec.ExtraHosts = append(slices.Clone(spec.ExtraHosts), alias+"=host-gateway")
			continue
		}
		links = append(links, id[:min(12, len(id))]+":"+alias) // by which the network knows it
	}
	for _, net := range c.Networks {
		at := engine.Attach{Network: networkName(x.Plan(), net), Links: links,
			Attach: c.Attached[net]}
		names := append([]string{s.Name}, at.Aliases...)
		for _, other := range []string{c.Hostname, c.Named} {
			if other != "" && !slices.Contains(names, other) {
				names = append(names, other)
			}
		}
		at.Aliases = names
		spec.Networks = append(spec.Networks, at)
	}
	return nil
}

// linksAsVouched makes sure that every folder that a container sees leads where it led when consent
// was asked for.
func linksAsVouched(p *plan.Plan, s *plan.Service) error {
	for _, source := range s.Container.Binds() {
		if to := consent.Leads(p.Root, source); to != p.Leads[source] {
			return fmt.Errorf("%s leads to %s, outside of the workspace, and nobody has vouched "+
				"for that", source, first(to, "another place than it did"))
		}
	}
	return nil
}

// hostPath is where a folder of a bind mount lies on this machine. One inside the workspace that
// isn't there yet is made, as the short form of the specification asks; elsewhere nothing is ever
// made. Where nothing may be made and nothing is there, that is the error.
func hostPath(rootDir, source string, make bool) (string, error) {
	name := source
	if rest, ok := strings.CutPrefix(source, "~"); ok {
		home, err := os.UserHomeDir()
		if err != nil {
			return "", err
		}
		name = filepath.Join(home, filepath.FromSlash(rest))
	}
	if local := filepath.FromSlash(name); filepath.IsLocal(local) && make {
		if root, err := os.OpenRoot(rootDir); err == nil {
			root.MkdirAll(local, 0o755)
			root.Close()
		}
	}
	if !filepath.IsAbs(name) {
		name = filepath.Join(rootDir, filepath.FromSlash(name))
	}
	if _, err := os.Stat(name); errors.Is(err, fs.ErrNotExist) && !make {
		return "", fmt.Errorf("%s does not exist, and its container needs it", source)
	}
	return name, nil
}

func seconds(s float64) time.Duration { return time.Duration(s * float64(time.Second)) }
