// Package engine speaks to a container engine through its open HTTP API. It knows networks, volumes,
// images and containers as a launch needs them, and carries nharbor's names and labels on all it makes.
package engine

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"net/netip"
	"nimbleharbor/internal/diagnose"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/containerd/errdefs"
	"github.com/docker/docker/api/types/container"
	"github.com/docker/docker/api/types/filters"
	"github.com/docker/docker/api/types/mount"
	"github.com/docker/docker/api/types/network"
	"github.com/docker/docker/api/types/volume"
	"github.com/docker/docker/client"
	"github.com/docker/docker/pkg/stdcopy"
	"github.com/docker/go-connections/nat"
)

// The labels on everything that nharbor makes.
const (
	LabelData    = "nimbleharbor.data"    // of a volume: what tells it from another of the same name
	LabelStack   = "nimbleharbor.stack"   // the short hash of the workspace's path
	LabelService = "nimbleharbor.service" // the service's name
	LabelRoot    = "nimbleharbor.root"    // the workspace's path
)

// Engine is a connection to a container engine. It is safe for concurrent use.
type Engine struct {
	cli     *client.Client
	Address string // of the API: unix:///… or tcp://…
	Version string
}

// Unavailable says that no engine can be used, and why.
type Unavailable struct {
	Lack    diagnose.Lack
	Address string
	Cause   error
}

func (u *Unavailable) Error() string { return u.explain().Cause }

func (u *Unavailable) Unwrap() error { return u.Cause }

// Remedy says what to do about it on this system.
func (u *Unavailable) Remedy() string { return u.explain().Remedy }

func (u *Unavailable) explain() diagnose.Finding {
	known := diagnose.Engine{Lack: u.Lack, Address: u.Address, System: runtime.GOOS,
		Told: os.Getenv("DOCKER_HOST") != ""}
	if u.Cause != nil {
		known.Why = u.Cause.Error()
	}
	return known.Explain()
}

// addresses lists where an engine may listen, the likely one first.
func addresses() []string {
	if host := os.Getenv("DOCKER_HOST"); host != "" {
		return []string{host}
	}
	if runtime.GOOS == "windows" {
		return []string{client.DefaultDockerHost}
	}
	list := []string{client.DefaultDockerHost}
	if dir := os.Getenv("XDG_RUNTIME_DIR"); dir != "" {
		list = append(list, "unix://"+filepath.Join(dir, "docker.sock"),
			"unix://"+filepath.Join(dir, "podman", "podman.sock"))
	}
	if home, err := os.UserHomeDir(); err == nil {
		list = append(list, "unix://"+filepath.Join(home, ".docker", "run", "docker.sock"))
	}
	return append(list, "unix:///run/podman/podman.sock")
}

// Connect finds an engine, DOCKER_HOST first. The error is an *Unavailable.
func Connect(ctx context.Context) (*Engine, error) {
	var worst *Unavailable
	for _, address := range addresses() {
		e, err := At(ctx, address)
		if err == nil {
			return e, nil
		}
		var u *Unavailable
		if errors.As(err, &u) && (worst == nil || weight(u.Lack) > weight(worst.Lack)) {
			worst = u
		}
	}
	return nil, worst
}

func weight(l diagnose.Lack) int {
	switch l {
	case diagnose.NotPermitted:
		return 3
	case diagnose.NotSpeaking:
		return 2
	case diagnose.NotStarted:
		return 1
	}
	return 0
}

// At connects to the engine whose API is at address. The error is an *Unavailable.
func At(ctx context.Context, address string) (*Engine, error) {
	cli, err := client.NewClientWithOpts(client.WithHost(address), client.WithAPIVersionNegotiation(),
		client.WithTLSClientConfigFromEnv())
	if err != nil {
		return nil, &Unavailable{Lack: diagnose.NotSpeaking, Address: address, Cause: err}
	}
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	v, err := cli.ServerVersion(ctx)
	if err == nil {
		return &Engine{cli: cli, Address: address, Version: v.Version}, nil
	}
	cli.Close()
	u := &Unavailable{Lack: diagnose.NotSpeaking, Address: address, Cause: err}
	socket, isUnix := strings.CutPrefix(address, "unix://")
	switch {
	case errors.Is(err, os.ErrPermission), isUnix && denied(socket):
		u.Lack = diagnose.NotPermitted
	case client.IsErrConnectionFailed(err) || errors.As(err, new(*net.OpError)):
		u.Lack = diagnose.NotStarted
		if _, statErr := os.Stat(socket); isUnix && statErr != nil && !installed() && os.Getenv("DOCKER_HOST") == "" {
			u.Lack = diagnose.NotInstalled
		}
	}
	return nil, u
}

