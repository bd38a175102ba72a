// Package standin is a small simulated container engine: the open HTTP API of a real one over a
// unix socket, where an image names a program of this machine and a container is a process of it.
// It lets nharbor be tried, and tested, where no engine is installed.
//
// Containers share the machine's network. Package inside gives their programs the view of a
// container; published ports are forwarded as an engine forwards them.
package standin

import (
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"time"

	"github.com/moby/moby/api/types/network"
	"github.com/moby/moby/api/types/volume"

	"nimbleharbor/internal/expr"
)

// APIVersion is the version of the API that the stand-in speaks.
const APIVersion = "1.41"

// Server is a stand-in engine. Make one with Start; Close ends it and every process that it runs.
type Server struct {
	dir      string
	listener net.Listener
	http     *http.Server
	lifeline *os.File // the end that the containers' processes don't hold
	lifeEnd  *os.File

	mu         sync.Mutex
	images     map[string]*Image // by reference with tag
	containers map[string]*box
	networks   map[string]*network.Inspect
	volumes    map[string]*volume.Volume
	execs      map[string]*execution
}

// Start listens on the unix socket and serves. The folder dir holds volumes and built images;
// images are those that are there from the beginning, by reference, such as "saltmarsh/base:1".
func Start(socket, dir string, images map[string]Image) (*Server, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	l, err := net.Listen("unix", socket)
	if err != nil {
		return nil, err
	}
	if err := os.Chmod(socket, 0o600); err != nil {
		l.Close()
		return nil, err
	}
	s := &Server{dir: dir, listener: l, images: map[string]*Image{}, containers: map[string]*box{},
		networks: map[string]*network.Inspect{},
		volumes:  map[string]*volume.Volume{}, execs: map[string]*execution{}}
	if s.lifeEnd, s.lifeline, err = os.Pipe(); err != nil {
		l.Close()
		return nil, err
	}
	for ref, img := range images {
		img.ID = "sha256:" + newID()
		s.images[withTag(ref)] = &img
	}
	s.http = &http.Server{Handler: s.handler(), ReadHeaderTimeout: 10 * time.Second}
	go s.http.Serve(l)
	return s, nil
}

// Close stops every container, ends the server and frees its socket. Volumes stay in the folder.
func (s *Server) Close() error {
	s.mu.Lock()
	boxes := make([]*box, 0, len(s.containers))
	for _, b := range s.containers {
		boxes = append(boxes, b)
	}
	s.mu.Unlock()
	for _, b := range boxes {
		b.kill()
	}
	for _, b := range boxes {
		b.wait()
	}
	err := s.http.Close()
	s.lifeline.Close()
	s.lifeEnd.Close()
	return err
}

func newID() string {
	b := make([]byte, 32)
	rand.Read(b)
	return hex.EncodeToString(b)
}

// withTag completes a reference by the tag that is meant when there is none.
func withTag(ref string) string {
	if i := strings.LastIndexByte(ref, ':'); i > strings.LastIndexByte(ref, '/') {
		return ref
	}
	return ref + ":latest"
}

// refusal is an error with the status that the API gives it.
type refusal struct {
	status int
	text   string
}

func (r *refusal) Error() string { return r.text }

func notFound(format string, args ...any) error {
	return &refusal{http.StatusNotFound, fmt.Sprintf(format, args...)}
}

var versionPrefix = expr.New(`^/v\d+\.\d+/`)

