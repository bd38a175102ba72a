package engine_test

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"nimbleharbor/internal/engine"
	"nimbleharbor/internal/engine/standin"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/testport"
)

// TestContract holds the stand-in and a real engine to the same behaviour, as package engine sees
// it.
func TestContract(t *testing.T) {
	t.Parallel()
	tiny := buildTiny(t)
	t.Run("stand-in", func(t *testing.T) {
		t.Parallel()
		dir, err := os.MkdirTemp("", "nh") // a socket's path must be short
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { os.RemoveAll(dir) })
		socket := filepath.Join(dir, "s")
		s, err := standin.Start(socket, filepath.Join(dir, "state"), nil)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { s.Close() })
		contract(t, "unix://"+socket, tiny)
	})
	t.Run("real", func(t *testing.T) {
		t.Parallel()
		e, err := engine.Connect(t.Context())
		if err != nil {
			if os.Getenv("NHARBOR_REQUIRE_ENGINE") != "" {
				t.Fatalf("a container engine is required here: %v", err)
			}
			t.Skipf("no container engine on this machine: %v", err)
		}
		address := e.Address
		e.Close()
		contract(t, address, tiny)
	})
}

// buildTiny makes the static program that the images hold.
func buildTiny(t *testing.T) string {
	out := filepath.Join(t.TempDir(), "tiny")
	cmd := exec.Command("go", "build", "-o", out, "./testdata/tiny")
	cmd.Env = append(os.Environ(), "CGO_ENABLED=0")
	if said, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("building the test program: %v\n%s", err, said)
	}
	return filepath.Dir(out)
}

var counter atomic.Int64

// rig is one engine under test with names of its own.
type rig struct {
	*engine.Engine
	image, network string
	labels         map[string]string
	prefix         string
}

func contract(t *testing.T, address, tiny string) {
	e, err := engine.At(t.Context(), address)
	if err != nil {
		t.Fatal(err)
	}
	prefix := fmt.Sprintf("nharbor-contract-%d-%d", os.Getpid(), counter.Add(1))
	r := &rig{Engine: e, image: prefix + ":1", network: prefix, prefix: prefix,
		labels: map[string]string{engine.LabelStack: prefix}}
	ctx := context.Background()
	t.Cleanup(func() {
		list, err := e.List(ctx, r.labels)
		if err != nil {
			t.Error(err)
		}
		for _, c := range list {
			e.Remove(ctx, c.ID)
		}
		_, err = e.RemoveVolumes(ctx, r.labels)
		for what, err := range map[string]error{"volumes": err,
			"networks": e.RemoveNetworks(ctx, r.labels),
			"image":    e.Images().Remove(ctx, r.image)} {
			if err != nil {
				t.Errorf("removing the %s: %v", what, err)
			}
		}
		e.Close()
	})

	dockerfile := "FROM scratch\nARG GREETING=none\nCOPY tiny /tiny\nENV KEPT=from-image " +
		"GREETING=$GREETING\nEXPOSE " +
		"7000\nENTRYPOINT [\"/tiny\"]\nCMD [\"say\", \"default command\"]\n"
	if err := os.WriteFile(filepath.Join(tiny, "Dockerfile"), []byte(dockerfile),
		0o600); err != nil {
		t.Fatal(err)
	}
	if has, err := e.Images().Has(ctx, r.image); has || err != nil {
		t.Fatalf("before the build HasImage says %v, %v", has, err)
	}
	if err := e.Build(ctx, engine.BuildSpec{Folder: &engine.Folder{FS: os.DirFS(tiny),
		Dockerfile: "Dockerfile"},
		Tag: r.image, Building: stack.Building{BuildArgs: map[string]string{"GREETING": "hello"}},
		Labels: r.labels}, nil); err != nil {
		t.Fatal(err)
	}
	if has, err := e.Images().Has(ctx, r.image); !has || err != nil {
		t.Fatalf("after the build HasImage says %v, %v", has, err)
	}
	if ports, err := e.Images().Ports(ctx, r.image); len(ports) != 1 || ports[0] != "7000/tcp" ||
		err != nil {
		t.Errorf("ImagePorts = %v, %v", ports, err)
	}
	for range 2 { // the second time it is there already
		if err := e.EnsureNetwork(ctx, r.network, stack.Network{}, r.labels); err != nil {
			t.Fatal(err)
		}
	}
	for _, c := range []struct {
		name string
		test func(*testing.T, *rig)
	}{
		{"runs the image's command, and keeps its output", testCommand},
		{"gives the environment, the exit code and both streams", testStreams},
		{"stops gracefully, and kills what won't", testStop},
		{"lets containers find each other by name", testNames},
		{"publishes ports", testPublish},
		{"refuses a port that is taken", testTaken},
		{"keeps volumes", testVolumes},
		{"mounts a folder of the machine", testBind},
		{"runs commands inside", testExec},
		{"tells health", testHealth},
		{"lists by label", testList},
		{"tells what a container takes", testUsage},
		{"reports what does not exist", testAbsent},
		{"builds from a Dockerfile in the compose file", testBuildInline},
		{"reports a build that fails", testBuildFails},
	} {
		t.Run(c.name, func(t *testing.T) { c.test(t, r) })
	}
}

