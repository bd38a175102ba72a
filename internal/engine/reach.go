package engine

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/moby/moby/client"

	"nimbleharbor/internal/reading"
)

// Where an engine is reached, beside the sockets of this machine: DOCKER_HOST (unix, ssh, or tcp
// with TLS by the certificates in DOCKER_CERT_PATH), or a context that the command of the engine
// keeps.

// Context is an engine that a person has given a name.
type Context struct {
	Name  string
	Host  string // unix://…, tcp://… or ssh://…
	certs string // the folder of its certificates; empty for none
}

// maxConfig bounds a file of the engine's own command, in bytes.
const maxConfig = 4 << 20

// configDir is where the engine's own command keeps what it knows.
func configDir() string {
	if dir := os.Getenv("DOCKER_CONFIG"); dir != "" {
		return dir
	}
	home, err := os.UserHomeDir()
	if err != nil {
		return ""
	}
	return filepath.Join(home, ".docker")
}

// NamedContext finds a context by its name.
func NamedContext(name string) (Context, error) {
	sum := sha256.Sum256([]byte(name))
	id := hex.EncodeToString(sum[:])
	data, err := reading.File(filepath.Join(configDir(), "contexts", "meta", id, "meta.json"),
		maxConfig)
	if err != nil {
		return Context{}, fmt.Errorf("there is no context of that name; docker context ls shows " +
			"those that there are")
	}
	var kept struct {
		Endpoints map[string]struct{ Host string }
	}
	if err := json.Unmarshal(data, &kept); err != nil || kept.Endpoints["docker"].Host == "" {
		return Context{}, fmt.Errorf("the context %q names no engine", name)
	}
	c := Context{Name: name, Host: kept.Endpoints["docker"].Host}
	certs := filepath.Join(configDir(), "contexts", "tls", id, "docker")
	if _, err := os.Stat(certs); err == nil {
		c.certs = certs
	}
	return c, nil
}

// chosen is the context that the environment or the engine's own command has chosen; empty for
// none.
func chosen() string {
	name := os.Getenv("DOCKER_CONTEXT")
	if name == "" {
		var kept struct {
			CurrentContext string `json:"currentContext"`
		}
		if data, err := reading.File(filepath.Join(configDir(), "config.json"),
			maxConfig); err == nil {
			json.Unmarshal(data, &kept)
		}
		name = kept.CurrentContext
	}
	if name == "default" {
		return ""
	}
	return name
}

// certsFor is the folder of the certificates for an address; empty for none.
func certsFor(address string) string {
	if os.Getenv("DOCKER_HOST") == address {
		if dir := os.Getenv("DOCKER_CERT_PATH"); dir != "" {
			return dir
		}
		if os.Getenv("DOCKER_TLS_VERIFY") != "" {
			return configDir()
		}
	}
	metas, _ := filepath.Glob(filepath.Join(configDir(), "contexts", "meta", "*", "meta.json"))
	for _, file := range metas {
		var kept struct{ Name string }
		if data, err := reading.File(file, maxConfig); err == nil &&
			json.Unmarshal(data, &kept) == nil {
			if c, err := NamedContext(kept.Name); err == nil && c.Host == address && c.certs != "" {
				return c.certs
			}
		}
	}
	return ""
}

// options are how a client reaches the API at an address.
func options(address string) ([]client.Opt, error) {
	u, err := url.Parse(address)
	if err != nil {
		return nil, err
	}
	switch u.Scheme {
	case "ssh":
		words, err := sshWords(u)
		if err != nil {
			return nil, err
		}
		return []client.Opt{client.WithHost("http://" + dialled),
			client.WithDialContext(func(ctx context.Context, _, _ string) (net.Conn, error) {
				return dialCommand(append(words, "docker", "system", "dial-stdio"))
			})}, nil
	case "tcp":
		if certs := certsFor(address); certs != "" {
			return []client.Opt{client.WithHost(address),
				client.WithTLSClientConfig(filepath.Join(certs, "ca.pem"),
					filepath.Join(certs, "cert.pem"), filepath.Join(certs, "key.pem"))}, nil
		}
	}
	return []client.Opt{client.WithHost(address)}, nil
}

// dialled is the name of an engine that a command leads to, in requests that need one.
const dialled = "engine.invalid"

// sshWords are the beginning of a command that runs another one on the machine that an address
// names. Nothing of the address can become an option.
func sshWords(u *url.URL) ([]string, error) {
	host := u.Hostname()
	if host == "" || strings.HasPrefix(host, "-") ||
		u.User != nil && strings.HasPrefix(u.User.Username(), "-") {
		return nil, fmt.Errorf("%s names no machine", u.Redacted())
	}
	words := []string{"ssh", "-o", "ConnectTimeout=10", "-o", "BatchMode=yes", "-T"}
	if u.User != nil {
		words = append(words, "-l", u.User.Username())
	}
	if u.Port() != "" {
		words = append(words, "-p", u.Port())
	}
	return append(words, "--", host), nil
}

// commandConn is a connection over a command's input and output. Closing it ends the command.
type commandConn struct {
	cmd  *exec.Cmd
	in   io.WriteCloser
	out  io.ReadCloser
	once sync.Once
	said *tail

	ended sync.Once // its end has been waited for
}

