package engine_test

import (
	"archive/tar"
	"bytes"
	"errors"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"testing/fstest"

	"nimbleharbor/internal/diagnose"
	"nimbleharbor/internal/engine"
	"nimbleharbor/internal/engine/standin"
)

func TestUnavailable(t *testing.T) {
	t.Parallel()
	dir, err := os.MkdirTemp("", "nh")
	if err != nil {
		t.Fatal(err)
	}
	defer os.RemoveAll(dir)
	dead := filepath.Join(dir, "dead")
	l, err := net.ListenUnix("unix", &net.UnixAddr{Name: dead})
	if err != nil {
		t.Fatal(err)
	}
	l.SetUnlinkOnClose(false)
	l.Close()
	other, err := net.Listen("unix", filepath.Join(dir, "other"))
	if err != nil {
		t.Fatal(err)
	}
	defer other.Close()
	go http.Serve(other, http.NotFoundHandler())
	for address, want := range map[string]diagnose.Lack{
		"unix://" + dead:                         diagnose.NotStarted,
		"unix://" + filepath.Join(dir, "other"):  diagnose.NotSpeaking,
		"tcp://127.0.0.1:1":                      diagnose.NotStarted,
		"nonsense":                               diagnose.NotSpeaking,
		"unix://" + filepath.Join(dir, "absent"): diagnose.NotStarted,
	} {
		_, err := engine.At(t.Context(), address)
		var u *engine.Unavailable
		if !errors.As(err, &u) {
			t.Errorf("%s: %v", address, err)
			continue
		}
		if u.Lack == diagnose.NotInstalled && strings.HasSuffix(address, "absent") {
			continue // true on a machine without an engine
		}
		if u.Lack != want || u.Error() == "" || u.Remedy() == "" {
			t.Errorf("%s: %s (%v), want %s", address, u.Lack, u, want)
		}
	}
}

func TestNotPermitted(t *testing.T) {
	t.Parallel()
	dir, err := os.MkdirTemp("", "nh")
	if err != nil {
		t.Fatal(err)
	}
	defer os.RemoveAll(dir)
	if os.Getuid() == 0 {
		asNobody(t, dir) // root may use every socket
		return
	}
	socket := filepath.Join(dir, "s")
	l, err := net.Listen("unix", socket)
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	if err := os.Chmod(socket, 0); err != nil {
		t.Fatal(err)
	}
	_, err = engine.At(t.Context(), "unix://"+socket)
	var u *engine.Unavailable
	if !errors.As(err, &u) || u.Lack != diagnose.NotPermitted ||
		!strings.Contains(u.Remedy(), "group") {
		t.Errorf("the error is %v", err)
	}
}

// asNobody runs the calling test once more, as a user without rights.
func asNobody(t *testing.T, dir string) {
	t.Helper()
	self, err := os.Executable()
	if err != nil {
		t.Fatal(err)
	}
	data, err := os.ReadFile(self)
	if err != nil {
		t.Fatal(err)
	}
	copied := filepath.Join(dir, "test")
	if err := errors.Join(os.Chmod(dir, 0o755), os.WriteFile(copied, data, 0o755)); err != nil {
		t.Fatal(err)
	}
	var out []byte
	// while a child of another test has it open
	for busy := true; busy; busy = errors.Is(err, syscall.ETXTBSY) {
		cmd := exec.Command(copied, "-test.run", "^"+t.Name()+"$", "-test.v")
		cmd.Dir = dir
		cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 65534,
			Gid: 65534}}
		out, err = cmd.CombinedOutput()
	}
	if err != nil || !strings.Contains(string(out), "--- PASS: "+t.Name()) {
		t.Errorf("as another user: %v\n%s", err, out)
	}
}

