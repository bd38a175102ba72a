package standin

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/moby/moby/api/pkg/stdcopy"
	"github.com/moby/moby/api/types/container"
	"github.com/moby/moby/api/types/mount"
	"github.com/moby/moby/api/types/network"

	"nimbleharbor/internal/engine/standin/inside"
)

// box is one container.
type box struct {
	server   *Server
	id, name string
	config   *container.Config
	host     *container.HostConfig
	image    *Image
	made     string
	networks map[string][]string // network id: further names; guarded by Server.mu
	places   map[string]string   // target: place on this machine
	volumes  []string
	dir      string

	mu        sync.Mutex
	command   *exec.Cmd
	started   time.Time
	ended     time.Time
	exit      int
	health    string
	failed    string
	listening map[int]listener
	ports     []net.Listener
	done      chan struct{} // closed when the process has ended; nil before the first start
	cancel    context.CancelFunc
	output    *output
}

type listener struct {
	address  string
	loopback bool
}

func (b *box) running() bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.alive()
}

// alive is running for callers that hold the lock.
func (b *box) alive() bool {
	if b.done == nil {
		return false
	}
	select {
	case <-b.done:
		return false
	default:
		return true
	}
}

func (b *box) uses(volume string) bool {
	for _, v := range b.volumes {
		if v == volume {
			return true
		}
	}
	return false
}

func (s *Server) box(name string) *box {
	if b := s.containers[name]; b != nil {
		return b
	}
	for id, b := range s.containers {
		if b.name == name || len(name) >= 12 && strings.HasPrefix(id, name) {
			return b
		}
	}
	return nil
}

// withBox hands the container that the path names to a handler.
func (s *Server) withBox(f func(b *box, w http.ResponseWriter,
	r *http.Request) error) func(http.ResponseWriter, *http.Request) error {
	return func(w http.ResponseWriter, r *http.Request) error {
		s.mu.Lock()
		b := s.box(r.PathValue("id"))
		s.mu.Unlock()
		if b == nil {
			return notFound("there is no container %s", r.PathValue("id"))
		}
		return f(b, w, r)
	}
}

func (s *Server) containerRoutes(handle router) {
	handle("POST /containers/create", s.create)
	handle("GET /containers/json", s.list)
	handle("GET /containers/{id}/json",
		s.withBox(func(b *box, w http.ResponseWriter, r *http.Request) error {
			return reply(w, http.StatusOK, b.inspect())
		}))
	handle("GET /containers/{id}/stats",
		s.withBox(func(b *box, w http.ResponseWriter, r *http.Request) error {
			return reply(w, http.StatusOK, b.stats())
		}))
	handle("POST /containers/{id}/start",
		s.withBox(func(b *box, w http.ResponseWriter, r *http.Request) error {
			if b.running() {
				w.WriteHeader(http.StatusNotModified)
				return nil
			}
			if err := b.start(); err != nil {
				return err
			}
			w.WriteHeader(http.StatusNoContent)
			return nil
		}))
	handle("POST /containers/{id}/stop",
		s.withBox(func(b *box, w http.ResponseWriter, r *http.Request) error {
			if !b.running() {
				w.WriteHeader(http.StatusNotModified)
				return nil
			}
			grace := 10 * time.Second
			if seconds, err := strconv.Atoi(r.URL.Query().Get("t")); err == nil && seconds >= 0 {
				grace = time.Duration(seconds) * time.Second
			}
			b.stop(grace)
			w.WriteHeader(http.StatusNoContent)
			return nil
		}))
	handle("POST /containers/{id}/kill",
		s.withBox(func(b *box, w http.ResponseWriter, r *http.Request) error {
			if !b.running() {
				return &refusal{http.StatusConflict,
					fmt.Sprintf("the container %s does not run", b.id)}
			}
			b.kill()
			w.WriteHeader(http.StatusNoContent)
			return nil
		}))
	handle("POST /containers/{id}/wait",
		s.withBox(func(b *box, w http.ResponseWriter, r *http.Request) error {
			w.Header().Set("Content-Type", "application/json")
			w.WriteHeader(http.StatusOK)
			w.(http.Flusher).Flush()
			b.mu.Lock()
			done := b.done
			b.mu.Unlock()
			if done != nil {
				select {
				case <-done:
				case <-r.Context().Done():
					return nil
				}
			}
			b.mu.Lock()
			defer b.mu.Unlock()
			return json.NewEncoder(w).Encode(container.WaitResponse{StatusCode: int64(b.exit)})
		}))
	handle("GET /containers/{id}/logs",
		s.withBox(func(b *box, w http.ResponseWriter, r *http.Request) error {
			w.Header().Set("Content-Type", "application/vnd.docker.raw-stream")
			w.WriteHeader(http.StatusOK)
			b.output.copy(r.Context(), w, r.URL.Query().Get("follow") == "1")
			return nil
		}))
	handle("DELETE /containers/{id}",
		s.withBox(func(b *box, w http.ResponseWriter, r *http.Request) error {
			if b.running() {
				if r.URL.Query().Get("force") != "1" {
					return &refusal{http.StatusConflict,
						fmt.Sprintf("the container %s runs; it is removed by force only", b.id)}
				}
				b.kill()
				b.wait()
			}
			s.mu.Lock()
			defer s.mu.Unlock()
			delete(s.containers, b.id)
			os.RemoveAll(b.dir)
			w.WriteHeader(http.StatusNoContent)
			return nil
		}))
	s.execRoutes(handle)
}

