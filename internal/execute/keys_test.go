package execute

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/moby/moby/client"

	"nimbleharbor/internal/casefile"
	"nimbleharbor/internal/compose"
	"nimbleharbor/internal/engine"
	"nimbleharbor/internal/keeper"
	"nimbleharbor/internal/logs"
	"nimbleharbor/internal/memory"
	"nimbleharbor/internal/order"
	"nimbleharbor/internal/plan"
	"nimbleharbor/internal/run"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/survey"
)

// realEngine gives the engine of this machine. Where one is required the test fails without it,
// else it is skipped.
func realEngine(t testing.TB) *engine.Engine {
	t.Helper()
	e, err := engine.Connect(t.Context())
	if err != nil {
		if os.Getenv("NHARBOR_REQUIRE_ENGINE") != "" {
			t.Fatalf("a container engine is required here: %v", err)
		}
		t.Skipf("no container engine on this machine: %v", err)
	}
	t.Cleanup(func() { e.Close() })
	return e
}

const tinyImage = "nharbor-test-tiny:1"

// tiny builds, once, the image of the program that the engine's own tests use; its folder holds the
// program.
var tiny = sync.OnceValues(func() (string, error) {
	dir, err := os.MkdirTemp("", "nh")
	if err != nil {
		return "", err
	}
	cmd := exec.Command("go", "build", "-o", filepath.Join(dir, "tiny"), "../engine/testdata/tiny")
	cmd.Env = append(os.Environ(), "CGO_ENABLED=0")
	if said, err := cmd.CombinedOutput(); err != nil {
		return "", fmt.Errorf("%w: %s", err, said)
	}
	e, err := engine.Connect(context.Background())
	if err != nil {
		return "", err
	}
	defer e.Close()
	return dir, e.Build(context.Background(),
		engine.BuildSpec{Tag: tinyImage, Folder: &engine.Folder{FS: os.DirFS(dir),
			Inline: "FROM scratch\nCOPY tiny /tiny\nENTRYPOINT [\"/tiny\"]\nCMD [\"say\", \"from " +
				"the image\"]\n"}}, nil)
})

// keyCase is a compose file on a real engine.
type keyCase struct {
	*casefile.Case
	x   *Executor
	api *client.Client
	ids map[string]string // of containers, by service

	running bool // all are launched
}

// TestKeys makes containers of compose files and looks at what the engine has of them. Of a case
// whose first line ends with "(run)" all are launched as well.
func TestKeys(t *testing.T) {
	t.Parallel()
	e := realEngine(t)
	if _, err := tiny(); err != nil {
		t.Fatal(err)
	}
	casefile.Run(t, "testdata/keys/*.case", func(t *testing.T, c *casefile.Case) {
		api, err := client.New(client.WithHost(e.Address))
		if err != nil {
			t.Fatal(err)
		}
		defer api.Close()
		k := &keyCase{Case: c, api: api, ids: map[string]string{}}
		k.open(t, e)
		defer k.clean(t, e)
		first, _, _ := strings.Cut(c.Intro, "\n")
		if k.make(t, e, strings.HasSuffix(first, "(run)")); t.Failed() {
			return
		}
		c.Want(t, k.look(t))
	})
}