func (s *Server) handler() http.Handler {
	mux := http.NewServeMux()
	handle := func(pattern string, f func(w http.ResponseWriter, r *http.Request) error) {
		mux.HandleFunc(pattern, func(w http.ResponseWriter, r *http.Request) {
			if err := f(w, r); err != nil {
				status := http.StatusInternalServerError
				var ref *refusal
				if errors.As(err, &ref) {
					status = ref.status
				}
				reply(w, status, map[string]string{"message": err.Error()})
			}
		})
	}
	handle("/_ping", func(w http.ResponseWriter, r *http.Request) error {
		_, err := w.Write([]byte("OK"))
		return err
	})
	handle("GET /version", func(w http.ResponseWriter, r *http.Request) error {
		return reply(w, http.StatusOK,
			map[string]any{"Version": "stand-in", "ApiVersion": APIVersion,
				"MinAPIVersion": "1.24", "Os": "linux", "Arch": runtime.GOARCH})
	})
	handle("GET /info", func(w http.ResponseWriter, r *http.Request) error {
		return reply(w, http.StatusOK,
			map[string]any{"Name": "stand-in", "ServerVersion": "stand-in", "OSType": "linux"})
	})
	s.imageRoutes(handle)
	s.containerRoutes(handle)
	s.networkRoutes(handle)
	s.volumeRoutes(handle)
	s.insideRoutes(mux)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if p := versionPrefix.FindString(r.URL.Path); p != "" {
			r.URL.Path = r.URL.Path[len(p)-1:]
		}
		w.Header().Set("Api-Version", APIVersion)
		w.Header().Set("Ostype", "linux")
		mux.ServeHTTP(w, r)
	})
}

type router func(pattern string, f func(w http.ResponseWriter, r *http.Request) error)

func reply(w http.ResponseWriter, status int, body any) error {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	return json.NewEncoder(w).Encode(body)
}

func (s *Server) networkRoutes(handle router) {
	handle("POST /networks/create", func(w http.ResponseWriter, r *http.Request) error {
		var req network.CreateRequest
		if err := json.NewDecoder(r.Body).Decode(&req); err != nil {
			return &refusal{http.StatusBadRequest, err.Error()}
		}
		s.mu.Lock()
		defer s.mu.Unlock()
		if s.network(req.Name) != nil {
			return &refusal{http.StatusConflict,
				fmt.Sprintf("there is a network %s already", req.Name)}
		}
		n := &network.Inspect{Network: network.Network{ID: newID(), Name: req.Name,
			Driver: req.Driver, Scope: "local",
			Internal: req.Internal, Labels: req.Labels, Created: time.Now()}}
		s.networks[n.ID] = n
		return reply(w, http.StatusCreated, network.CreateResponse{ID: n.ID})
	})
	handle("GET /networks", func(w http.ResponseWriter, r *http.Request) error {
		want, err := labelsWanted(r)
		if err != nil {
			return err
		}
		s.mu.Lock()
		defer s.mu.Unlock()
		out := []network.Inspect{}
		for _, n := range s.networks {
			if want.fit(n.Labels) {
				out = append(out, *n)
			}
		}
		return reply(w, http.StatusOK, out)
	})
	handle("GET /networks/{id}", func(w http.ResponseWriter, r *http.Request) error {
		s.mu.Lock()
		defer s.mu.Unlock()
		n := s.network(r.PathValue("id"))
		if n == nil {
			return notFound("there is no network %s", r.PathValue("id"))
		}
		return reply(w, http.StatusOK, n)
	})
	handle("POST /networks/{id}/connect", func(w http.ResponseWriter, r *http.Request) error {
		var req network.ConnectRequest
		if err := json.NewDecoder(r.Body).Decode(&req); err != nil {
			return &refusal{http.StatusBadRequest, err.Error()}
		}
		s.mu.Lock()
		defer s.mu.Unlock()
		n := s.network(r.PathValue("id"))
		b := s.box(req.Container)
		if n == nil || b == nil {
			return notFound("there is no network %s or no container %s", r.PathValue("id"),
				req.Container)
		}
		var aliases []string
		if req.EndpointConfig != nil {
			aliases = req.EndpointConfig.Aliases
		}
		b.networks[n.ID] = aliases
		w.WriteHeader(http.StatusOK)
		return nil
	})
	handle("DELETE /networks/{id}", func(w http.ResponseWriter, r *http.Request) error {
		s.mu.Lock()
		defer s.mu.Unlock()
		n := s.network(r.PathValue("id"))
		if n == nil {
			return notFound("there is no network %s", r.PathValue("id"))
		}
		for _, b := range s.containers {
			if _, in := b.networks[n.ID]; in && b.running() {
				return &refusal{http.StatusForbidden,
					fmt.Sprintf("containers run in the network %s", n.Name)}
			}
		}
		delete(s.networks, n.ID)
		w.WriteHeader(http.StatusNoContent)
		return nil
	})
}

