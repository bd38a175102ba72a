package standin

import (
	"fmt"
	"io"
	"net"
	"net/http"
	"slices"
	"strconv"
	"strings"
)

// insideRoutes answer the programs in containers: where another one's port is, and which ports they
// open.
func (s *Server) insideRoutes(mux *http.ServeMux) {
	mux.HandleFunc("POST /inside/listen", func(w http.ResponseWriter, r *http.Request) {
		q := r.URL.Query()
		s.mu.Lock()
		b := s.box(q.Get("container"))
		s.mu.Unlock()
		port, err := strconv.Atoi(q.Get("port"))
		if b == nil || err != nil {
			http.Error(w, "no such container or port", http.StatusNotFound)
			return
		}
		b.mu.Lock()
		defer b.mu.Unlock()
		if _, taken := b.listening[port]; taken {
			http.Error(w, "bind: address already in use", http.StatusConflict)
			return
		}
		b.listening[port] = listener{address: q.Get("actual"), loopback: q.Get("loopback") != ""}
	})
	mux.HandleFunc("POST /inside/resolve", func(w http.ResponseWriter, r *http.Request) {
		q := r.URL.Query()
		port, _ := strconv.Atoi(q.Get("port"))
		address, err := s.resolve(q.Get("container"), strings.ToLower(q.Get("host")), port)
		if err != nil {
			http.Error(w, err.Error(), http.StatusNotFound)
			return
		}
		io.WriteString(w, address)
	})
}

// resolve finds where a host name and port, as the container sees them, really are.
func (s *Server) resolve(from, host string, port int) (string, error) {
	s.mu.Lock()
	self := s.box(from)
	if self == nil {
		s.mu.Unlock()
		return "", fmt.Errorf("no such container")
	}
	var other *box
	own := host == "localhost" || host == "127.0.0.1" || host == "::1"
	for _, extra := range self.host.ExtraHosts {
		if name, address, _ := strings.Cut(extra, ":"); name == host && address == "host-gateway" {
			s.mu.Unlock()
			return net.JoinHostPort("127.0.0.1", strconv.Itoa(port)), nil
		}
	}
	if own {
		other = self
	}
	for id := range self.networks {
		for _, b := range s.containers {
			aliases, in := b.networks[id]
			if in && other == nil && (b.name == host ||
				strings.HasPrefix(b.id, host) && len(host) == 12 ||
				slices.Contains(aliases, host)) {
				other = b
			}
		}
	}
	s.mu.Unlock()
	if other == nil || !other.running() {
		return "", fmt.Errorf("no such host: %s", host)
	}
	other.mu.Lock()
	defer other.mu.Unlock()
	l, ok := other.listening[port]
	if !ok || l.loopback && !own {
		return "", fmt.Errorf("connection refused")
	}
	return l.address, nil
}

// publish opens the published ports on this machine's loopback. The caller holds b.mu.
func (b *box) publish() error {
	for port, bindings := range b.host.PortBindings {
		for _, binding := range bindings {
			host := "127.0.0.1" // never offered to the network around
			if ip := binding.HostIP; ip.IsValid() && !ip.IsUnspecified() {
				host = ip.String()
			}
			hostPort := binding.HostPort
			if hostPort == "" {
				hostPort = "0"
			}
			l, err := net.Listen("tcp", net.JoinHostPort(host, hostPort))
			if err != nil {
				b.unpublish()
				return &refusal{http.StatusInternalServerError,
					fmt.Sprintf("the port %s:%s of this machine is in use already", host, hostPort)}
			}
			b.ports = append(b.ports, l)
			go b.forward(l, int(port.Num()))
		}
	}
	return nil
}

func (b *box) unpublish() {
	for _, l := range b.ports {
		l.Close()
	}
	b.ports = nil
}

func (b *box) forward(l net.Listener, port int) {
	for {
		c, err := l.Accept()
		if err != nil {
			return
		}
		go func() {
			defer c.Close()
			b.mu.Lock()
			to, ok := b.listening[port]
			b.mu.Unlock()
			if !ok || to.loopback {
				if t, isTCP := c.(*net.TCPConn); isTCP {
					t.SetLinger(0)
				}
				return
			}
			d, err := net.Dial("tcp", to.address)
			if err != nil {
				return
			}
			defer d.Close()
			go func() {
				io.Copy(d, c)
				closeWrite(d)
			}()
			io.Copy(c, d)
			closeWrite(c)
		}()
	}
}

func closeWrite(c net.Conn) {
	if t, ok := c.(*net.TCPConn); ok {
		t.CloseWrite()
	}
}