func denied(socket string) bool {
	c, err := net.Dial("unix", socket)
	if err == nil {
		c.Close()
	}
	return errors.Is(err, os.ErrPermission)
}

func installed() bool {
	for _, name := range []string{"dockerd", "docker", "podman"} {
		if _, err := exec.LookPath(name); err == nil {
			return true
		}
	}
	return false
}

// Close ends the connection.
func (e *Engine) Close() error { return e.cli.Close() }

// IsNotFound reports whether an error of this package says that the thing doesn't exist.
func IsNotFound(err error) bool { return errdefs.IsNotFound(err) }

// EnsureNetwork makes a network unless one of that name exists.
func (e *Engine) EnsureNetwork(ctx context.Context, name string, internal bool, labels map[string]string) error {
	if _, err := e.cli.NetworkInspect(ctx, name, network.InspectOptions{}); err == nil || !IsNotFound(err) {
		return err
	}
	_, err := e.cli.NetworkCreate(ctx, name, network.CreateOptions{Driver: "bridge", Internal: internal,
		Labels: labels})
	if errdefs.IsConflict(err) {
		return nil
	}
	return err
}

// RemoveNetworks removes the networks that carry all the labels.
func (e *Engine) RemoveNetworks(ctx context.Context, labels map[string]string) error {
	list, err := e.cli.NetworkList(ctx, network.ListOptions{Filters: labelled(labels)})
	if err != nil {
		return err
	}
	var first error
	for _, n := range list {
		if err := e.cli.NetworkRemove(ctx, n.ID); err != nil && !IsNotFound(err) && first == nil {
			first = err
		}
	}
	return first
}

// EnsureVolume makes a volume unless one of that name exists. It gives what tells the volume from an earlier or later
// one of the same name.
func (e *Engine) EnsureVolume(ctx context.Context, name string, labels map[string]string) (id string, err error) {
	v, err := e.cli.VolumeInspect(ctx, name)
	if err == nil {
		if own := v.Labels[LabelData]; own != "" {
			return own, nil
		}
		return v.CreatedAt, nil // somebody else has made it
	}
	if !IsNotFound(err) {
		return "", err
	}
	marked := maps.Clone(labels)
	if marked == nil {
		marked = map[string]string{}
	}
	marked[LabelData] = rand.Text()
	_, err = e.cli.VolumeCreate(ctx, volume.CreateOptions{Name: name, Labels: marked})
	return marked[LabelData], err
}

// Volumes lists the volumes that carry all the labels: by name what tells each from others of the same name.
func (e *Engine) Volumes(ctx context.Context, labels map[string]string) (map[string]string, error) {
	list, err := e.cli.VolumeList(ctx, volume.ListOptions{Filters: labelled(labels)})
	if err != nil {
		return nil, err
	}
	out := map[string]string{}
	for _, v := range list.Volumes {
		if out[v.Name] = v.Labels[LabelData]; out[v.Name] == "" {
			out[v.Name] = v.CreatedAt
		}
	}
	return out, nil
}

// RemoveVolumes removes the volumes that carry all the labels, and gives their names.
func (e *Engine) RemoveVolumes(ctx context.Context, labels map[string]string) ([]string, error) {
	list, err := e.cli.VolumeList(ctx, volume.ListOptions{Filters: labelled(labels)})
	if err != nil {
		return nil, err
	}
	var first error
	removed := []string{}
	for _, v := range list.Volumes {
		if err := e.cli.VolumeRemove(ctx, v.Name, false); err == nil {
			removed = append(removed, v.Name)
		} else if !IsNotFound(err) && first == nil {
			first = err
		}
	}
	slices.Sort(removed)
	return removed, first
}

func labelled(labels map[string]string) filters.Args {
	args := filters.NewArgs()
	for k, v := range labels {
		args.Add("label", k+"="+v)
	}
	return args
}

// Health is a command inside the container that tells whether its service works.
type Health struct {
	Test                           []string
	Interval, Timeout, StartPeriod time.Duration
	Retries                        int
}

// Mount is a volume, a folder of the machine ("bind") or memory ("tmpfs") inside a container.
type Mount struct {
	Type, Source, Target string
	ReadOnly             bool
}

// Publish offers a container's port on this machine.
type Publish struct {
	HostIP    string
	Host      int
	Target    int
	Transport string
}

// Attach puts a container into a network, with further names.
type Attach struct {
	Network string
	Aliases []string
}

