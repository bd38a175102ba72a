package standin

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"

	"github.com/moby/moby/api/types/container"
)

// execution is one command run inside a container.
type execution struct {
	box     *box
	words   []string
	started bool
	exit    *int // nil while it runs; guarded by Server.mu
}

func (s *Server) execRoutes(handle router) {
	handle("POST /containers/{id}/exec", s.withBox(func(b *box, w http.ResponseWriter, r *http.Request) error {
		var req container.ExecCreateRequest
		if err := json.NewDecoder(r.Body).Decode(&req); err != nil || len(req.Cmd) == 0 {
			return &refusal{http.StatusBadRequest, "there is no command"}
		}
		if !b.running() {
			return &refusal{http.StatusConflict, fmt.Sprintf("the container %s does not run", b.id)}
		}
		id := newID()
		s.mu.Lock()
		s.execs[id] = &execution{box: b, words: req.Cmd}
		s.mu.Unlock()
		return reply(w, http.StatusCreated, container.ExecCreateResponse{ID: id})
	}))
	handle("POST /exec/{id}/start", func(w http.ResponseWriter, r *http.Request) error {
		s.mu.Lock()
		x := s.execs[r.PathValue("id")]
		s.mu.Unlock()
		if x == nil {
			return notFound("there is no command %s", r.PathValue("id"))
		}
		var req container.ExecStartRequest
		if err := json.NewDecoder(r.Body).Decode(&req); err != nil || !req.Detach {
			return &refusal{http.StatusNotImplemented, "the stand-in runs detached commands only"}
		}
		s.mu.Lock()
		x.started = true
		s.mu.Unlock()
		go func() {
			code := x.box.runInside(context.Background(), x.words)
			s.mu.Lock()
			defer s.mu.Unlock()
			x.exit = &code
		}()
		w.WriteHeader(http.StatusOK)
		return nil
	})
	handle("GET /exec/{id}/json", func(w http.ResponseWriter, r *http.Request) error {
		s.mu.Lock()
		defer s.mu.Unlock()
		x := s.execs[r.PathValue("id")]
		if x == nil {
			return notFound("there is no command %s", r.PathValue("id"))
		}
		return reply(w, http.StatusOK, map[string]any{"ID": r.PathValue("id"), "ContainerID": x.box.id,
			"Running": x.started && x.exit == nil, "ExitCode": x.exit})
	})
}
