package consent

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"

	"nimbleharbor/internal/stack"
)

// TestLoaders names the variables in settings files by which programs load code.
func TestLoaders(t *testing.T) {
	t.Parallel()
	file := func(text string) *fstest.MapFile { return &fstest.MapFile{Data: []byte(text)} }
	fsys := fstest.MapFS{".env": file("PORT=1\nNODE_OPTIONS=--require ./x.js\n"),
		"office/.env": file("LD_PRELOAD=./x.so\nNODE_ENV=test\nPATH\n"),
		"desk/.env":   file("PYTHONPATH=.\n"), "office/broken.env": file("='")}
	s := &stack.Stack{}
	for _, name := range []string{".env", "office/.env", "desk/.env", "office/broken.env",
		"office/absent.env"} {
		s.EnvFiles = append(s.EnvFiles, stack.EnvFile{Path: name})
	}
	got := strings.Join(loaders(fsys, s, "office"), "\n")
	want := "with NODE_OPTIONS=--require ./x.js, which can load code (.env:2)\n" +
		"with LD_PRELOAD=./x.so, which can load code (office/.env:1)"
	if got != want {
		t.Errorf("got\n%s\nwant\n%s", got, want)
	}
}

// TestReach says in words what a container may reach beyond its own.
func TestReach(t *testing.T) {
	t.Parallel()
	root := t.TempDir()
	if err := os.MkdirAll(filepath.Join(root, "data"), 0o755); err != nil {
		t.Fatal(err)
	}
	outside := t.TempDir()
	if err := os.Symlink(outside, filepath.Join(root, "link")); err != nil {
		t.Fatal(err)
	}
	bind := func(source string) stack.Mount {
		return stack.Mount{Type: "bind", Source: source, Target: "/x"}
	}
	mounts := func(m stack.Mount) stack.ContainerSpec { return stack.ContainerSpec{Mounts: []stack.Mount{m}} }
	s := &stack.Stack{Root: root,
		Volumes: map[string]stack.Volume{"theirs": {External: true}, "ours": {},
			"bound": {Options: map[string]string{"device": "/"}}},
		Networks: map[string]stack.Network{"lan": {External: true}, "default": {}}}
	for name, c := range map[string]struct {
		spec  stack.ContainerSpec
		ports []stack.Port
		want  string
	}{
		"nothing":  {stack.ContainerSpec{Networks: []string{"default"}}, nil, ""},
		"a folder": {mounts(bind("data")), nil, "sees of this machine: data"},
		"to read": {mounts(stack.Mount{Type: "bind", Source: "data", ReadOnly: true}),
			nil, "(to read)"},
		"a folder outside": {mounts(bind("/etc")), nil, "/etc, outside of the workspace"},
		"one above":        {mounts(bind("../x")), nil, "../x, outside of the workspace"},
		"a link":           {mounts(bind("link")), nil, "link, which leads to "},
		"below a link":     {mounts(bind("link/absent/x")), nil, "which leads to "},
		"the engine":       {mounts(bind("/var/run/docker.sock")), nil, "engine's socket"},
		"a volume":         {mounts(stack.Mount{Type: "volume", Source: "ours"}), nil, ""},
		"another's volume": {mounts(stack.Mount{Type: "volume", Source: "theirs"}), nil,
			"not this stack's: theirs"},
		"another's network": {stack.ContainerSpec{Networks: []string{"lan"}}, nil,
			"not this stack's: lan"},
		"privileges": {stack.ContainerSpec{Confinement: stack.Confinement{Privileged: true}}, nil,
			"all that root can"},
		"the host": {stack.ContainerSpec{NetworkMode: "host"}, nil,
			"shares this machine's network"},
		"another container": {stack.ContainerSpec{NetworkMode: "container:quay"}, nil,
			"the network of the container quay"},
		"a device": {stack.ContainerSpec{Confinement: stack.Confinement{Devices: []stack.Device{{Source: "/dev/mem",
			Permissions: "rwm"}}}}, nil, "device /dev/mem"},
		"processes": {stack.ContainerSpec{Confinement: stack.Confinement{PID: "host"}}, nil,
			"list of processes"},
		"capabilities": {stack.ContainerSpec{Confinement: stack.Confinement{CapAdd: []string{"SYS_ADMIN"}}}, nil,
			"SYS_ADMIN"},
		"a hook": {stack.ContainerSpec{PostStart: []stack.Hook{{Command: []string{"sh", "x"}}}},
			nil, "after its start runs: sh x"},
		"the engine itself": {stack.ContainerSpec{EngineSocket: true}, nil, "all that root can"},
		"others' volumes": {stack.ContainerSpec{VolumesFrom: []string{"container:quay"}}, nil,
			"volumes of the container quay"},
		"a secret outside": {stack.ContainerSpec{Handed: []stack.Handed{{File: "../key",
			Mode: "0400"}}}, nil, "../key, outside of the workspace"},
		"a folder by a driver": {mounts(stack.Mount{Type: "volume", Source: "bound"}), nil,
			"driver local device=/"},
		"keys while building": {stack.ContainerSpec{Building: stack.Building{SSH: map[string]string{
			"default": ""}}}, nil, "your SSH keys: default"},
		"a port": {stack.ContainerSpec{}, []stack.Port{{Host: 80, Target: 80}}, ""},
		"a port for all": {stack.ContainerSpec{},
			[]stack.Port{{Host: 80, Target: 80, HostIP: "0.0.0.0"}}, "port 80 to every address"},
	} {
		service := &stack.Service{ContainerWay: stack.ContainerWay{Container: &c.spec},
			Ports: c.ports}
		got := strings.Join(reach(service, s), "; ")
		if !strings.Contains(got, c.want) || (got == "") != (c.want == "") {
			t.Errorf("%s: %q, want %q", name, got, c.want)
		}
	}
}

// TestSum changes with every command, and with their order.
func TestSum(t *testing.T) {
	t.Parallel()
	of := func(b ...Beside) []Command { return CommandsOf(fstest.MapFS{}, &stack.Stack{}, b, nil) }
	a := of(Beside{ID: "step:test:a", Command: []string{"go", "test"}, Folder: "."})[0]
	b := of(Beside{ID: "step:test:b", Command: []string{"go", "test"}, Expands: []string{"x"},
		Folder: "."})[0]
	seen := map[string]bool{}
	for _, list := range [][]Command{nil, {a}, {b}, {a, b}, {b, a}} {
		if s := Sum(list); seen[s] || len(s) != 32 {
			t.Errorf("%d commands have the sum %q", len(list), s)
		} else {
			seen[s] = true
		}
	}
}