func TestBuildContext(t *testing.T) {
	t.Parallel()
	file := func(s string) *fstest.MapFile { return &fstest.MapFile{Data: []byte(s), Mode: 0o644} }
	fsys := fstest.MapFS{
		"Dockerfile":    file("FROM scratch"),
		".dockerignore": file("# no\nnode_modules\n*.log\n!keep.log\nDockerfile\nsecret/**\n"),
		"main.js":       file("x"), "node_modules/a/b.js": file("x"), "debug.log": file("x"),
		"keep.log":  file("kept"),
		"sub/x.log": file("x"), "secret/key": file("x"), ".nharbor/before/env": file("x"),
		"sub/.nharbor/y": file("x"),
		"run.sh":         {Data: []byte("#!/bin/sh"), Mode: 0o755},
		"link":           {Data: []byte("main.js"), Mode: os.ModeSymlink | 0o777},
	}
	var out bytes.Buffer
	folder := &engine.Folder{FS: fsys, Dockerfile: "Dockerfile"}
	if err := folder.Archive(&out); err != nil {
		t.Fatal(err)
	}
	var names []string
	for r := tar.NewReader(&out); ; {
		h, err := r.Next()
		if err == io.EOF {
			break
		}
		if err != nil {
			t.Fatal(err)
		}
		names = append(names, h.Name)
		if h.Uid != 0 || h.Uname != "" {
			t.Errorf("%s carries its owner", h.Name)
		}
		if h.Name == "run.sh" && h.Mode&0o111 == 0 {
			t.Error("run.sh lost its right to run")
		}
		if h.Name == "link" && h.Linkname != "main.js" {
			t.Errorf("the link leads to %q", h.Linkname)
		}
	}
	slices.Sort(names)
	if want := []string{".dockerignore", "Dockerfile", "keep.log", "link", "main.js", "run.sh",
		"secret/", "sub/", "sub/x.log"}; !slices.Equal(names, want) {
		t.Errorf("in the archive there are %v, want %v", names, want)
	}
}

func TestLines(t *testing.T) {
	t.Parallel()
	var got []string
	l := &engine.Lines{Line: func(s string) { got = append(got, s) }}
	for _, s := range []string{"one\ntw", "o\r\n", "\n", "last"} {
		io.WriteString(l, s)
	}
	l.Flush()
	l.Flush()
	if want := []string{"one", "two", "", "last"}; !slices.Equal(got, want) {
		t.Errorf("the lines are %q, want %q", got, want)
	}
}

// TestStandInBuilds goes through the Dockerfile instructions that the stand-in obeys, and those
// that it refuses.
func TestStandInBuilds(t *testing.T) {
	t.Parallel()
	dir, err := os.MkdirTemp("", "nh")
	if err != nil {
		t.Fatal(err)
	}
	socket := filepath.Join(dir, "s")
	s, err := standin.Start(socket, filepath.Join(dir, "state"),
		map[string]standin.Image{"base:1": {Entrypoint: []string{"/x"}, Env: []string{"BASE=1"}}})
	if err != nil {
		t.Fatal(err)
	}
	e, err := engine.At(t.Context(), "unix://"+socket)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		e.Close()
		s.Close()
		os.RemoveAll(dir)
	})
	for _, c := range []struct{ name, dockerfile, fails string }{
		{"all that it knows",
			"# c\nARG V=1\nFROM base:1\nLABEL a=b c=\"d\"\nENV X=1 Y=2\nENV OLD form\nWORKDIR " +
				"/app\nWORKDIR " +
				"sub\nCOPY --chown=0 file ./\nADD file /other\nEXPOSE 80 81/udp\nUSER " +
				"1\nHEALTHCHECK CMD [\"/x\"]\nCMD one \\\n  two\n", ""},
		{"an unknown base", "FROM absent:1\n", "absent:1"},
		{"no base", "# nothing\n", "no FROM"},
		{"before the base", "COPY file /\n", "before FROM"},
		{"an absent file", "FROM scratch\nCOPY absent /\n", "absent"},
		{"a path that leaves", "FROM scratch\nCOPY ../../etc/passwd /\n", "holds no"},
		{"a shell", "FROM base:1\nRUN make\n", "no shell"},
		{"an unknown word", "FROM base:1\nFROB x\n", "unknown instruction"},
		{"half a copy", "FROM base:1\nCOPY file\n", "source and a target"},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			fsys := fstest.MapFS{"Dockerfile": {Data: []byte(c.dockerfile)},
				"file": {Data: []byte("x")}}
			err := e.Build(t.Context(),
				engine.BuildSpec{Folder: &engine.Folder{FS: fsys, Dockerfile: "Dockerfile"},
					Tag: "built:1"}, nil)
			if c.fails == "" && err != nil || c.fails != "" &&
				(err == nil || !strings.Contains(err.Error(), c.fails)) {
				t.Fatalf("the build's error is %v", err)
			}
			if c.fails == "" {
				ports, err := e.Images().Ports(t.Context(), "built:1")
				slices.Sort(ports)
				if err != nil || strings.Join(ports, " ") != "80/tcp 81/udp" {
					t.Errorf("the ports are %v, %v", ports, err)
				}
			}
		})
	}
}