// open makes a workspace of the case's files, and a plan as a launch makes it.
func (k *keyCase) open(t testing.TB, e *engine.Engine) {
	t.Helper()
	root := t.TempDir()
	for name, text := range k.Files {
		if name == "want" {
			continue
		}
		file := filepath.Join(root, filepath.FromSlash(name))
		if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(file, []byte(strings.ReplaceAll(text, "TINY", tinyImage)),
			0o644); err != nil {
			t.Fatal(err)
		}
	}
	dir, err := tiny()
	if err != nil {
		t.Fatal(err)
	}
	if k.Files["built/Dockerfile"] != "" {
		data, err := os.ReadFile(filepath.Join(dir, "tiny"))
		if err == nil {
			err = os.WriteFile(filepath.Join(root, "built", "tiny"), data, 0o755)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	env := func(name string) (string, bool) { return "from the shell", name == "GIVEN" }
	s, err := survey.Survey(os.DirFS(root), survey.Options{Root: root, Env: env})
	if err != nil {
		t.Fatal(err)
	}
	s.Root = root
	mixed, err := plan.Mix(s, plan.Options{})
	if err != nil {
		t.Fatal(err)
	}
	ord, err := order.Build(mixed.Stack, order.Options{})
	if err != nil {
		t.Fatal(err)
	}
	plan, err := plan.Make(root, os.DirFS(root), mixed, ord, plan.Options{})
	if err != nil {
		t.Fatal(err)
	}
	folder, err := logs.Begin(root, nil)
	if err != nil {
		t.Fatal(err)
	}
	k.x = New(t.Context(), plan, Machines{Here: e}, folder, memory.Recall(root), nil)
}

// make makes the containers, or launches all.
func (k *keyCase) make(t *testing.T, e *engine.Engine, run bool) {
	t.Helper()
	ctx := t.Context()
	if run {
		k.running = true
		if err := k.x.Run(); err != nil {
			t.Fatal(err)
		}
		for _, f := range k.x.State().Failures() {
			t.Errorf("%s: %s", f.ID.Title(), f.Text)
		}
		list, err := e.List(ctx, map[string]string{engine.LabelStack: k.x.Plan().ID})
		if err != nil {
			t.Fatal(err)
		}
		for _, c := range list {
			k.ids[c.Service] = c.ID
		}
		return
	}
	if err := k.x.containers().ensure(ctx); err != nil {
		t.Fatal(err)
	}
	for _, s := range k.x.Plan().Services {
		if s.ImageTag != "" {
			log, err := k.x.logs.Open(stack.ServiceNode(s.Name))
			if err != nil {
				t.Fatal(err)
			}
			if err := k.x.images().built(ctx, k.x.at(stack.ServiceNode(s.Name)), &s, log,
				nil); err != nil {
				t.Errorf("%s: %v", s.Name, err)
				continue
			}
		}
		spec, err := k.x.containers().container(&s, 0)
		if err == nil {
			k.ids[s.Name], err = e.Create(ctx, spec.Spec)
		}
		if err != nil {
			t.Errorf("%s: %v", s.Name, err)
		}
	}
}

// clean leaves nothing behind.
func (k *keyCase) clean(t testing.TB, e *engine.Engine) {
	if k.running {
		k.x.Stop(nil)
	}
	ctx, labels := context.Background(), map[string]string{engine.LabelStack: k.x.Plan().ID}
	if err := keeper.RemoveContainers(ctx, e, k.x.Plan().ID); err != nil {
		t.Error(err)
	}
	_, err := e.RemoveVolumes(ctx, labels)
	for what, err := range map[string]error{"volumes": err,
		"networks": e.RemoveNetworks(ctx, labels), "images": e.Images().RemoveAll(ctx, labels)} {
		if err != nil {
			t.Errorf("removing the %s: %v", what, err)
		}
	}
}

// look gives the lines of what is wanted, each with what the engine says: KIND NAME PATH = JSON.
func (k *keyCase) look(t *testing.T) string {
	var out strings.Builder
	for line := range strings.Lines(k.Files["want"]) {
		asked, _, _ := strings.Cut(strings.TrimSpace(line), " = ")
		kind, rest, _ := strings.Cut(asked, " ")
		name, path, _ := strings.Cut(rest, " ")
		value := k.value(t, kind, name, path)
		// What differs from run to run is called by its name.
		value = strings.ReplaceAll(value, k.x.Plan().Root, "ROOT")
		value = strings.ReplaceAll(value, k.x.Plan().ID, "ID")
		value = strings.ReplaceAll(value, tinyImage, "TINY")
		for service, id := range k.ids {
			value = strings.ReplaceAll(value, id, "<"+service+">")
		}
		fmt.Fprintf(&out, "%s = %s\n", asked, value)
	}
	return out.String()
}

func (k *keyCase) value(t *testing.T, kind, name, path string) string {
	ctx := t.Context()
	path = strings.ReplaceAll(path, "nharbor-ID-", "nharbor-"+k.x.Plan().ID+"-")
	var data []byte
	switch kind {
	case "container":
		r, err := k.api.ContainerInspect(ctx, k.ids[name], client.ContainerInspectOptions{})
		if err != nil {
			return err.Error()
		}
		data = r.Raw
	case "network":
		r, err := k.api.NetworkInspect(ctx, networkName(k.x.Plan(), name),
			client.NetworkInspectOptions{})
		if err != nil {
			return err.Error()
		}
		data = r.Raw
	case "volume":
		r, err := k.api.VolumeInspect(ctx, volumeName(k.x.Plan().ID, k.x.Plan().Volumes, name),
			client.VolumeInspectOptions{})
		if err != nil {
			return err.Error()
		}
		data = r.Raw
	case "image":
		var raw bytes.Buffer
		if _, err := k.api.ImageInspect(ctx, strings.ReplaceAll(name, "ID", k.x.Plan().ID),
			client.ImageInspectWithRawResponse(&raw)); err != nil {
			return err.Error()
		}
		data = raw.Bytes()
	case "inside": // a command in the container: what it writes
		out, _, err := k.x.machines.Here.Output(ctx, k.ids[name],
			append([]string{"/tiny"}, strings.Fields(path)...))
		if err != nil {
			return err.Error()
		}
		return strconv.Quote(string(out))
	case "said":
		return strconv.Quote(k.log(name))
	}
	return at(data, path)
}

// log is what a service has written, once it has written a line.
func (k *keyCase) log(service string) string {
	file := filepath.Join(k.x.Plan().Root, ".nharbor", "logs",
		logs.Source(stack.ServiceNode(service))+".log")
	for end := time.Now().Add(20 * time.Second); time.Now().Before(end); {
		data, err := os.ReadFile(file)
		if err != nil || len(data) == 0 {
			continue
		}
		var out []string
		for line := range strings.Lines(string(data)) {
			_, text, _ := strings.Cut(strings.TrimSpace(line), " ") // behind its time
			out = append(out, text)
		}
		return strings.Join(out, "; ")
	}
	return ""
}

// at finds a part of JSON by its path, in which a step may be a number.
func at(data []byte, path string) string {
	d := json.NewDecoder(bytes.NewReader(data))
	d.UseNumber()
	var v any
	if err := d.Decode(&v); err != nil && err != io.EOF {
		return err.Error()
	}
	for step := range strings.SplitSeq(path, "/") {
		step = strings.TrimSpace(step)
		switch in := v.(type) {
		case map[string]any:
			v = in[step]
		case []any:
			i, err := strconv.Atoi(step)
			if err != nil || i >= len(in) {
				return "nothing"
			}
			v = in[i]
		default:
			return "nothing"
		}
	}
	out, err := json.Marshal(v)
	if err != nil {
		return err.Error()
	}
	return string(out)
}

// TestEveryKeyIsLookedAt holds the cases to the reader's table: what it calls acted on has a case
// here.
func TestEveryKeyIsLookedAt(t *testing.T) {
	t.Parallel()
	shown := map[string]bool{}
	files, err := filepath.Glob("testdata/keys/*.case")
	if err != nil || len(files) == 0 {
		t.Fatalf("there are no cases: %v", err)
	}
	for _, name := range files {
		data, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		for line := range strings.Lines(string(data)) {
			for _, word := range strings.FieldsFunc(line, func(r rune) bool {
				return strings.ContainsRune(" {},[]", r)
			}) {
				if key, ok := strings.CutSuffix(strings.TrimSpace(word), ":"); ok {
					shown[key] = true
				}
			}
		}
	}
	elsewhere := map[string]string{"build.additional_contexts": "TestBuildByCommand",
		"build.cache_to":     "TestBuildByCommand",
		"build.entitlements": "TestBuildByCommand", "build.ssh": "TestBuildByCommand",
		"networks.external": "TestExternal", "volumes.external": "TestExternal",
		"services.cpu_rt_period": "TestHost", "services.cpu_percent": "TestHost",
		"services.mac_address": "TestHost", "services.cpu_rt_runtime": "TestHost"}
	var absent []string
	for _, path := range compose.Obeyed() {
		if elsewhere[path] != "" {
			continue
		}
		if key := path[strings.LastIndexByte(path, '.')+1:]; !shown[key] {
			absent = append(absent, path)
		}
	}
	if slices.Sort(absent); len(absent) > 0 {
		t.Errorf("no case of testdata/keys shows: %s", strings.Join(absent, ", "))
	}
}

// TestExternal uses a network and a volume that others have made, beside a container of theirs that
// has its name, and leaves all of it there.
func TestExternal(t *testing.T) {
	t.Parallel()
	e := realEngine(t)
	if _, err := tiny(); err != nil {
		t.Fatal(err)
	}
	name := fmt.Sprintf("nharbor-test-others-%d", os.Getpid())
	api, err := client.New(client.WithHost(e.Address))
	if err != nil {
		t.Fatal(err)
	}
	defer api.Close()
	ctx := context.Background()
	if _, err := api.NetworkCreate(ctx, name, client.NetworkCreateOptions{}); err != nil {
		t.Fatal(err)
	}
	defer api.NetworkRemove(ctx, name, client.NetworkRemoveOptions{})
	if _, err := api.VolumeCreate(ctx, client.VolumeCreateOptions{Name: name}); err != nil {
		t.Fatal(err)
	}
	defer api.VolumeRemove(ctx, name, client.VolumeRemoveOptions{})
	theirs, err := api.ContainerCreate(ctx,
		client.ContainerCreateOptions{Image: tinyImage, Name: name})
	if err != nil {
		t.Fatal(err)
	}
	defer api.ContainerRemove(ctx, theirs.ID, client.ContainerRemoveOptions{Force: true})
	text := strings.ReplaceAll("services:\n  web:\n    image: TINY\n    command: [stay]\n    "+
		"networks: [lan]\n    container_name: NAME\n"+
		"    volumes: [kept:/kept]\nnetworks:\n  lan: {external: true, name: NAME}\n"+
		"volumes:\n  kept: {external: {name: NAME}}\n", "NAME", name)
	k := &keyCase{Case: &casefile.Case{Files: map[string]string{"compose.yaml": text}}, api: api,
		ids: map[string]string{}}
	k.open(t, e)
	k.make(t, e, true)
	if got := k.value(t, "container", "web", "HostConfig/NetworkMode"); got != strconv.Quote(name) {
		t.Errorf("its network is %s", got)
	}
	if got := k.value(t, "container", "web",
		"HostConfig/Mounts/0/Source"); got != strconv.Quote(name) {
		t.Errorf("its volume is %s", got)
	}
	if got := k.value(t, "container", "web",
		"Name"); got != strconv.Quote("/nharbor-"+k.x.Plan().ID+"-web") {
		t.Errorf("beside somebody else's container of its name it is called %s", got)
	}
	k.clean(t, e)
	if _, err := api.ContainerInspect(ctx, theirs.ID,
		client.ContainerInspectOptions{}); err != nil {
		t.Errorf("somebody else's container: %v", err)
	}
	seen, err := e.Look(ctx, engine.Outside{Networks: []string{name, "nharbor-absent"},
		Volumes: []string{name, "nharbor-absent"}})
	if err != nil || !slices.Equal(seen.Lacks,
		[]string{"network nharbor-absent", "volume nharbor-absent"}) {
		t.Errorf("of others the engine lacks %v, %v", seen.Lacks, err)
	}
}

// TestPullSays asks registries that refuse, and one that isn't there, for an image.
func TestPullSays(t *testing.T) {
	t.Parallel()
	e := realEngine(t)
	answer := func(status int, code string) string {
		s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Docker-Distribution-Api-Version", "registry/2.0")
			if r.URL.Path == "/v2/" && status != http.StatusUnauthorized {
				return
			}
			if status == http.StatusUnauthorized {
				w.Header().Set("Www-Authenticate", `Basic realm="quay"`)
			}
			w.WriteHeader(status)
			fmt.Fprintf(w, `{"errors":[{"code":%q,"message":"no"}]}`, code)
		}))
		t.Cleanup(s.Close)
		return strings.TrimPrefix(s.URL, "http://")
	}
	gone := httptest.NewServer(nil)
	nobody := strings.TrimPrefix(gone.URL, "http://")
	gone.Close()
	for name, c := range map[string]struct{ registry, code string }{
		"a login":     {answer(http.StatusUnauthorized, "UNAUTHORIZED"), "image-login"},
		"no such tag": {answer(http.StatusNotFound, "MANIFEST_UNKNOWN"), "image-absent"},
		"nobody":      {nobody, "image-unreachable"},
	} {
		ref := c.registry + "/saltmarsh/web:1"
		err := e.Images().Pull(t.Context(), ref, "", nil)
		var p *engine.PullError
		if !errors.As(err, &p) || p.Finding.Code != c.code {
			t.Errorf("%s: %v (%+v)", name, err, p)
		}
		seen, err := e.Look(t.Context(), engine.Outside{Images: map[string]string{ref: ""}})
		if err != nil || seen.Images[ref].Code != c.code {
			t.Errorf("%s, asked before: %+v, %v", name, seen.Images, err)
		}
	}
}

