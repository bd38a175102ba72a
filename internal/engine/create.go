package engine

import (
	"context"
	"fmt"
	"maps"
	"net"
	"net/netip"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/containerd/errdefs"
	"github.com/moby/moby/api/types/blkiodev"
	"github.com/moby/moby/api/types/container"
	"github.com/moby/moby/api/types/mount"
	"github.com/moby/moby/api/types/network"
	"github.com/moby/moby/client"
	ocispec "github.com/opencontainers/image-spec/specs-go/v1"

	"nimbleharbor/internal/stack"
)

// Publish offers a container's port on this machine.
type Publish struct {
	HostIP    string
	Host      int // 0 for any that is free
	Target    int
	Transport string
}

// Attach puts a container into a network.
type Attach struct {
	Network string
	Links   []string // CONTAINER:NAME: how it alone calls others
	stack.Attach
}

// Spec is a container to make. Sources of mounts are as the engine knows them: volumes by their
// whole names, folders by their whole paths.
type Spec struct {
	Name        string
	Image       string
	Platform    string   // OS/ARCHITECTURE[/VARIANT]; empty for the image's own
	Entrypoint  []string // nil for the image's own, empty for none
	Command     []string // nil for the image's own, empty for none
	Env         []string // KEY=VALUE
	WorkingDir  string
	User        string
	Labels      map[string]string
	Publish     []Publish
	Networks    []Attach
	NetworkMode string
	Mounts      []stack.Mount
	VolumesFrom []string
	Health      *stack.Health
	Hostname    string
	StopSignal  string
	StopGrace   time.Duration
	stack.Confinement
}

// Create makes a container and returns its id; it isn't started. If the id comes with an error the
// container was made and something failed after that.
func (e *Engine) Create(ctx context.Context, spec Spec) (string, error) {
	if spec.Command != nil && len(spec.Command) == 0 && spec.Entrypoint == nil {
		// The engine takes the image's command unless it is given an entrypoint.
		info, err := e.cli.ImageInspect(ctx, spec.Image)
		if err != nil {
			return "", err
		}
		if info.Config != nil {
			spec.Entrypoint = info.Config.Entrypoint
		}
	}
	config := spec.config()
	host, err := spec.host()
	if err != nil {
		return "", err
	}
	if err := spec.publish(config, host); err != nil {
		return "", err
	}
	platform, err := platformOf(spec.Platform)
	if err != nil {
		return "", err
	}
	ends := make([]*network.EndpointSettings, len(spec.Networks))
	for i, n := range spec.Networks {
		if ends[i], err = n.settings(); err != nil {
			return "", err
		}
	}
	networks := &network.NetworkingConfig{}
	if len(ends) > 0 {
		host.NetworkMode = container.NetworkMode(spec.Networks[0].Network)
		networks.EndpointsConfig = map[string]*network.EndpointSettings{spec.Networks[0].Network: ends[0]}
	}
	created, err := e.cli.ContainerCreate(ctx,
		client.ContainerCreateOptions{Config: config, HostConfig: host,
			NetworkingConfig: networks, Platform: platform, Name: spec.Name})
	if err != nil {
		return "", err
	}
	// Engines before API 1.44 take one network at the creation.
	for i := 1; i < len(ends); i++ {
		if _, err := e.cli.NetworkConnect(ctx, spec.Networks[i].Network,
			client.NetworkConnectOptions{
				Container: created.ID, EndpointConfig: ends[i]}); err != nil {
			return created.ID, err
		}
	}
	return created.ID, nil
}

func (s *Spec) config() *container.Config {
	config := &container.Config{
		Image: s.Image, Entrypoint: s.Entrypoint, Cmd: s.Command, Env: s.Env,
		WorkingDir: s.WorkingDir,
		User:       s.User, Hostname: s.Hostname, Domainname: s.Domainname, Tty: s.TTY,
		OpenStdin: s.OpenInput,
		Labels:    s.Labels, ExposedPorts: network.PortSet{}, StopSignal: s.StopSignal,
	}
	if s.StopGrace > 0 {
		seconds := int((s.StopGrace + time.Second - 1) / time.Second)
		config.StopTimeout = &seconds
	}
	if h := s.Health; h != nil {
		length := func(seconds float64) time.Duration { return time.Duration(seconds * float64(time.Second)) }
		config.Healthcheck = &container.HealthConfig{Test: h.Test, Interval: length(h.Interval),
			Timeout: length(h.Timeout), StartPeriod: length(h.StartPeriod),
			StartInterval: length(h.StartInterval), Retries: h.Retries}
	}
	return config
}