// Spec is a container to make.
type Spec struct {
	Name        string
	Image       string
	Entrypoint  []string
	Command     []string
	Env         []string // KEY=VALUE
	WorkingDir  string
	User        string
	Labels      map[string]string
	Publish     []Publish
	Networks    []Attach
	NetworkMode string
	Mounts      []Mount
	ExtraHosts  []string // HOST=ADDRESS
	Health      *Health
	StopSignal  string
	StopGrace   time.Duration
	Init        bool
	ReadOnly    bool
	Privileged  bool
}

// Create makes a container and returns its id; it isn't started.
func (e *Engine) Create(ctx context.Context, spec Spec) (string, error) {
	config := &container.Config{
		Image: spec.Image, Entrypoint: spec.Entrypoint, Cmd: spec.Command, Env: spec.Env, WorkingDir: spec.WorkingDir,
		User:   spec.User,
		Labels: spec.Labels, ExposedPorts: nat.PortSet{}, StopSignal: spec.StopSignal,
	}
	if spec.StopGrace > 0 {
		seconds := int((spec.StopGrace + time.Second - 1) / time.Second)
		config.StopTimeout = &seconds
	}
	if h := spec.Health; h != nil {
		config.Healthcheck = &container.HealthConfig{Test: h.Test, Interval: h.Interval, Timeout: h.Timeout,
			StartPeriod: h.StartPeriod, Retries: h.Retries}
	}
	host := &container.HostConfig{PortBindings: nat.PortMap{}, Privileged: spec.Privileged,
		ReadonlyRootfs: spec.ReadOnly, NetworkMode: container.NetworkMode(spec.NetworkMode)}
	if spec.Init {
		host.Init = &spec.Init
	}
	for _, h := range spec.ExtraHosts {
		name, address, _ := strings.Cut(h, "=")
		host.ExtraHosts = append(host.ExtraHosts, name+":"+address)
	}
	for _, p := range spec.Publish {
		port := nat.Port(fmt.Sprintf("%d/%s", p.Target, p.Transport))
		config.ExposedPorts[port] = struct{}{}
		binding := nat.PortBinding{HostIP: p.HostIP}
		if p.Host > 0 {
			binding.HostPort = strconv.Itoa(p.Host)
		}
		host.PortBindings[port] = append(host.PortBindings[port], binding)
	}
	for _, m := range spec.Mounts {
		point := mount.Mount{Type: mount.Type(m.Type), Source: m.Source, Target: m.Target, ReadOnly: m.ReadOnly}
		host.Mounts = append(host.Mounts, point)
	}
	networks := &network.NetworkingConfig{}
	if len(spec.Networks) > 0 {
		first := spec.Networks[0]
		host.NetworkMode = container.NetworkMode(first.Network)
		networks.EndpointsConfig = map[string]*network.EndpointSettings{first.Network: {Aliases: first.Aliases}}
	}
	created, err := e.cli.ContainerCreate(ctx, config, host, networks, nil, spec.Name)
	if err != nil {
		return "", err
	}
	// Engines before API 1.44 take one network at the creation.
	for _, n := range spec.Networks[min(1, len(spec.Networks)):] {
		if err := e.cli.NetworkConnect(ctx, n.Network, created.ID,
			&network.EndpointSettings{Aliases: n.Aliases}); err != nil {
			return created.ID, err
		}
	}
	return created.ID, nil
}

// Start starts a container.
func (e *Engine) Start(ctx context.Context, id string) error {
	return e.cli.ContainerStart(ctx, id, container.StartOptions{})
}

// Stop sends the stop signal, waits for at most grace, then kills. A container that is gone is no error.
func (e *Engine) Stop(ctx context.Context, id string, grace time.Duration) error {
	seconds := int((grace + time.Second - 1) / time.Second)
	err := e.cli.ContainerStop(ctx, id, container.StopOptions{Timeout: &seconds})
	if IsNotFound(err) {
		return nil
	}
	return err
}

// Remove removes a container, running or not, with its nameless volumes. One that is gone is no error.
func (e *Engine) Remove(ctx context.Context, id string) error {
	err := e.cli.ContainerRemove(ctx, id, container.RemoveOptions{Force: true, RemoveVolumes: true})
	if IsNotFound(err) || errdefs.IsConflict(err) && strings.Contains(err.Error(), "already in progress") {
		return nil
	}
	return err
}