func (s *Server) create(w http.ResponseWriter, r *http.Request) error {
	var req struct {
		*container.Config
		HostConfig       *container.HostConfig
		NetworkingConfig *network.NetworkingConfig
	}
	if err := json.NewDecoder(r.Body).Decode(&req); err != nil || req.Config == nil {
		return &refusal{http.StatusBadRequest, "the container is not described"}
	}
	if req.HostConfig == nil {
		req.HostConfig = &container.HostConfig{}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	img := s.image(req.Image)
	if img == nil {
		return notFound("there is no image %s", req.Image)
	}
	name := r.URL.Query().Get("name")
	if other := s.box(name); name != "" && other != nil {
		return &refusal{http.StatusConflict,
			fmt.Sprintf("the name %s belongs to the container %s", name, other.id)}
	}
	b := &box{server: s, id: newID(), name: name, config: req.Config, host: req.HostConfig,
		image: img, made: created(), networks: map[string][]string{},
		places: map[string]string{}, listening: map[int]listener{}, output: newOutput()}
	b.dir = filepath.Join(s.dir, "containers", b.id[:12])
	for target, file := range img.Files {
		b.places[target] = file
	}
	for _, m := range req.HostConfig.Mounts {
		if err := b.mount(m); err != nil {
			return err
		}
	}
	if req.NetworkingConfig != nil {
		for name, endpoint := range req.NetworkingConfig.EndpointsConfig {
			n := s.network(name)
			if n == nil {
				return notFound("there is no network %s", name)
			}
			b.networks[n.ID] = nil
			if endpoint != nil {
				b.networks[n.ID] = endpoint.Aliases
			}
		}
	}
	if err := os.MkdirAll(b.dir, 0o700); err != nil {
		return err
	}
	s.containers[b.id] = b
	return reply(w, http.StatusCreated, container.CreateResponse{ID: b.id, Warnings: []string{}})
}

// mount puts a volume, or a folder of this machine, into a container in the making.
func (b *box) mount(m mount.Mount) error {
	switch m.Type {
	case "volume":
		v, err := b.server.volume(m.Source, nil)
		if err != nil {
			return err
		}
		b.places[path.Clean(m.Target)] = v.Mountpoint
		b.volumes = append(b.volumes, v.Name)
	case "bind":
		if _, err := os.Stat(m.Source); err != nil {
			return &refusal{http.StatusBadRequest,
				fmt.Sprintf("the folder %s, which is to be mounted, doesn't exist", m.Source)}
		}
		b.places[path.Clean(m.Target)] = m.Source
	}
	return nil
}

func (s *Server) list(w http.ResponseWriter, r *http.Request) error {
	want, err := labelsWanted(r)
	if err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	out := []container.Summary{}
	for _, b := range s.containers {
		if !want.fit(b.config.Labels) || r.URL.Query().Get("all") != "1" && !b.running() {
			continue
		}
		state := "exited"
		if b.running() {
			state = "running"
		}
		out = append(out, container.Summary{ID: b.id, Names: []string{"/" + b.name},
			Image: b.config.Image,
			State: container.ContainerState(state), Labels: b.config.Labels, Ports: b.held()})
	}
	return reply(w, http.StatusOK, out)
}

// held are the ports of this machine that a running container publishes.
func (b *box) held() []container.PortSummary {
	var out []container.PortSummary
	if !b.running() || b.host == nil {
		return nil
	}
	for port, bindings := range b.host.PortBindings {
		for _, bound := range bindings {
			if n, err := strconv.Atoi(bound.HostPort); err == nil {
				out = append(out, container.PortSummary{PrivatePort: port.Num(),
					PublicPort: uint16(n), Type: string(port.Proto())})
			}
		}
	}
	return out
}

func (b *box) inspect() container.InspectResponse {
	b.server.mu.Lock()
	networks := map[string]*network.EndpointSettings{}
	for id, aliases := range b.networks {
		if n := b.server.networks[id]; n != nil {
			networks[n.Name] = &network.EndpointSettings{NetworkID: id, Aliases: aliases}
		}
	}
	b.server.mu.Unlock()
	b.mu.Lock()
	defer b.mu.Unlock()
	st := &container.State{Status: "created", Running: b.alive(), ExitCode: b.exit, Error: b.failed}
	switch {
	case st.Running:
		st.Status, st.Pid = "running", b.command.Process.Pid
	case b.done != nil:
		st.Status = "exited"
	}
	st.StartedAt, st.FinishedAt = b.started.UTC().Format(time.RFC3339Nano), b.ended.UTC().Format(time.RFC3339Nano)
	if b.health != "" {
		st.Health = &container.Health{Status: container.HealthStatus(b.health)}
	}
	return container.InspectResponse{
		ID: b.id, Name: "/" + b.name, Created: b.made, State: st, Image: b.image.ID,
		HostConfig: b.host,
		Config:     b.config, NetworkSettings: &container.NetworkSettings{Networks: networks},
	}
}

// program makes the process for a command in the container.
func (b *box) program(words []string) (*exec.Cmd, error) {
	if len(words) == 0 {
		return nil, &refusal{http.StatusBadRequest, "there is no command"}
	}
	file, ok := b.places[path.Clean(words[0])]
	if !ok {
		return nil, &refusal{http.StatusBadRequest,
			fmt.Sprintf("the program %s was not found in the container", words[0])}
	}
	cmd := exec.Command(file, words[1:]...)
	cmd.Args[0] = words[0]
	cmd.Dir = b.dir
	places, err := json.Marshal(b.places)
	if err != nil {
		return nil, err
	}
	cmd.Env = append(append([]string{"PATH=/usr/local/bin:/usr/bin:/bin", "HOSTNAME=" + b.id[:12],
		"HOME=/"}, b.image.Env...), b.config.Env...)
	cmd.Env = append(cmd.Env, inside.EnvSocket+"="+b.server.listener.Addr().String(),
		inside.EnvContainer+"="+b.id, inside.EnvPaths+"="+string(places))
	cmd.ExtraFiles = []*os.File{b.server.lifeEnd}
	ownGroup(cmd)
	return cmd, nil
}

func (b *box) words() []string {
	entrypoint, command := []string(b.config.Entrypoint), []string(b.config.Cmd)
	if entrypoint == nil {
		entrypoint = b.image.Entrypoint
		if command == nil {
			command = b.image.Cmd
		}
	}
	return append(append([]string(nil), entrypoint...), command...)
}

func (b *box) start() error {
	b.mu.Lock()
	defer b.mu.Unlock()
	cmd, err := b.program(b.words())
	if err != nil {
		b.failed, b.exit = err.Error(), 127
		return err
	}
	cmd.Stdout, cmd.Stderr = b.output.stream(stdcopy.Stdout), b.output.stream(stdcopy.Stderr)
	if err := b.publish(); err != nil {
		b.failed = err.Error()
		return err
	}
	if err := cmd.Start(); err != nil {
		b.unpublish()
		b.failed, b.exit = err.Error(), 127
		return &refusal{http.StatusBadRequest, "the program could not be started: " + err.Error()}
	}
	b.command, b.started, b.exit, b.failed, b.done = cmd, time.Now(), 0, "", make(chan struct{})
	ctx, cancel := context.WithCancel(context.Background())
	b.cancel = cancel
	b.output.reopen()
	if h := b.healthConfig(); h != nil {
		b.health = "starting"
		go b.watchHealth(ctx, h)
	}
	go func(done chan struct{}) {
		err := cmd.Wait()
		killGroup(cmd.Process.Pid, syscall.SIGKILL)
		b.mu.Lock()
		b.exit, b.ended = exitCode(err), time.Now()
		b.listening = map[int]listener{}
		b.unpublish()
		b.mu.Unlock()
		cancel()
		close(done)
		b.output.close()
	}(b.done)
	return nil
}

func exitCode(err error) int {
	var exit *exec.ExitError
	switch {
	case err == nil:
		return 0
	case errors.As(err, &exit):
		if signal, ok := signalOf(exit); ok {
			return 128 + signal
		}
		return exit.ExitCode()
	}
	return 126
}

func (b *box) wait() {
	b.mu.Lock()
	done := b.done
	b.mu.Unlock()
	if done != nil {
		<-done
	}
}

func (b *box) kill() { b.signal(syscall.SIGKILL) }

func (b *box) signal(sig syscall.Signal) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.alive() {
		killGroup(b.command.Process.Pid, sig)
	}
}