// start makes and starts a container of the tiny image.
func (r *rig) start(t *testing.T, spec engine.Spec) string {
	t.Helper()
	if spec.Image == "" {
		spec.Image = r.image
	}
	spec.Name = fmt.Sprintf("%s-%d", r.prefix, counter.Add(1))
	spec.Labels = map[string]string{engine.LabelStack: r.prefix, engine.LabelService: "tiny"}
	id, err := r.Create(t.Context(), spec)
	if err != nil {
		t.Fatal(err)
	}
	if err := r.Start(t.Context(), id); err != nil {
		t.Fatal(err)
	}
	return id
}

// ended waits for a container's end and gives exit code, output and error output.
func (r *rig) ended(t *testing.T, id string) (int, string, string) {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), 3*time.Minute)
	defer cancel()
	code, err := r.Wait(ctx, id)
	if err != nil {
		t.Fatal(err)
	}
	var out, errOut bytes.Buffer
	if err := r.Logs(ctx, id, &out, &errOut); err != nil {
		t.Fatal(err)
	}
	return code, out.String(), errOut.String()
}

func testCommand(t *testing.T, r *rig) {
	code, out, _ := r.ended(t, r.start(t, engine.Spec{}))
	if code != 0 || out != "default command\n" {
		t.Errorf("exit code %d, output %q", code, out)
	}
}

func testStreams(t *testing.T, r *rig) {
	code, out, errOut := r.ended(t, r.start(t, engine.Spec{Env: []string{"GIVEN=x y=z"},
		Command: []string{"env", "GIVEN", "env", "KEPT", "env", "GREETING", "complain",
			"to stderr", "exit", "42"}}))
	if code != 42 || out != "x y=z\nfrom-image\nhello\n" || errOut != "to stderr\n" {
		t.Errorf("exit code %d, output %q, errors %q", code, out, errOut)
	}
}

func testStop(t *testing.T, r *rig) {
	id := r.start(t, engine.Spec{Command: []string{"say", "ready", "stay"}})
	waitFor(t, "its first line", func() bool { return strings.Contains(r.said(t, id), "ready") })
	if err := r.Stop(t.Context(), id, 20*time.Second); err != nil {
		t.Fatal(err)
	}
	if code, out, _ := r.ended(t, id); code != 0 || out != "ready\nasked to stop\n" {
		t.Errorf("graceful stop: exit code %d, output %q", code, out)
	}
	deaf := r.start(t, engine.Spec{Command: []string{"stay-deaf"}})
	waitFor(t, "its first line", func() bool { return strings.Contains(r.said(t, deaf), "deaf") })
	if err := r.Stop(t.Context(), deaf, time.Second); err != nil {
		t.Fatal(err)
	}
	if code, _, _ := r.ended(t, deaf); code != 137 {
		t.Errorf("a deaf container ended with %d, want 137", code)
	}
}

