package engine

import (
	"encoding/base64"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// TestSizeOf asks a registry, as the protocol for distributing images has it: for several platforms
// or one, by tag or by digest, open or to be let in by a pass or a login.
func TestSizeOf(t *testing.T) {
	const one, two = `{"layers": [{"size": 1000}, {"size": 3000}]}`, `{"layers": [{"size": 8000}]}`
	const index = `{"manifests": [{"digest": "sha256:aa", "platform": {"os": "linux", "architecture": "amd64"}},
		{"digest": "sha256:bb", "platform": {"os": "linux", "architecture": "arm64"}}]}`
	shelves := map[string]string{"/v2/ferry/tides/manifests/7": index,
		"/v2/ferry/tides/manifests/sha256:aa": one,
		"/v2/ferry/tides/manifests/sha256:bb": two, "/v2/buoy/manifests/latest": two,
		"/v2/broken/manifests/1": "<html>",
		"/v2/long/manifests/1":   `{"layers": [` + strings.Repeat(" ", 8<<20) + `{"size": 5}]}`,
		"/v2/less/manifests/1":   `{"layers": [{"size": -5}]}`}
	var server *httptest.Server
	server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		user, password, _ := r.BasicAuth()
		switch known := user == "ida" && password == "canary"; {
		case r.URL.Path == "/pass":
			if !known || r.URL.Query().Get("scope") != "repository:ferry/tides:pull" ||
				r.URL.Query().Get("service") != "x" {
				http.Error(w, "no", http.StatusForbidden)
				return
			}
			fmt.Fprint(w, `{"token": "let-in"}`)
		case strings.HasPrefix(r.URL.Path, "/v2/ferry/") &&
			r.Header.Get("Authorization") != "Bearer let-in":
			w.Header().Set("WWW-Authenticate",
				`Bearer realm="`+server.URL+`/pass",service="x",scope="repository:`+
					`ferry/tides:pull"`)
			w.WriteHeader(http.StatusUnauthorized)
		case r.URL.Path == "/v2/buoy/manifests/latest" && !known:
			w.Header().Set("WWW-Authenticate", `Basic realm="x"`)
			w.WriteHeader(http.StatusUnauthorized)
		case strings.HasPrefix(r.URL.Path, "/v2/away/"):
			w.Header().Set("WWW-Authenticate", `Bearer realm="ftp://elsewhere.example/pass"`)
			w.WriteHeader(http.StatusUnauthorized)
		case shelves[r.URL.Path] == "" ||
			!strings.Contains(r.Header.Get("Accept"), "oci.image.index"):
			http.NotFound(w, r)
		default:
			fmt.Fprint(w, shelves[r.URL.Path])
		}
	}))
	defer server.Close()
	host := strings.TrimPrefix(server.URL, "http://")
	dir := t.TempDir()
	t.Setenv("DOCKER_CONFIG", dir)
	if err := os.WriteFile(filepath.Join(dir, "config.json"),
		fmt.Appendf(nil, `{"auths": {%q: {"auth": %q}}}`, host,
			base64.StdEncoding.EncodeToString([]byte("ida:canary"))), 0o600); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		ref, platform string
		size          uint64
		known         bool
	}{
		{"ferry/tides:7", "linux/x86_64", 10000, true}, {"ferry/tides:7", "linux/aarch64", 20000,
			true},
		{"ferry/tides:7", "linux/riscv64", 0, false}, {"ferry/tides@sha256:aa", "linux/amd64",
			10000, true},
		{"ferry/tides:7@sha256:bb", "linux/amd64", 20000, true}, {"buoy", "linux/amd64", 20000,
			true},
		{"absent:1", "linux/amd64", 0, false}, {"broken:1", "linux/amd64", 0, false},
		{"long:1", "linux/amd64", 0, false}, {"less:1", "linux/amd64", 0, false}, {"away:1",
			"linux/amd64", 0, false},
	} {
		if size, known := sizeOf(t.Context(), host+"/"+c.ref, c.platform); size != c.size ||
			known != c.known {
			t.Errorf("%s for %s: %d bytes, %v; wanted %d, %v", c.ref, c.platform, size, known,
				c.size, c.known)
		}
	}
}