func (s *Spec) host() (*container.HostConfig, error) {
	c := &s.Confinement
	host := &container.HostConfig{
		PortBindings: network.PortMap{}, NetworkMode: container.NetworkMode(s.NetworkMode),
		VolumesFrom: s.VolumesFrom,
		Privileged:  c.Privileged, ReadonlyRootfs: c.ReadOnly, Init: c.Init, CapAdd: c.CapAdd,
		CapDrop:     c.CapDrop,
		SecurityOpt: c.SecurityOpt, Sysctls: c.Sysctls, GroupAdd: c.GroupAdd,
		PidMode: container.PidMode(c.PID),
		IpcMode: container.IpcMode(c.IPC), UTSMode: container.UTSMode(c.UTS),
		UsernsMode:   container.UsernsMode(c.UserNS),
		CgroupnsMode: container.CgroupnsMode(c.CgroupNS), Runtime: c.Runtime,
		Isolation: container.Isolation(c.Isolation), StorageOpt: c.StorageOpt,
		Annotations: c.Annotations,
		DNSOptions:  c.DNSOptions, DNSSearch: c.DNSSearch, Tmpfs: c.Tmpfs, ShmSize: c.ShmSize,
		OomScoreAdj: c.OOMScore,
		Resources:   resources(c),
	}
	if c.Logging != nil {
		host.LogConfig = container.LogConfig{Type: c.Logging.Driver, Config: c.Logging.Options}
	}
	for _, address := range c.DNS {
		ip, err := netip.ParseAddr(address)
		if err != nil {
			return nil, fmt.Errorf("the name server %q is no address", address)
		}
		host.DNS = append(host.DNS, ip)
	}
	for _, h := range c.ExtraHosts {
		name, address, _ := strings.Cut(h, "=")
		host.ExtraHosts = append(host.ExtraHosts, name+":"+address)
	}
	for _, m := range s.Mounts {
		if m.Type == "bind" && m.Relabel != "" { // which only the short form can say
			host.Binds = append(host.Binds, bindLine(m))
			continue
		}
		point, err := mountOf(m)
		if err != nil {
			return nil, err
		}
		host.Mounts = append(host.Mounts, point)
	}
	return host, nil
}

func resources(c *stack.Confinement) container.Resources {
	r := container.Resources{
		Memory: c.Memory, MemoryReservation: c.MemoryReservation, MemorySwap: c.MemorySwap,
		MemorySwappiness: c.MemorySwappiness, NanoCPUs: c.NanoCPUs, CPUShares: c.CPUShares,
		CPUPeriod: c.CPUPeriod,
		CPUQuota:  c.CPUQuota, CPURealtimePeriod: c.CPURealtimePeriod,
		CPURealtimeRuntime: c.CPURealtimeRuntime,
		CPUCount:           c.CPUCount, CPUPercent: c.CPUPercent, CpusetCpus: c.CPUSet,
		PidsLimit:    c.Pids,
		CgroupParent: c.CgroupOf, DeviceCgroupRules: c.DeviceACL,
	}
	if c.NoOOMKill {
		r.OomKillDisable = &c.NoOOMKill
	}
	for _, u := range c.Ulimits {
		r.Ulimits = append(r.Ulimits, &container.Ulimit{Name: u.Name, Soft: u.Soft, Hard: u.Hard})
	}
	for _, d := range c.Devices {
		r.Devices = append(r.Devices,
			container.DeviceMapping{PathOnHost: d.Source, PathInContainer: d.Target,
				CgroupPermissions: d.Permissions})
	}
	for _, d := range c.Requests {
		request := container.DeviceRequest{Driver: d.Driver, Count: d.Count, DeviceIDs: d.IDs,
			Options: d.Options}
		if len(d.Capabilities) > 0 {
			request.Capabilities = [][]string{d.Capabilities}
		}
		r.DeviceRequests = append(r.DeviceRequests, request)
	}
	if b := c.BlockIO; b != nil {
		rates := func(list []stack.Rate) (out []*blkiodev.ThrottleDevice) {
			for _, l := range list {
				out = append(out, &blkiodev.ThrottleDevice{Path: l.Path, Rate: l.Rate})
			}
			return out
		}
		r.BlkioWeight = b.Weight
		for _, w := range b.Weights {
			r.BlkioWeightDevice = append(r.BlkioWeightDevice,
				&blkiodev.WeightDevice{Path: w.Path, Weight: uint16(w.Rate)})
		}
		r.BlkioDeviceReadBps, r.BlkioDeviceWriteBps = rates(b.ReadBps), rates(b.WriteBps)
		r.BlkioDeviceReadIOps, r.BlkioDeviceWriteIOps = rates(b.ReadIOps), rates(b.WriteIOps)
	}
	return r
}

