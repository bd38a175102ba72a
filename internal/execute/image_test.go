package execute

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/moby/moby/client"

	"nimbleharbor/internal/casefile"
	"nimbleharbor/internal/engine"
	"nimbleharbor/internal/stack"
)

func TestStale(t *testing.T) {
	t.Parallel()
	const hour = time.Hour
	for policy, c := range map[string]struct {
		age  time.Duration
		want bool
	}{
		"": {1000 * hour, false}, "missing": {1000 * hour, false}, "always": {0,
			true}, "never": {1000 * hour, false},
		"daily": {25 * hour, true}, "weekly": {100 * hour, false}, "every_12h": {13 * hour, true},
		"every_1w2d": {8 * 24 * hour, false}, "every_30m": {31 * time.Minute,
			true}, "every_": {1000 * hour, false},
	} {
		if got := stale(policy, c.age); got != c.want {
			t.Errorf("with pull_policy %q an image of %v is to be fetched: %v", policy, c.age, got)
		}
	}
}

// TestBuiltOnce builds images, and builds them again when what they are built from has changed, and
// not else.
func TestBuiltOnce(t *testing.T) {
	t.Parallel()
	e := realEngine(t)
	dir, err := tiny()
	if err != nil {
		t.Fatal(err)
	}
	program, err := os.ReadFile(filepath.Join(dir, "tiny"))
	if err != nil {
		t.Fatal(err)
	}
	api, err := client.New(client.WithHost(e.Address))
	if err != nil {
		t.Fatal(err)
	}
	defer api.Close()
	k := &keyCase{Case: &casefile.Case{Files: map[string]string{
		"compose.yaml": "services:\n  web: {build: app, command: [stay]}\n  again: {build: app, " +
			"command: [stay]}\n  other: {build: {context: app, args: {A: '2'}}, command: [stay]}\n",
		"app/Dockerfile":    "FROM scratch\nARG A=1\nCOPY . /\nENV A=$A\nENTRYPOINT [\"/tiny\"]\n",
		"app/.dockerignore": "*.log\n", "app/page": "one", "app/tiny": string(program)}}, api: api,
		ids: map[string]string{}}
	k.open(t, e)
	root := k.x.Plan().Root
	if err := os.Chmod(filepath.Join(root, "app", "tiny"), 0o755); err != nil {
		t.Fatal(err)
	}
	defer k.clean(t, e)
	build := func() (ids map[string]string, built int) {
		t.Helper()
		ids = map[string]string{}
		clear(k.x.makings)
		for _, s := range k.x.Plan().Services {
			n := newNode(k.x.Plan(), stack.ServiceNode(s.Name))
			k.x.mu.Lock()
			k.x.nodes[n.id] = n
			k.x.mu.Unlock()
			k.x.move(n, change{kind: waits})
			log, err := k.x.logs.Open(n.id)
			if err == nil {
				err = k.x.images().built(t.Context(), n, &s, log, nil)
			}
			if err != nil {
				t.Fatalf("%s: %v", s.Name, err)
			}
			said, err := os.ReadFile(filepath.Join(root, ".nharbor", "logs", s.Name+".log"))
			if err == nil && strings.Contains(string(said), "Successfully built") {
				built++
			}
			log.Close()
			os.Remove(filepath.Join(root, ".nharbor", "logs", s.Name+".log"))
			r, err := api.ImageInspect(t.Context(), s.ImageTag)
			if err != nil {
				t.Fatal(err)
			}
			ids[s.Name] = r.ID
		}
		return ids, built
	}
	write := func(name, text string) {
		t.Helper()
		if err := os.WriteFile(filepath.Join(root, "app", name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	first, built := build()
	if built != 2 || first["web"] != first["again"] || first["web"] == first["other"] {
		t.Errorf("%d images were built for three services, two of which want the same: %v", built,
			first)
	}
	same := func(what string) {
		t.Helper()
		if ids, built := build(); built != 0 || ids["web"] != first["web"] ||
			ids["other"] != first["other"] {
			t.Errorf("%s: %d images were built", what, built)
		}
	}
	same("nothing has changed")
	write("seen.log", "x")
	same("what is ignored has changed")
	now := time.Now().Add(time.Hour)
	if err := os.Chtimes(filepath.Join(root, "app", "page"), now, now); err != nil {
		t.Fatal(err)
	}
	same("a file was touched")
	write("page", "two")
	if ids, built := build(); built != 2 || ids["web"] == first["web"] ||
		ids["web"] != ids["again"] {
		t.Errorf("after a change %d images were built: %v", built, ids)
	}
	// Somebody else's image keeps its name.
	s := k.x.Plan().Services["service:web"]
	s.Image = tinyImage
	log, err := k.x.logs.Open("service:web")
	if err != nil {
		t.Fatal(err)
	}
	defer log.Close()
	theirs, err := api.ImageInspect(t.Context(), tinyImage)
	if err != nil {
		t.Fatal(err)
	}
	if err := k.x.images().nameToo(t.Context(), &s, log); err != nil {
		t.Fatal(err)
	}
	if now, err := api.ImageInspect(t.Context(), tinyImage); err != nil || now.ID != theirs.ID {
		t.Errorf("somebody else's image was taken its name: %v", err)
	}
}

// TestBases finds which images of the stack a Dockerfile begins from.
func TestBases(t *testing.T) {
	t.Parallel()
	k := &keyCase{Case: &casefile.Case{Files: map[string]string{
		"compose.yaml": "services:\n  base: {image: saltmarsh/base, build: b}\n  tools: {build: " +
			"{context: t, tags: " +
			"['saltmarsh/tools:2']}}\n  app: {build: a}\n  more: {build: {context: m, " +
			"additional_contexts: {x: 'service:app'}}}\n",
		"b/Dockerfile": "FROM scratch\n", "t/Dockerfile": "FROM " +
			"scratch\n", "m/Dockerfile": "FROM scratch\n",
		"a/Dockerfile": "FROM --platform=linux/amd64 saltmarsh/base AS one\nCOPY " +
			"--from=saltmarsh/tools:2 /x /\n"}}, ids: map[string]string{}}
	k.open(t, realEngine(t))
	for name, want := range map[string][]string{"app": {"base", "tools"}, "base": nil,
		"more": {"app"}} {
		s := k.x.Plan().Services[stack.ServiceNode(name)]
		var got []string
		for _, base := range k.x.images().bases(&engine.BuildSpec{Dockerfile: k.Files[s.Build+"/Dockerfile"],
			Building: s.Container.Building}, &s) {
			got = append(got, base.Name)
		}
		if !slices.Equal(got, want) {
			t.Errorf("%s begins from %v, want %v", name, got, want)
		}
	}
}