// tail keeps the last words of a command that fails.
type tail struct {
	mu   sync.Mutex
	text []byte
}

func (t *tail) Write(p []byte) (int, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.text = append(t.text, p...); len(t.text) > 512 {
		t.text = t.text[len(t.text)-512:]
	}
	return len(p), nil
}

func (t *tail) String() string {
	t.mu.Lock()
	defer t.mu.Unlock()
	return strings.TrimSpace(string(t.text))
}

func dialCommand(words []string) (net.Conn, error) {
	c := &commandConn{cmd: exec.Command(words[0], words[1:]...), said: &tail{}}
	c.cmd.Stderr = c.said
	var err error
	if c.in, err = c.cmd.StdinPipe(); err != nil {
		return nil, err
	}
	if c.out, err = c.cmd.StdoutPipe(); err != nil {
		return nil, err
	}
	if err := c.cmd.Start(); err != nil {
		return nil, err
	}
	return c, nil
}

func (c *commandConn) Read(p []byte) (int, error) {
	n, err := c.out.Read(p)
	if err != io.EOF {
		return n, err
	}
	c.ended.Do(func() { c.cmd.Wait() }) // so that all that it has said is there
	if c.said.String() != "" {
		err = fmt.Errorf("%s: %s", c.cmd.Args[0], c.said)
	}
	return n, err
}

func (c *commandConn) Write(p []byte) (int, error) { return c.in.Write(p) }

// CloseWrite tells the other side that nothing more comes.
func (c *commandConn) CloseWrite() error { return c.in.Close() }

// Close ends the command.
func (c *commandConn) Close() error {
	c.once.Do(func() {
		c.in.Close()
		c.cmd.Process.Kill()
		go c.ended.Do(func() { c.cmd.Wait() })
	})
	return nil
}

func (c *commandConn) LocalAddr() net.Addr              { return commandAddr{} }
func (c *commandConn) RemoteAddr() net.Addr             { return commandAddr{} }
func (c *commandConn) SetDeadline(time.Time) error      { return nil }
func (c *commandConn) SetReadDeadline(time.Time) error  { return nil }
func (c *commandConn) SetWriteDeadline(time.Time) error { return nil }

type commandAddr struct{}

func (commandAddr) Network() string { return "command" }
func (commandAddr) String() string  { return dialled }

// elsewhere reports whether the engine runs on another machine: folders of this one can't be
// mounted there, and its ports are not this one's.
func (e *Engine) elsewhere(ctx context.Context) bool {
	if u, err := url.Parse(e.Address); err != nil || u.Scheme != "tcp" && u.Scheme != "ssh" {
		return false
	}
	info, err := e.cli.Info(ctx, client.InfoOptions{})
	name, nameErr := os.Hostname()
	return err != nil || nameErr != nil || info.Info.Name != name
}

// PublishIP is the address on the engine's machine on which ports are published where the files
// name none: this machine's loopback for an engine here and for one that is reached by ssh, else
// the address at which it is reached.
func (e *Engine) PublishIP() string {
	if !e.Remote {
		return "127.0.0.1"
	}
	u, err := url.Parse(e.Address)
	if err != nil || u.Scheme != "tcp" {
		return "127.0.0.1"
	}
	addresses, err := net.LookupIP(u.Hostname())
	if err != nil || len(addresses) == 0 {
		return "0.0.0.0"
	}
	return addresses[0].String()
}

// Dial connects to a port that is published on the engine's machine.
func (e *Engine) Dial(ctx context.Context, port int) (net.Conn, error) {
	u, err := url.Parse(e.Address)
	if err != nil {
		return nil, err
	}
	if u.Scheme == "ssh" {
		words, err := sshWords(u)
		if err != nil {
			return nil, err
		}
		last := len(words) - 2 // before the two dashes
		through := append(append([]string{}, words[:last]...), "-W",
			fmt.Sprintf("127.0.0.1:%d", port))
		return dialCommand(append(through, words[last:]...))
	}
	host := "127.0.0.1"
	if e.Remote {
		host = u.Hostname()
	}
	return (&net.Dialer{}).DialContext(ctx, "tcp", net.JoinHostPort(host, fmt.Sprint(port)))
}

// Forward lets a port of this machine's loopback lead to the same one on the engine's machine,
// until the context ends. Its error is that of listening here.
func (e *Engine) Forward(ctx context.Context, port int) error {
	l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port))
	if err != nil {
		return err
	}
	context.AfterFunc(ctx, func() { l.Close() })
	go func() {
		for {
			near, err := l.Accept()
			if err != nil {
				return
			}
			go e.lead(ctx, near, port)
		}
	}()
	return nil
}

// lead copies both ways between a connection here and one to the engine's machine, until both ends
// are done.
func (e *Engine) lead(ctx context.Context, near net.Conn, port int) {
	defer near.Close()
	far, err := e.Dial(ctx, port)
	if err != nil {
		return
	}
	defer far.Close()
	defer context.AfterFunc(ctx, func() { near.Close(); far.Close() })()
	done := make(chan struct{})
	go func() {
		io.Copy(far, near)
		if half, ok := far.(interface{ CloseWrite() error }); ok {
			half.CloseWrite()
		}
		close(done)
	}()
	io.Copy(near, far)
	if half, ok := near.(*net.TCPConn); ok {
		half.CloseWrite()
	}
	<-done
}