// said gives what a container has written so far.
func (r *rig) said(t *testing.T, id string) string {
	var out locked
	ctx, cancel := context.WithTimeout(t.Context(), 300*time.Millisecond)
	defer cancel()
	r.Logs(ctx, id, &out, io.Discard)
	return out.String()
}

type locked struct {
	mu  sync.Mutex
	buf bytes.Buffer
}

func (l *locked) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.buf.Write(p)
}
func (l *locked) String() string { l.mu.Lock(); defer l.mu.Unlock(); return l.buf.String() }

// waitFor asks again and again until ok, and gives up after half a minute.
func waitFor(t *testing.T, what string, ok func() bool) {
	t.Helper()
	for end := time.Now().Add(3 * time.Minute); !ok(); {
		if time.Now().After(end) {
			t.Fatalf("waited in vain for %s", what)
		}
	}
}

func testNames(t *testing.T, r *rig) {
	r.start(t, engine.Spec{Command: []string{"serve", ":7000", "the answer", "stay"},
		Networks: []engine.Attach{{Network: r.network,
			Attach: stack.Attach{Aliases: []string{"oracle"}}}}})
	r.start(t, engine.Spec{Command: []string{"serve", "127.0.0.1:7000", "for itself", "stay"},
		Networks: []engine.Attach{{Network: r.network,
			Attach: stack.Attach{Aliases: []string{"hermit"}}}}})
	asker := func(host string, networks ...engine.Attach) (int, string, string) {
		return r.ended(t, r.start(t,
			engine.Spec{Command: []string{"ask", host + ":7000"}, Networks: networks}))
	}
	here := engine.Attach{Network: r.network}
	waitFor(t, "the oracle", func() bool {
		code, out, _ := asker("oracle", here)
		return code == 0 && out == "the answer\n"
	})
	if code, _, errOut := asker("hermit", here); code != 3 || !strings.Contains(errOut, "refused") {
		t.Errorf("a port on another container's loopback: exit code %d, %q", code, errOut)
	}
	if code, _, _ := asker("nobody", here); code != 3 {
		t.Errorf("an unknown name: exit code %d", code)
	}
	if code, _, _ := asker("oracle"); code != 3 {
		t.Errorf("from outside the network: exit code %d", code)
	}
}

func testPublish(t *testing.T, r *rig) {
	port := testport.Take(t)
	id := r.start(t, engine.Spec{Command: []string{"serve", ":7000", "published", "stay"},
		Networks: []engine.Attach{{Network: r.network}},
		Publish: []engine.Publish{{HostIP: "127.0.0.1", Host: port, Target: 7000,
			Transport: "tcp"}}})
	address := fmt.Sprintf("127.0.0.1:%d", port)
	get := func() string {
		c, err := net.DialTimeout("tcp", address, 2*time.Second)
		if err != nil {
			return err.Error()
		}
		defer c.Close()
		data, _ := io.ReadAll(c)
		return string(data)
	}
	waitFor(t, "the published port", func() bool { return get() == "published" })
	if err := r.Remove(t.Context(), id); err != nil {
		t.Fatal(err)
	}
	if said := get(); !strings.Contains(said, "refused") {
		t.Errorf("after the removal the port says %q", said)
	}
}

func testTaken(t *testing.T, r *rig) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	id, err := r.Create(t.Context(),
		engine.Spec{Name: r.prefix + "-taken", Image: r.image, Labels: r.labels,
			Networks: []engine.Attach{{Network: r.network}},
			Publish: []engine.Publish{{HostIP: "127.0.0.1", Host: l.Addr().(*net.TCPAddr).Port,
				Target: 7000, Transport: "tcp"}}})
	if err != nil {
		t.Fatal(err)
	}
	if err := r.Start(t.Context(), id); err == nil || !strings.Contains(err.Error(), "in use") &&
		!strings.Contains(err.Error(), "allocated") {
		t.Errorf("starting on a taken port: %v", err)
	}
}

