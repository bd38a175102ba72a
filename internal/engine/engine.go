// Package engine speaks to a container engine through its open HTTP API. It knows networks,
// volumes, images and containers as a launch needs them, and carries nharbor's names and labels on
// all it makes.
package engine

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"io"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"time"

	"github.com/containerd/errdefs"
	"github.com/moby/moby/api/pkg/stdcopy"
	"github.com/moby/moby/api/types/container"
	"github.com/moby/moby/client"

	"nimbleharbor/internal/diagnose"
	"nimbleharbor/internal/stack"
)

// The labels on everything that nharbor makes.
const (
	LabelBuild   = "nimbleharbor.build"   // of an image: a sum of what it was built from
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
	// Remote is true for one on another machine.
	Remote bool
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
	if name := chosen(); name != "" {
		if c, err := NamedContext(name); err == nil {
			return []string{c.Host}
		}
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
	opts, err := options(address)
	var cli *client.Client
	if err == nil {
		cli, err = client.New(opts...)
	}
	if err != nil {
		return nil, &Unavailable{Lack: diagnose.NotSpeaking, Address: address, Cause: err}
	}
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	v, err := cli.ServerVersion(ctx, client.ServerVersionOptions{})
	if err == nil {
		e := &Engine{cli: cli, Address: address, Version: v.Version}
		e.Remote = e.elsewhere(ctx)
		return e, nil
	}
	cli.Close()
	u := &Unavailable{Lack: diagnose.NotSpeaking, Address: address, Cause: err}
	socket, isUnix := strings.CutPrefix(address, "unix://")
	switch {
	case errors.Is(err, os.ErrPermission), isUnix && denied(socket):
		u.Lack = diagnose.NotPermitted
	case strings.HasPrefix(address, "ssh://"):
		u.Lack = diagnose.NotReached
	case client.IsErrConnectionFailed(err) || errors.As(err, new(*net.OpError)):
		u.Lack = diagnose.NotStarted
		if _, statErr := os.Stat(socket); isUnix && statErr != nil && !installed() &&
			os.Getenv("DOCKER_HOST") == "" {
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

// IsConflict reports whether an error of this package says that something of that name exists.
func IsConflict(err error) bool { return errdefs.IsConflict(err) }

// IsNotFound reports whether an error of this package says that the thing doesn't exist.
func IsNotFound(err error) bool { return errdefs.IsNotFound(err) }

// RemoveNetworks removes the networks that carry all the labels.
func (e *Engine) RemoveNetworks(ctx context.Context, labels map[string]string) error {
	list, err := e.cli.NetworkList(ctx, client.NetworkListOptions{Filters: labelled(labels)})
	if err != nil {
		return err
	}
	var first error
	for _, n := range list.Items {
		if _, err := e.cli.NetworkRemove(ctx, n.ID, client.NetworkRemoveOptions{}); err != nil &&
			!IsNotFound(err) && first == nil {
			first = err
		}
	}
	return first
}

// EnsureVolume makes a volume unless one of that name exists. It gives what tells the volume from
// an earlier or later one of the same name.
func (e *Engine) EnsureVolume(ctx context.Context, name string, spec stack.Volume,
	labels map[string]string) (id string, err error) {
	found, err := e.cli.VolumeInspect(ctx, name, client.VolumeInspectOptions{})
	if v := found.Volume; err == nil {
		if own := v.Labels[LabelData]; own != "" {
			return own, nil
		}
		return v.CreatedAt, nil // somebody else has made it
	}
	if !IsNotFound(err) {
		return "", err
	}
	marked := ourLabels(spec.Labels, labels)
	marked[LabelData] = rand.Text()
	_, err = e.cli.VolumeCreate(ctx, client.VolumeCreateOptions{Name: name, Driver: spec.Driver,
		DriverOpts: spec.Options, Labels: marked})
	return marked[LabelData], err
}

// Volumes lists the volumes that carry all the labels: by name what tells each from others of the
// same name.
func (e *Engine) Volumes(ctx context.Context, labels map[string]string) (map[string]string, error) {
	list, err := e.cli.VolumeList(ctx, client.VolumeListOptions{Filters: labelled(labels)})
	if err != nil {
		return nil, err
	}
	out := map[string]string{}
	for _, v := range list.Items {
		if out[v.Name] = v.Labels[LabelData]; out[v.Name] == "" {
			out[v.Name] = v.CreatedAt
		}
	}
	return out, nil
}

// RemoveVolumes removes the volumes that carry all the labels, and gives their names.
func (e *Engine) RemoveVolumes(ctx context.Context, labels map[string]string) ([]string, error) {
	list, err := e.cli.VolumeList(ctx, client.VolumeListOptions{Filters: labelled(labels)})
	if err != nil {
		return nil, err
	}
	var first error
	removed := []string{}
	for _, v := range list.Items {
		if _, err := e.cli.VolumeRemove(ctx, v.Name, client.VolumeRemoveOptions{}); err == nil {
			removed = append(removed, v.Name)
		} else if !IsNotFound(err) && first == nil {
			first = err
		}
	}
	slices.Sort(removed)
	return removed, first
}

func labelled(labels map[string]string) client.Filters {
	out := client.Filters{}
	for k, v := range labels {
		out.Add("label", k+"="+v)
	}
	return out
}

// Start starts a container.
func (e *Engine) Start(ctx context.Context, id string) error {
	_, err := e.cli.ContainerStart(ctx, id, client.ContainerStartOptions{})
	return err
}

// Stop sends the stop signal, waits for at most grace, then kills. A container that is gone is no
// error.
func (e *Engine) Stop(ctx context.Context, id string, grace time.Duration) error {
	seconds := int((grace + time.Second - 1) / time.Second)
	_, err := e.cli.ContainerStop(ctx, id, client.ContainerStopOptions{Timeout: &seconds})
	if IsNotFound(err) {
		return nil
	}
	return err
}

// Remove removes a container, running or not, with its nameless volumes. One that is gone is no
// error.
func (e *Engine) Remove(ctx context.Context, id string) error {
	_, err := e.cli.ContainerRemove(ctx, id,
		client.ContainerRemoveOptions{Force: true, RemoveVolumes: true})
	if IsNotFound(err) || errdefs.IsConflict(err) &&
		strings.Contains(err.Error(), "already in progress") {
		return nil
	}
	return err
}

// Wait blocks until the container has ended and gives its exit code.
func (e *Engine) Wait(ctx context.Context, id string) (int, error) {
	wait := e.cli.ContainerWait(ctx, id,
		client.ContainerWaitOptions{Condition: container.WaitConditionNotRunning})
	select {
	case r := <-wait.Result:
		if r.Error != nil {
			return int(r.StatusCode), errors.New(r.Error.Message)
		}
		return int(r.StatusCode), nil
	case err := <-wait.Error:
		return -1, err
	}
}

// Logs copies the container's output, from its beginning, until it ends or ctx does.
func (e *Engine) Logs(ctx context.Context, id string, out, errOut io.Writer) error {
	body, err := e.cli.ContainerLogs(ctx, id,
		client.ContainerLogsOptions{ShowStdout: true, ShowStderr: true, Follow: true})
	if err != nil {
		return err
	}
	defer body.Close()
	if info, err := e.cli.ContainerInspect(ctx, id, client.ContainerInspectOptions{}); err == nil &&
		info.Container.Config != nil && info.Container.Config.Tty { // the two outputs are one then
		_, err = io.Copy(out, body)
		return err
	}
	_, err = stdcopy.StdCopy(out, errOut, body)
	return err
}

// Status is how a container stands.
type Status struct {
	Running   bool
	ExitCode  int
	PID       int    // of its first process, on the engine's machine; 0 if it does not run
	Health    string // "", "starting", "healthy" or "unhealthy"
	OutOfMem  bool
	Error     string
	StartedAt time.Time
	Addresses []netip.Addr // in its networks
	Test      []string     // its health check, its own or its image's; as in a compose file
}

// Inspect tells how a container stands.
func (e *Engine) Inspect(ctx context.Context, id string) (Status, error) {
	found, err := e.cli.ContainerInspect(ctx, id, client.ContainerInspectOptions{})
	if err != nil {
		return Status{}, err
	}
	info := found.Container
	s := Status{}
	if st := info.State; st != nil {
		s.Running, s.ExitCode, s.OutOfMem, s.Error = st.Running, st.ExitCode, st.OOMKilled, st.Error
		s.PID = st.Pid
		s.StartedAt, _ = time.Parse(time.RFC3339Nano, st.StartedAt)
		if st.Health != nil {
			s.Health = string(st.Health.Status)
		}
	}
	if info.Config != nil && info.Config.Healthcheck != nil {
		s.Test = info.Config.Healthcheck.Test
	}
	if info.NetworkSettings != nil {
		for _, n := range info.NetworkSettings.Networks {
			if n.IPAddress.IsValid() {
				s.Addresses = append(s.Addresses, n.IPAddress)
			}
		}
	}
	return s, nil
}

// Listed is one container of a list.
type Listed struct {
	On                *Engine // where it is listed; nil where nobody needs to know
	ID, Name, Service string
	Running           bool
	Labels            map[string]string
	Published         []Published
}

// Published is a port of a container that the engine holds on this machine.
type Published struct {
	Host, Target int
	Transport    string // "tcp" or "udp"
}

// Publishes reports whether the container runs, and the engine holds that port of this machine for
// it.
func (l *Listed) Publishes(host int) bool {
	return l.Running && slices.ContainsFunc(l.Published,
		func(p Published) bool { return p.Host == host })
}

// List gives the containers, running or not, that carry all the labels.
func (e *Engine) List(ctx context.Context, labels map[string]string) ([]Listed, error) {
	list, err := e.cli.ContainerList(ctx,
		client.ContainerListOptions{All: true, Filters: labelled(labels)})
	if err != nil {
		return nil, err
	}
	var out []Listed
	for _, c := range list.Items {
		name := ""
		if len(c.Names) > 0 {
			name = strings.TrimPrefix(c.Names[0], "/")
		}
		one := Listed{ID: c.ID, Name: name, Service: c.Labels[LabelService],
			Running: c.State == "running", Labels: c.Labels}
		for _, p := range c.Ports {
			if p.PublicPort > 0 {
				one.Published = append(one.Published,
					Published{Host: int(p.PublicPort), Target: int(p.PrivatePort),
						Transport: p.Type})
			}
		}
		out = append(out, one)
	}
	return out, nil
}

// Lines is a writer that calls Line for each line written to it; Flush gives the last one, if it
// has no end. Lines of more than 64 KB are cut into pieces.
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