func mountOf(m stack.Mount) (mount.Mount, error) {
	out := mount.Mount{Type: mount.Type(m.Type), Source: m.Source, Target: m.Target,
		ReadOnly: m.ReadOnly, Consistency: mount.Consistency(m.Consistency)}
	switch m.Type {
	case "bind":
		if m.Propagation != "" || m.Recursive != "" {
			out.BindOptions = &mount.BindOptions{Propagation: mount.Propagation(m.Propagation),
				NonRecursive:           m.Recursive == "disabled",
				ReadOnlyNonRecursive:   m.Recursive == "writable",
				ReadOnlyForceRecursive: m.Recursive == "readonly"}
		}
	case "volume":
		if m.NoCopy || m.Subpath != "" || len(m.Labels) > 0 {
			out.VolumeOptions = &mount.VolumeOptions{NoCopy: m.NoCopy, Subpath: m.Subpath,
				Labels: m.Labels}
		}
	case "image":
		if m.Subpath != "" {
			out.ImageOptions = &mount.ImageOptions{Subpath: m.Subpath}
		}
	case "tmpfs":
		if m.Size > 0 || m.Mode != "" {
			bits, err := fileMode(m.Mode)
			if err != nil {
				return out, err
			}
			out.TmpfsOptions = &mount.TmpfsOptions{SizeBytes: m.Size, Mode: bits}
		}
	}
	return out, nil
}

func fileMode(octal string) (os.FileMode, error) {
	if octal == "" {
		return 0, nil
	}
	bits, err := strconv.ParseUint(octal, 8, 32)
	if err != nil {
		return 0, fmt.Errorf("%q is no file mode: write it in octal digits, such as 0440", octal)
	}
	return os.FileMode(bits), nil
}

func bindLine(m stack.Mount) string {
	ways := []string{m.Relabel}
	if m.ReadOnly {
		ways = append(ways, "ro")
	}
	if m.Propagation != "" {
		ways = append(ways, m.Propagation)
	}
	return m.Source + ":" + m.Target + ":" + strings.Join(ways, ",")
}

func (s *Spec) publish(config *container.Config, host *container.HostConfig) error {
	for _, p := range s.Publish {
		port, err := network.ParsePort(fmt.Sprintf("%d/%s", p.Target, p.Transport))
		if err != nil {
			return err
		}
		config.ExposedPorts[port] = struct{}{}
		binding := network.PortBinding{}
		if p.HostIP != "" {
			if binding.HostIP, err = netip.ParseAddr(p.HostIP); err != nil {
				return err
			}
		}
		if p.Host > 0 {
			binding.HostPort = strconv.Itoa(p.Host)
		}
		host.PortBindings[port] = append(host.PortBindings[port], binding)
	}
	return nil
}

