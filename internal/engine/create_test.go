package engine

import (
	"cmp"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/moby/moby/client"
	"golang.org/x/net/http2"

	"nimbleharbor/internal/stack"
)

// TestHost looks at what the engine is told of that which an engine at hand can't show: other
// systems, other kernels, newer engines.
func TestHost(t *testing.T) {
	t.Parallel()
	s := Spec{Confinement: stack.Confinement{CPURealtimePeriod: 1000, CPURealtimeRuntime: 400,
		CPUPercent: 50},
		Mounts: []stack.Mount{{Type: "volume", Source: "v", Target: "/v", Subpath: "sub"},
			{Type: "image", Source: "i:1", Target: "/i", Subpath: "sub"}}}
	host, err := s.host()
	if err != nil {
		t.Fatal(err)
	}
	if host.CPURealtimePeriod != 1000 || host.CPURealtimeRuntime != 400 || host.CPUPercent != 50 ||
		host.Mounts[0].VolumeOptions.Subpath != "sub" ||
		host.Mounts[1].ImageOptions.Subpath != "sub" {
		t.Errorf("the engine is told %+v", host)
	}
	end, err := (&Attach{Attach: stack.Attach{MAC: "02:42:ac:11:00:07", Gateway: 3,
		IPv6: "2001:db8::9"}}).settings()
	if err != nil || end.MacAddress.String() != "02:42:ac:11:00:07" || end.GwPriority != 3 ||
		end.IPAMConfig.IPv6Address.String() != "2001:db8::9" {
		t.Errorf("of the network it is told %+v, %v", end, err)
	}
	for _, bad := range []stack.Attach{{MAC: "x"}, {IPv4: "x"}, {LinkLocal: []string{"x"}}} {
		if _, err := (&Attach{Attach: bad}).settings(); err == nil {
			t.Errorf("%+v was taken", bad)
		}
	}
	for text, want := range map[string]string{"linux/arm64/v8": "linux arm64 v8",
		"arm64": "linux arm64 ", "linux": "", "a/b/c/d": "error"} {
		got := ""
		switch p, err := platformOf(text); {
		case err != nil:
			got = "error"
		case p != nil:
			got = p.OS + " " + p.Architecture + " " + p.Variant
		}
		if got != want {
			t.Errorf("the platform %s is %q, want %q", text, got, want)
		}
	}
}

// TestBuildByCommand puts a program in the place of the engine's own and looks at how it is called.
func TestBuildByCommand(t *testing.T) {
	dir := t.TempDir()
	script := "#!/bin/sh\n[ \"$2\" = version ] && exit 0\nfor w; do echo \"$w\"; done\necho " +
		"secret $NIMBLEHARBOR_BUILD_SECRET_0 $TOKEN\n"
	if err := os.WriteFile(filepath.Join(dir, "docker"), []byte(script), 0o755); err != nil {
		t.Fatal(err)
	}
	spec := BuildSpec{Folder: &Folder{FS: os.DirFS(dir), Dockerfile: "-f"}, Dir: dir, Tag: "t:1",
		Secrets: map[string][]byte{"pin": []byte("canary1")},
		Building: stack.Building{Contexts: map[string]string{"base": "docker-image://b:1"},
			CacheTo: []string{"type=inline"},
			SSH:     map[string]string{"default": ""}, Entitlements: []string{"network.host"},
			BuildArgs: map[string]string{"TOKEN": "canary2"}}}
	e := &Engine{Address: "unix:///s"}
	t.Setenv("PATH", "")
	if err := e.Build(t.Context(), spec, nil); err == nil ||
		!strings.Contains(err.Error(), "additional_contexts") {
		t.Errorf("without the program: %v", err)
	}
	t.Setenv("PATH", dir+":/bin:/usr/bin")
	var said []string
	if err := e.Build(t.Context(), spec,
		func(line string) { said = append(said, line) }); err != nil {
		t.Fatal(err)
	}
	words := strings.Join(said[:len(said)-1], "\n")
	for _, want := range []string{"--host=unix:///s", "--build-context=base=docker-image://b:1",
		"--cache-to=type=inline", "--ssh=default", "--allow=network.host", "--build-arg=TOKEN",
		"--secret=id=pin,env=NIMBLEHARBOR_BUILD_SECRET_0", "--file=" + dir + "/-f", "--\n" + dir} {
		if !strings.Contains(words, want) {
			t.Errorf("the command lacks %s:\n%s", want, words)
		}
	}
	if strings.Contains(words, "canary") || said[len(said)-1] != "secret canary1 canary2" {
		t.Errorf("secrets are handed on as %q, the words are\n%s", said[len(said)-1], words)
	}
}

