// Package inside is what a program uses that runs as a container of either engine: of a real one,
// where it is nothing but the standard library, or of the stand-in, where containers are plain
// processes of this machine that share its network. Listen, Dial and Path make the two look alike.
package inside

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"path"
	"strings"
	"sync"
)

// The variables by which the stand-in tells a process what it is.
const (
	EnvSocket    = "NHARBOR_STANDIN_SOCKET"
	EnvContainer = "NHARBOR_STANDIN_CONTAINER"
	EnvPaths     = "NHARBOR_STANDIN_PATHS"
)

// LifelineFD is the file descriptor that ends when the stand-in does.
const LifelineFD = 3

var lifeline sync.Once

// standin gives a client for the stand-in's socket; nil in a real container.
func standin() *http.Client {
	socket := os.Getenv(EnvSocket)
	if socket == "" {
		return nil
	}
	lifeline.Do(func() {
		if f := os.NewFile(LifelineFD, "lifeline"); f != nil {
			go func() {
				if _, err := io.Copy(io.Discard, f); err == nil {
					os.Exit(137)
				}
			}()
		}
	})
	return &http.Client{Transport: &http.Transport{DisableKeepAlives: true,
		DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
			return (&net.Dialer{}).DialContext(ctx, "unix", socket)
		}}}
}

func ask(ctx context.Context, what string, values url.Values) (string, error) {
	values.Set("container", os.Getenv(EnvContainer))
	req, err := http.NewRequestWithContext(ctx, http.MethodPost,
		"http://standin/inside/"+what+"?"+values.Encode(), nil)
	if err != nil {
		return "", err
	}
	resp, err := standin().Do(req)
	if err != nil {
		return "", err
	}
	defer resp.Body.Close()
	body, err := io.ReadAll(io.LimitReader(resp.Body, 4096))
	if err != nil {
		return "", err
	}
	if resp.StatusCode != http.StatusOK {
		return "", errors.New(strings.TrimSpace(string(body)))
	}
	return string(body), nil
}

// Listen listens on a TCP address as a container sees it.
func Listen(address string) (net.Listener, error) {
	if standin() == nil {
		return net.Listen("tcp", address)
	}
	host, port, err := net.SplitHostPort(address)
	if err != nil {
		return nil, err
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	values := url.Values{"port": {port}, "actual": {l.Addr().String()}}
	if ip := net.ParseIP(host); ip != nil && ip.IsLoopback() || host == "localhost" {
		values.Set("loopback", "1")
	}
	if _, err := ask(context.Background(), "listen", values); err != nil {
		l.Close()
		return nil, fmt.Errorf("listen %s: %w", address, err)
	}
	return l, nil
}

// Dial connects to a TCP address as a container sees it: by a service's name, or its own loopback.
func Dial(ctx context.Context, address string) (net.Conn, error) {
	d := net.Dialer{}
	if standin() == nil {
		return d.DialContext(ctx, "tcp", address)
	}
	host, port, err := net.SplitHostPort(address)
	if err != nil {
		return nil, err
	}
	actual, err := ask(ctx, "resolve", url.Values{"host": {host}, "port": {port}})
	if err != nil {
		return nil, fmt.Errorf("dial %s: %w", address, err)
	}
	return d.DialContext(ctx, "tcp", actual)
}

// Path gives the real place of a path in the container's file system.
func Path(p string) string {
	var mounts map[string]string
	if err := json.Unmarshal([]byte(os.Getenv(EnvPaths)), &mounts); err != nil {
		return p
	}
	for dir := path.Clean(p); ; dir = path.Dir(dir) {
		if real, ok := mounts[dir]; ok {
			return real + strings.TrimPrefix(path.Clean(p), dir)
		}
		if dir == "/" || dir == "." {
			return p
		}
	}
}