func (b *box) stop(grace time.Duration) {
	b.signal(stopSignal(b.config.StopSignal))
	b.mu.Lock()
	done := b.done
	b.mu.Unlock()
	select {
	case <-done:
	case <-time.After(grace):
		b.kill()
		<-done
	}
}

func stopSignal(name string) syscall.Signal {
	switch strings.TrimPrefix(name, "SIG") {
	case "INT", "2":
		return syscall.SIGINT
	case "QUIT", "3":
		return syscall.SIGQUIT
	case "KILL", "9":
		return syscall.SIGKILL
	case "HUP", "1":
		return syscall.SIGHUP
	}
	return syscall.SIGTERM
}

func (b *box) healthConfig() *container.HealthConfig {
	h := b.config.Healthcheck
	if h == nil {
		h = b.image.Health
	}
	if h == nil || len(h.Test) < 2 || h.Test[0] == "NONE" {
		return nil
	}
	return h
}

func (b *box) watchHealth(ctx context.Context, h *container.HealthConfig) {
	interval, timeout, retries := h.Interval, h.Timeout, h.Retries
	if interval <= 0 {
		interval = 30 * time.Second
	}
	if timeout <= 0 {
		timeout = 30 * time.Second
	}
	if retries <= 0 {
		retries = 3
	}
	for failures := 0; ; {
		select {
		case <-ctx.Done():
			return
		case <-time.After(interval):
		}
		attempt, cancel := context.WithTimeout(ctx, timeout)
		code := b.runInside(attempt, healthWords(h.Test), nil, nil, nil)
		cancel()
		b.mu.Lock()
		switch {
		case code == 0:
			failures, b.health = 0, "healthy"
		case time.Since(b.started) < h.StartPeriod && b.health == "starting":
		default:
			if failures++; failures >= retries {
				b.health = "unhealthy"
			}
		}
		b.mu.Unlock()
	}
}

// healthWords is the command of a health check; CMD-SHELL lines are split at white space, since
// there is no shell.
func healthWords(test []string) []string {
	if test[0] == "CMD-SHELL" {
		return strings.Fields(strings.Join(test[1:], " "))
	}
	return test[1:]
}

// runInside runs a command in the container and gives its exit code.
func (b *box) runInside(ctx context.Context, words []string, in io.Reader, out,
	errOut io.Writer) int {
	cmd, err := b.program(words)
	if err != nil {
		return 127
	}
	if out != nil {
		cmd.Stdout, cmd.Stderr = out, errOut
	}
	if in != nil {
		stdin, err := cmd.StdinPipe()
		if err != nil {
			return 126
		}
		go func() { // until the connection ends, or the command
			io.Copy(stdin, in)
			stdin.Close()
		}()
	}
	if err := cmd.Start(); err != nil {
		return 126
	}
	stop := context.AfterFunc(ctx, func() { killGroup(cmd.Process.Pid, syscall.SIGKILL) })
	defer stop()
	return exitCode(cmd.Wait())
}