// TestCacheIsLost has a layer of the cache go away while the engine builds: it builds once more
// without the cache, and fails where that does not help.
func TestCacheIsLost(t *testing.T) {
	t.Parallel()
	for helps, want := range map[bool]string{true: "", false: "unable to find image"} {
		var asked []string
		server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Api-Version", "1.41")
			if !strings.HasSuffix(r.URL.Path, "/build") {
				return
			}
			io.Copy(io.Discard, r.Body)
			if asked = append(asked, r.URL.Query().Get("nocache")); helps && len(asked) > 1 {
				io.WriteString(w, `{"stream":"built"}`)
				return
			}
			io.WriteString(w, `{"error":"unable to find image \"sha256:b75ab8\""}`)
		}))
		defer server.Close()
		api, err := client.New(client.WithHost(strings.Replace(server.URL, "http", "tcp", 1)))
		if err != nil {
			t.Fatal(err)
		}
		var said []string
		err = (&Engine{cli: api}).Build(t.Context(), BuildSpec{Tag: "quay:1",
			Folder: &Folder{FS: os.DirFS(t.TempDir()), Inline: "FROM scratch\n"}},
			func(line string) { said = append(said, line) })
		if got := fmt.Sprint(err); want == "" && err != nil || !strings.Contains(got, want) {
			t.Errorf("it helps: %v, and the error is %v", helps, err)
		}
		if strings.Join(asked, ",") != ",1" ||
			!strings.Contains(said[0], "built again without it") {
			t.Errorf("asked %q, said %q", asked, said)
		}
	}
}

// TestSession asks for a secret as the builder does.
func TestSession(t *testing.T) {
	t.Parallel()
	server := httptest.NewUnstartedServer(answering(map[string][]byte{"pin": []byte("4421")}))
	http2.ConfigureServer(server.Config, &http2.Server{})
	server.TLS = server.Config.TLSConfig
	server.StartTLS()
	defer server.Close()
	ask := func(path, message string) (string, string) {
		resp, err := server.Client().Post(server.URL+path, "application/grpc",
			strings.NewReader("\x00\x00\x00\x00"+string(rune(len(message)))+message))
		if err != nil {
			t.Fatal(err)
		}
		defer resp.Body.Close()
		data, err := io.ReadAll(resp.Body)
		if err != nil {
			t.Fatal(err)
		}
		return string(data), cmp.Or(resp.Trailer.Get("Grpc-Status"), resp.Header.Get("Grpc-Status"))
	}
	if got, status := ask(callSecret, "\x0a\x03pin"); got != "\x00\x00\x00\x00\x06\x0a\x044421" ||
		status != "0" {
		t.Errorf("the secret comes as %q, %s", got, status)
	}
	if got, status := ask(callSecret, "\x0a\x05other"); got != "" || status != "5" {
		t.Errorf("an unknown one comes as %q, %s", got, status)
	}
	if got, status := ask(callHealth, ""); got != "\x00\x00\x00\x00\x02\x08\x01" || status != "0" {
		t.Errorf("it is well: %q, %s", got, status)
	}
	if _, status := ask("/else", ""); status != "12" {
		t.Errorf("another call: %s", status)
	}
}

// TestLogins finds what was kept for a registry: in the file, and by a helper program.
func TestLogins(t *testing.T) {
	dir := t.TempDir()
	t.Setenv("DOCKER_CONFIG", dir)
	t.Setenv("PATH", dir+":/bin:/usr/bin")
	config := map[string]any{"auths": map[string]any{hub: map[string]string{"auth": "cXVheTpzZWNyZXQ="}},
		"credHelpers": map[string]string{"images.saltmarsh.example": "quay", "bad.example": "../x"}}
	data, err := json.Marshal(config)
	if err != nil {
		t.Fatal(err)
	}
	helper := "#!/bin/sh\nread host\necho " +
		"\"{\\\"Username\\\":\\\"u-$host\\\",\\\"Secret\\\":\\\"s\\\"}\"\n"
	for name, text := range map[string]string{"config.json": string(data),
		"docker-credential-quay": helper} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	logins := readLogins()
	for ref, want := range map[string]string{"postgres:16": "quay/secret",
		"saltmarsh/web:1":                "quay/secret",
		"images.saltmarsh.example/web:1": "u-images.saltmarsh.example/s", "localhost:5000/x": "",
		"bad.example/x": ""} {
		got := ""
		if auth, ok := logins.login(t.Context(), registryOf(ref)); ok {
			got = auth.Username + "/" + auth.Password
		}
		if got != want {
			t.Errorf("for %s there is %q, want %q", ref, got, want)
		}
	}
	for host, want := range map[string]bool{hub: true, "images.saltmarsh.example": true,
		"localhost:5000": true,
		"127.0.0.1:5000": true, "elsewhere.example": false, "localhost.example": false} {
		if logins.knows(host) != want {
			t.Errorf("the registry %s is one that this machine deals with: %v", host, !want)
		}
	}
	if len(savedLogins()) != 2 {
		t.Errorf("for a build there are %v", savedLogins())
	}
}

// TestLayers follows what an engine says while it fetches an image of two layers.
func TestLayers(t *testing.T) {
	t.Parallel()
	var l layers
	now := time.Now()
	l.heard("16", "Pulling from library/quay", 0, 0)
	if got := l.tell(now); got != "" {
		t.Errorf("before there is a layer it tells %q", got)
	}
	for _, id := range []string{"a", "b"} {
		l.heard(id, "Pulling fs layer", 0, 0)
	}
	l.heard("a", "Downloading", 1_500_000, 3_000_000)
	if got := l.tell(now); got != "0 of 2 layers, 1.5 of 3.0 MB so far" {
		t.Errorf("it tells %q", got)
	}
	l.heard("a", "Pull complete", 0, 0)
	l.heard("b", "Downloading", 500_000, 1_000_000)
	if got := l.tell(now.Add(tellEvery / 2)); got != "" {
		t.Errorf("too early it tells %q", got)
	}
	if got := l.tell(now.Add(tellEvery)); got != "1 of 2 layers, 3.5 of 4.0 MB so far" {
		t.Errorf("later it tells %q", got)
	}
}