// settings are what the engine is told of a container's place in a network.
func (a *Attach) settings() (*network.EndpointSettings, error) {
	out := &network.EndpointSettings{Aliases: a.Aliases, Links: a.Links, DriverOpts: a.DriverOpts,
		GwPriority: a.Gateway}
	if a.MAC != "" {
		mac, err := net.ParseMAC(a.MAC)
		if err != nil {
			return nil, fmt.Errorf("%q is no MAC address", a.MAC)
		}
		out.MacAddress = network.HardwareAddr(mac)
	}
	if a.IPv4 == "" && a.IPv6 == "" && len(a.LinkLocal) == 0 {
		return out, nil
	}
	out.IPAMConfig = &network.EndpointIPAMConfig{}
	for _, one := range []struct {
		text string
		to   *netip.Addr
	}{{a.IPv4, &out.IPAMConfig.IPv4Address}, {a.IPv6, &out.IPAMConfig.IPv6Address}} {
		if one.text == "" {
			continue
		}
		ip, err := netip.ParseAddr(one.text)
		if err != nil {
			return nil, fmt.Errorf("%q is no address", one.text)
		}
		*one.to = ip
	}
	for _, text := range a.LinkLocal {
		ip, err := netip.ParseAddr(text)
		if err != nil {
			return nil, fmt.Errorf("%q is no address", text)
		}
		out.IPAMConfig.LinkLocalIPs = append(out.IPAMConfig.LinkLocalIPs, ip)
	}
	return out, nil
}

// platformOf reads OS/ARCHITECTURE[/VARIANT], or one of the two alone.
func platformOf(s string) (*ocispec.Platform, error) {
	if s == "" {
		return nil, nil
	}
	parts := strings.Split(s, "/")
	switch len(parts) {
	case 1:
		if s == "linux" || s == "windows" {
			return nil, nil // the engine's own architecture
		}
		return &ocispec.Platform{OS: "linux", Architecture: s}, nil
	case 2, 3:
		p := &ocispec.Platform{OS: parts[0], Architecture: parts[1]}
		if len(parts) == 3 {
			p.Variant = parts[2]
		}
		return p, nil
	}
	return nil, fmt.Errorf("%q is no platform: write it as linux/amd64", s)
}

// EnsureNetwork makes a network unless one of that name exists.
func (e *Engine) EnsureNetwork(ctx context.Context, name string, spec stack.Network,
	labels map[string]string) error {
	if _, err := e.cli.NetworkInspect(ctx, name, client.NetworkInspectOptions{}); err == nil ||
		!IsNotFound(err) {
		return err
	}
	driver := spec.Driver
	if driver == "" {
		driver = "bridge"
	}
	options := client.NetworkCreateOptions{Driver: driver, Internal: spec.Internal,
		Attachable: spec.Attachable,
		EnableIPv4: spec.IPv4, EnableIPv6: spec.IPv6, Options: spec.Options,
		Labels: ourLabels(spec.Labels, labels)}
	var err error
	if options.IPAM, err = ipam(spec.IPAM); err != nil {
		return err
	}
	_, err = e.cli.NetworkCreate(ctx, name, options)
	if errdefs.IsConflict(err) {
		return nil
	}
	return err
}

func ipam(spec *stack.IPAM) (*network.IPAM, error) {
	if spec == nil {
		return nil, nil
	}
	out := &network.IPAM{Driver: spec.Driver, Options: spec.Options}
	if out.Driver == "" {
		out.Driver = "default"
	}
	for _, p := range spec.Pools {
		pool := network.IPAMConfig{}
		var err error
		read := func(text string, to *netip.Addr) {
			if text != "" && err == nil {
				*to, err = netip.ParseAddr(text)
			}
		}
		ranges := func(text string, to *netip.Prefix) {
			if text != "" && err == nil {
				*to, err = netip.ParsePrefix(text)
			}
		}
		ranges(p.Subnet, &pool.Subnet)
		ranges(p.Range, &pool.IPRange)
		read(p.Gateway, &pool.Gateway)
		for name, text := range p.Addresses {
			var ip netip.Addr
			if read(text, &ip); pool.AuxAddress == nil {
				pool.AuxAddress = map[string]netip.Addr{}
			}
			pool.AuxAddress[name] = ip
		}
		if err != nil {
			return nil, fmt.Errorf("the addresses of its ipam: %w", err)
		}
		out.Config = append(out.Config, pool)
	}
	return out, nil
}

// ourLabels puts ours over those that a checkout asks for: by ours a thing is found again.
func ourLabels(theirs, ours map[string]string) map[string]string {
	out := map[string]string{}
	maps.Copy(out, theirs)
	maps.Copy(out, ours)
	return out
}