func testVolumes(t *testing.T, r *rig) {
	name := r.prefix + "-data"
	ensure := func() string {
		id, err := r.EnsureVolume(t.Context(), name, stack.Volume{}, r.labels)
		if err != nil || id == "" {
			t.Fatalf("EnsureVolume gives %q, %v", id, err)
		}
		return id
	}
	id := ensure()
	if again := ensure(); again != id {
		t.Errorf("the same volume is %q, then %q", id, again)
	}
	other := map[string]string{engine.LabelStack: r.prefix + "-other"}
	if list, err := r.Volumes(t.Context(), other); err != nil || len(list) != 0 {
		t.Errorf("another stack has the volumes %v, %v", list, err)
	}
	if list, err := r.Volumes(t.Context(), r.labels); err != nil || len(list) != 1 ||
		list[name] == "" {
		t.Errorf("the volumes are %v, %v", list, err)
	}
	if removed, err := r.RemoveVolumes(t.Context(), r.labels); err != nil || len(removed) != 1 ||
		removed[0] != name {
		t.Fatalf("removed were %v, %v", removed, err)
	}
	if other := ensure(); other == id {
		t.Error("a new volume is taken for the one that was removed")
	}
	on := []stack.Mount{{Type: "volume", Source: name, Target: "/data"}}
	first := r.start(t, engine.Spec{Command: []string{"write", "/data/note", "kept"}, Mounts: on})
	if code, _, errOut := r.ended(t, first); code != 0 {
		t.Fatalf("writing: exit code %d, %s", code, errOut)
	}
	if _, err := r.RemoveVolumes(t.Context(), r.labels); err == nil {
		t.Error("a volume in use was removed")
	}
	second := r.start(t, engine.Spec{Command: []string{"read", "/data/note"}, Mounts: on})
	if code, out, errOut := r.ended(t, second); code != 0 || out != "kept\n" {
		t.Errorf("reading: exit code %d, %q, %s", code, out, errOut)
	}
}

func testBind(t *testing.T, r *rig) {
	dir := t.TempDir()
	os.Chmod(dir, 0o755)
	if err := os.WriteFile(filepath.Join(dir, "note"), []byte("of the machine"),
		0o644); err != nil {
		t.Fatal(err)
	}
	id := r.start(t, engine.Spec{Command: []string{"read", "/from/note"},
		Mounts: []stack.Mount{{Type: "bind", Source: dir, Target: "/from", ReadOnly: true}}})
	if code, out, errOut := r.ended(t, id); code != 0 || out != "of the machine\n" {
		t.Errorf("exit code %d, %q, %s", code, out, errOut)
	}
}

func testExec(t *testing.T, r *rig) {
	id := r.start(t, engine.Spec{Command: []string{"stay"}})
	for _, want := range []int{0, 7} {
		if code, err := r.Exec(t.Context(), id,
			[]string{"/tiny", "exit", fmt.Sprint(want)}); code != want || err != nil {
			t.Errorf("Exec = %d, %v, want %d", code, err, want)
		}
	}
	if code, err := r.Exec(t.Context(), id, []string{"/absent"}); err == nil && code == 0 {
		t.Error("a command that doesn't exist ended well")
	}
	var out, errOut bytes.Buffer
	code, err := r.ExecPiped(t.Context(), id,
		[]string{"/tiny", "say", "one", "complain", "two", "echo", "exit", "3"},
		strings.NewReader("three"), &out, &errOut)
	if code != 3 || err != nil || out.String() != "one\nthree" || errOut.String() != "two\n" {
		t.Errorf("through a pipe: %d, %v, output %q, errors %q", code, err, out.String(),
			errOut.String())
	}
}

func testHealth(t *testing.T, r *rig) {
	spec := func(code string) engine.Spec {
		return engine.Spec{Command: []string{"stay"},
			Health: &stack.Health{Test: []string{"CMD", "/tiny", "exit", code}, Interval: 0.05,
				Timeout: 5, Retries: 1}}
	}
	well, ill := r.start(t, spec("0")), r.start(t, spec("1"))
	for id, want := range map[string]string{well: "healthy", ill: "unhealthy"} {
		waitFor(t, want, func() bool {
			s, err := r.Inspect(t.Context(), id)
			return err == nil && s.Health == want
		})
	}
}

