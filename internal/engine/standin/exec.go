package standin

import (
	"context"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"io"
	"net/http"

	"github.com/moby/moby/api/pkg/stdcopy"
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
	handle("POST /containers/{id}/exec",
		s.withBox(func(b *box, w http.ResponseWriter, r *http.Request) error {
			var req container.ExecCreateRequest
			if err := json.NewDecoder(r.Body).Decode(&req); err != nil || len(req.Cmd) == 0 {
				return &refusal{http.StatusBadRequest, "there is no command"}
			}
			if !b.running() {
				return &refusal{http.StatusConflict,
					fmt.Sprintf("the container %s does not run", b.id)}
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
		if err := json.NewDecoder(r.Body).Decode(&req); err != nil {
			return &refusal{http.StatusBadRequest, "the request can't be read"}
		}
		s.mu.Lock()
		x.started = true
		s.mu.Unlock()
		ended := func(code int) {
			s.mu.Lock()
			defer s.mu.Unlock()
			x.exit = &code
		}
		if !req.Detach {
			return s.attached(w, req.Tty, func(in io.Reader, out, errOut io.Writer) {
				ended(x.box.runInside(context.Background(), x.words, in, out, errOut))
			})
		}
		go func() { ended(x.box.runInside(context.Background(), x.words, nil, nil, nil)) }()
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
		return reply(w, http.StatusOK,
			map[string]any{"ID": r.PathValue("id"), "ContainerID": x.box.id,
				"Running": x.started && x.exit == nil, "ExitCode": x.exit})
	})
}

// attached takes the connection over, as an engine does, and runs a command whose input and output
// it is: as it stands for a terminal, else in frames that tell the two outputs apart.
func (s *Server) attached(w http.ResponseWriter, tty bool,
	run func(in io.Reader, out, errOut io.Writer)) error {
	c, buffered, err := http.NewResponseController(w).Hijack()
	if err != nil {
		return err
	}
	defer c.Close()
	fmt.Fprint(c, "HTTP/1.1 101 UPGRADED\r\nContent-Type: application/vnd.docker.raw-stream\r\n"+
		"Connection: Upgrade\r\nUpgrade: tcp\r\n\r\n")
	if tty {
		run(buffered, c, c)
		return nil
	}
	run(buffered, &frames{to: c, kind: stdcopy.Stdout}, &frames{to: c, kind: stdcopy.Stderr})
	return nil
}

// frames writes what one of two outputs says.
type frames struct {
	to   io.Writer
	kind stdcopy.StdType
}

func (f *frames) Write(p []byte) (int, error) {
	head := []byte{byte(f.kind), 0, 0, 0}
	if _, err := f.to.Write(append(binary.BigEndian.AppendUint32(head, uint32(len(p))),
		p...)); err != nil {
		return 0, err
	}
	return len(p), nil
}