// Wait blocks until the container has ended and gives its exit code.
func (e *Engine) Wait(ctx context.Context, id string) (int, error) {
	result, errs := e.cli.ContainerWait(ctx, id, container.WaitConditionNotRunning)
	select {
	case r := <-result:
		if r.Error != nil {
			return int(r.StatusCode), errors.New(r.Error.Message)
		}
		return int(r.StatusCode), nil
	case err := <-errs:
		return -1, err
	}
}

// Logs copies the container's output, from its beginning, until it ends or ctx does.
func (e *Engine) Logs(ctx context.Context, id string, out, errOut io.Writer) error {
	body, err := e.cli.ContainerLogs(ctx, id, container.LogsOptions{ShowStdout: true, ShowStderr: true, Follow: true})
	if err != nil {
		return err
	}
	defer body.Close()
	_, err = stdcopy.StdCopy(out, errOut, body)
	return err
}

// Status is how a container stands.
type Status struct {
	Running   bool
	ExitCode  int
	Health    string // "", "starting", "healthy" or "unhealthy"
	OutOfMem  bool
	Error     string
	StartedAt time.Time
	Addresses []netip.Addr // in its networks
}

// Inspect tells how a container stands.
func (e *Engine) Inspect(ctx context.Context, id string) (Status, error) {
	info, err := e.cli.ContainerInspect(ctx, id)
	if err != nil {
		return Status{}, err
	}
	s := Status{}
	if st := info.State; st != nil {
		s.Running, s.ExitCode, s.OutOfMem, s.Error = st.Running, st.ExitCode, st.OOMKilled, st.Error
		s.StartedAt, _ = time.Parse(time.RFC3339Nano, st.StartedAt)
		if st.Health != nil {
			s.Health = string(st.Health.Status)
		}
	}
	if info.NetworkSettings != nil {
		for _, n := range info.NetworkSettings.Networks {
			if a, err := netip.ParseAddr(n.IPAddress); err == nil {
				s.Addresses = append(s.Addresses, a)
			}
		}
	}
	return s, nil
}

// Exec runs a command inside a running container and gives its exit code; its output is dropped.
func (e *Engine) Exec(ctx context.Context, id string, command []string) (int, error) {
	made, err := e.cli.ContainerExecCreate(ctx, id, container.ExecOptions{Cmd: command})
	if err != nil {
		return -1, err
	}
	if err := e.cli.ContainerExecStart(ctx, made.ID, container.ExecStartOptions{Detach: true}); err != nil {
		return -1, err
	}
	for pause := 5 * time.Millisecond; ; pause = min(2*pause, 100*time.Millisecond) {
		info, err := e.cli.ContainerExecInspect(ctx, made.ID)
		if err != nil {
			return -1, err
		}
		if !info.Running {
			return info.ExitCode, nil
		}
		select {
		case <-ctx.Done():
			return -1, ctx.Err()
		case <-time.After(pause):
		}
	}
}

// Listed is one container of a list.
type Listed struct {
	ID, Name, Service string
	Running           bool
	Labels            map[string]string
}

// List gives the containers, running or not, that carry all the labels.
func (e *Engine) List(ctx context.Context, labels map[string]string) ([]Listed, error) {
	list, err := e.cli.ContainerList(ctx, container.ListOptions{All: true, Filters: labelled(labels)})
	if err != nil {
		return nil, err
	}
	var out []Listed
	for _, c := range list {
		name := ""
		if len(c.Names) > 0 {
			name = strings.TrimPrefix(c.Names[0], "/")
		}
		out = append(out, Listed{ID: c.ID, Name: name, Service: c.Labels[LabelService], Running: c.State == "running",
			Labels: c.Labels})
	}
	return out, nil
}

// Lines is a writer that calls Line for each line written to it; Flush gives the last one, if it has
// no end. Lines of more than 64 KB are cut into pieces.
type Lines struct {
	Line func(string)
	rest []byte
}

const maxLine = 64 << 10

func (l *Lines) Write(p []byte) (int, error) {
	n := len(p)
	for len(p) > 0 {
		i := bytes.IndexByte(p, '\n')
		if i < 0 {
			l.rest = append(l.rest, p...)
			if len(l.rest) >= maxLine {
				l.Flush()
			}
			break
		}
		l.rest = append(l.rest, p[:i]...)
		l.Line(strings.TrimRight(string(l.rest), "\r"))
		l.rest = l.rest[:0]
		p = p[i+1:]
	}
	return n, nil
}

// Flush hands on what has been written since the last line's end.
func (l *Lines) Flush() {
	if len(l.rest) > 0 {
		l.Line(strings.TrimRight(string(l.rest), "\r"))
		l.rest = l.rest[:0]
	}
}