func testList(t *testing.T, r *rig) {
	id := r.start(t, engine.Spec{Command: []string{"stay"}})
	find := func() *engine.Listed {
		list, err := r.List(t.Context(), r.labels)
		if err != nil {
			t.Fatal(err)
		}
		for _, c := range list {
			if c.ID == id {
				return &c
			}
		}
		return nil
	}
	if c := find(); c == nil || !c.Running || c.Service != "tiny" ||
		!strings.HasPrefix(c.Name, r.prefix) {
		t.Errorf("listed as %+v", c)
	}
	if list, err := r.List(t.Context(),
		map[string]string{engine.LabelStack: "another"}); len(list) != 0 || err != nil {
		t.Errorf("another stack's list: %v, %v", list, err)
	}
	if err := r.Remove(t.Context(), id); err != nil {
		t.Fatal(err)
	}
	if c := find(); c != nil {
		t.Errorf("after its removal it is listed as %+v", c)
	}
}

func testUsage(t *testing.T, r *rig) {
	id := r.start(t, engine.Spec{Command: []string{"stay"}})
	if cpu, memory, err := r.Usage(t.Context(), id); err != nil || memory == 0 || memory > 1<<30 ||
		cpu < 0 || cpu > time.Minute {
		t.Errorf("it takes %v of time and %d bytes, %v", cpu, memory, err)
	}
	if err := r.Remove(t.Context(), id); err != nil {
		t.Fatal(err)
	}
	if _, _, err := r.Usage(t.Context(), id); !engine.IsNotFound(err) {
		t.Errorf("of one that has gone is said %v", err)
	}
}

func testAbsent(t *testing.T, r *rig) {
	ctx := t.Context()
	if _, err := r.Create(ctx, engine.Spec{Image: r.prefix +
		"-absent:1"}); !engine.IsNotFound(err) {
		t.Errorf("a container of an absent image: %v", err)
	}
	if _, err := r.Inspect(ctx, r.prefix+"-absent"); !engine.IsNotFound(err) {
		t.Errorf("an absent container: %v", err)
	}
	for what, err := range map[string]error{"Stop": r.Stop(ctx, r.prefix+"-absent", 0),
		"Remove": r.Remove(ctx, r.prefix+"-absent")} {
		if err != nil {
			t.Errorf("%s of an absent container is an error: %v", what, err)
		}
	}
	id, err := r.Create(ctx, engine.Spec{Name: r.prefix + "-no-program", Image: r.image,
		Labels: r.labels, Entrypoint: []string{"/absent"}})
	if err != nil {
		t.Fatal(err)
	}
	if err := r.Start(ctx, id); err == nil || !strings.Contains(err.Error(), "/absent") {
		t.Errorf("an absent program: %v", err)
	}
}

func testBuildInline(t *testing.T, r *rig) {
	tag := r.prefix + "-inline:1"
	folder := &engine.Folder{FS: os.DirFS(t.TempDir()), Inline: "FROM scratch\nEXPOSE 7001\n"}
	if err := r.Build(t.Context(), engine.BuildSpec{Folder: folder, Tag: tag}, nil); err != nil {
		t.Fatal(err)
	}
	if ports, err := r.Images().Ports(t.Context(), tag); len(ports) != 1 ||
		ports[0] != "7001/tcp" || err != nil {
		t.Errorf("its ports are %v, %v", ports, err)
	}
	if err := r.Images().Remove(t.Context(), tag); err != nil {
		t.Error(err)
	}
}

func testBuildFails(t *testing.T, r *rig) {
	dir := t.TempDir()
	if err := os.WriteFile(filepath.Join(dir, "Dockerfile"),
		[]byte("FROM scratch\nCOPY absent /\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	var said []string
	err := r.Build(t.Context(), engine.BuildSpec{Folder: &engine.Folder{FS: os.DirFS(dir),
		Dockerfile: "Dockerfile"},
		Tag: r.prefix + "-fails:1"}, func(line string) { said = append(said, line) })
	if err == nil || !strings.Contains(err.Error(), "absent") || len(said) == 0 {
		t.Errorf("the build's error is %v, after saying %q", err, said)
	}
}