// TestWatch changes files while a container runs that is to get them, and one that is to be started
// again for them.
func TestWatch(t *testing.T) {
	t.Parallel()
	e := realEngine(t)
	if _, err := tiny(); err != nil {
		t.Fatal(err)
	}
	text := "services:\n  web:\n    image: TINY\n    command: [stay]\n    develop:\n      " +
		"watch:\n" +
		"        - {action: sync, path: pages, target: /site, ignore: ['*.tmp'], initial_sync: " +
		"true}\n        - {action: sync+restart, path: conf, target: /conf}\n"
	k := &keyCase{Case: &casefile.Case{Files: map[string]string{"compose.yaml": text,
		"pages/first": "one", "conf/c": "1"}}, ids: map[string]string{}}
	k.open(t, e)
	defer k.clean(t, e)
	k.make(t, e, true)
	within := func(words ...string) string {
		c, ok := k.x.at("service:web").now().Process.(*run.Container)
		if !ok {
			return ""
		}
		out, _, _ := e.Output(t.Context(), c.ID, append([]string{"/tiny"}, words...))
		return strings.TrimSpace(string(out))
	}
	await := func(what, want string, words ...string) {
		t.Helper()
		got := ""
		for end := time.Now().Add(time.Minute); time.Now().Before(end); {
			if got = within(words...); got == want {
				return
			}
		}
		t.Fatalf("%s: %q, want %q", what, got, want)
	}
	write := func(name, text string) {
		t.Helper()
		if err := os.WriteFile(filepath.Join(k.x.Plan().Root, name), []byte(text),
			0o644); err != nil {
			t.Fatal(err)
		}
	}
	await("at the start", "one", "read", "/site/first")
	if err := os.MkdirAll(filepath.Join(k.x.Plan().Root, "pages", "deep"), 0o755); err != nil {
		t.Fatal(err)
	}
	write("pages/left.tmp", "x")
	write("pages/deep/second", "two")
	await("a new folder", "two", "read", "/site/deep/second")
	before := k.x.at("service:web").now().Process.(*run.Container).ID
	write("conf/c", "2")
	await("after another start", "2", "read", "/conf/c")
	await("what had gone in before", "two", "read", "/site/deep/second")
	if c, ok := k.x.at("service:web").now().Process.(*run.Container); !ok || c.ID == before {
		t.Error("it was not started again")
	}
	if got := within("list", "/site"); strings.Contains(got, "tmp") {
		t.Errorf("what is ignored has gone in: %s", got)
	}
}