// wantedLabels are the labels, KEY or KEY=VALUE, that a list is asked for.
type wantedLabels map[string]bool

// labelsWanted reads the filters of a request for a list: {"label": {"KEY=VALUE": true}}.
func labelsWanted(r *http.Request) (wantedLabels, error) {
	text := r.URL.Query().Get("filters")
	if text == "" {
		return nil, nil
	}
	var filters map[string]wantedLabels
	if err := json.Unmarshal([]byte(text), &filters); err != nil {
		return nil, &refusal{http.StatusBadRequest, "the filters can't be read: " + err.Error()}
	}
	return filters["label"], nil
}

// fit reports whether all of them are among the labels.
func (w wantedLabels) fit(labels map[string]string) bool {
	for want := range w {
		key, value, named := strings.Cut(want, "=")
		if got, there := labels[key]; !there || named && got != value {
			return false
		}
	}
	return true
}

func (s *Server) network(name string) *network.Inspect {
	for id, n := range s.networks {
		if id == name || n.Name == name {
			return n
		}
	}
	return nil
}

func (s *Server) volumeRoutes(handle router) {
	handle("POST /volumes/create", func(w http.ResponseWriter, r *http.Request) error {
		var req volume.CreateRequest
		if err := json.NewDecoder(r.Body).Decode(&req); err != nil {
			return &refusal{http.StatusBadRequest, err.Error()}
		}
		s.mu.Lock()
		defer s.mu.Unlock()
		v, err := s.volume(req.Name, req.Labels)
		if err != nil {
			return err
		}
		return reply(w, http.StatusCreated, v)
	})
	handle("GET /volumes", func(w http.ResponseWriter, r *http.Request) error {
		want, err := labelsWanted(r)
		if err != nil {
			return err
		}
		s.mu.Lock()
		defer s.mu.Unlock()
		out := volume.ListResponse{Volumes: []volume.Volume{}}
		for _, v := range s.volumes {
			if want.fit(v.Labels) {
				out.Volumes = append(out.Volumes, *v)
			}
		}
		return reply(w, http.StatusOK, out)
	})
	handle("GET /volumes/{name}", func(w http.ResponseWriter, r *http.Request) error {
		s.mu.Lock()
		defer s.mu.Unlock()
		v := s.volumes[r.PathValue("name")]
		if v == nil {
			return notFound("there is no volume %s", r.PathValue("name"))
		}
		return reply(w, http.StatusOK, v)
	})
	handle("DELETE /volumes/{name}", func(w http.ResponseWriter, r *http.Request) error {
		s.mu.Lock()
		defer s.mu.Unlock()
		v := s.volumes[r.PathValue("name")]
		if v == nil {
			return notFound("there is no volume %s", r.PathValue("name"))
		}
		for _, b := range s.containers {
			if b.uses(v.Name) {
				return &refusal{http.StatusConflict,
					fmt.Sprintf("the container %[2]s uses the volume %[1]s", v.Name, b.id)}
			}
		}
		delete(s.volumes, v.Name)
		os.RemoveAll(v.Mountpoint)
		w.WriteHeader(http.StatusNoContent)
		return nil
	})
}

var volumeName = expr.New(`^[A-Za-z0-9][A-Za-z0-9_.-]*$`)

func (s *Server) volume(name string, labels map[string]string) (*volume.Volume, error) {
	if name == "" {
		name = newID()
	}
	if !volumeName.MatchString(name) {
		return nil, &refusal{http.StatusBadRequest,
			fmt.Sprintf("%s has characters that a volume's name may not have", name)}
	}
	if v := s.volumes[name]; v != nil {
		return v, nil
	}
	v := &volume.Volume{Name: name, Driver: "local", Scope: "local", Labels: labels,
		CreatedAt:  time.Now().Format(time.RFC3339),
		Mountpoint: filepath.Join(s.dir, "volumes", name)}
	if err := os.MkdirAll(v.Mountpoint, 0o700); err != nil {
		return nil, err
	}
	s.volumes[name] = v
	return v, nil
}
