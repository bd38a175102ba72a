package memory

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"nimbleharbor/internal/stack"
)

// TestUnmade does not wait for what a step has never left behind, and does it again when what it
// left is gone.
func TestUnmade(t *testing.T) {
	t.Parallel()
	root := t.TempDir()
	for _, name := range []string{"package.json", "made"} {
		if err := os.WriteFile(filepath.Join(root, name), []byte("{}"), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	m := Recall(root)
	s := &Work{ID: "install:.", Role: stack.Install, Command: []string{"x"},
		Inputs: []string{"package.json"}, Outputs: []string{"node_modules", "made"}}
	m.Remember(s, Digest(root, s, ""), nil)
	if again := Recall(root); !again.Done(s, Digest(root, s, "")) {
		t.Error("a step that has left no folder is never done")
	}
	if err := os.Remove(filepath.Join(root, "made")); err != nil {
		t.Fatal(err)
	}
	if m.Done(s, Digest(root, s, "")) {
		t.Error("a step is done although what it left is gone")
	}
	m.Remember(s, Digest(root, s, ""), nil)
	if !m.Done(s, Digest(root, s, "")) {
		t.Error("done again it is not done")
	}
}

// TestOncePerDatabase runs what works on a database once for each, however often it is launched.
func TestOncePerDatabase(t *testing.T) {
	t.Parallel()
	root := t.TempDir()
	m := Recall(root)
	step := func(role stack.Role, env ...string) *Work {
		return &Work{ID: string(role) + ":.", Role: role, Command: []string{"x"}, Env: env}
	}
	for _, role := range []stack.Role{stack.Create, stack.Seed} {
		s := step(role)
		if m.Done(s, Digest(root, s, "volume a")) {
			t.Errorf("%s is done before it was", role)
		}
		m.Remember(s, Digest(root, s, "volume a"), nil)
		if !m.Done(s, Digest(root, s, "volume a")) {
			t.Errorf("%s is forgotten", role)
		}
		if m.Done(s, Digest(root, s, "volume b")) {
			t.Errorf("%s is done for a volume that is new", role)
		}
		if other := step(role, "DATABASE_URL=elsewhere"); m.Done(other,
			Digest(root, other, "volume a")) {
			t.Errorf("%s is done for another database", role)
		}
		if other := step(role, "LOG_LEVEL=debug"); !m.Done(other, Digest(root, other, "volume a")) {
			t.Errorf("%s is done again for a setting that does not matter", role)
		}
	}
	if s := step(stack.Migrate); Digest(root, s, "volume a") != "" {
		t.Error("a migration of which nothing is known is remembered")
	}
	folder := filepath.Join(root, "migrations")
	if err := os.MkdirAll(folder, 0o755); err != nil {
		t.Fatal(err)
	}
	s := step(stack.Migrate)
	s.Inputs = []string{"migrations"}
	before := Digest(root, s, "volume a")
	if err := os.WriteFile(filepath.Join(folder, "2.sql"), []byte("alter"), 0o600); err != nil {
		t.Fatal(err)
	}
	if after := Digest(root, s, "volume a"); before == after {
		t.Error("a new migration makes no difference")
	}
	file := filepath.Join(root, "tides.sqlite3")
	if err := os.WriteFile(file, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	seed := step(stack.Seed)
	m.Remember(seed, Digest(root, seed, ""), []string{file})
	m.Took(stack.StepNode(seed.ID), time.Second)
	if again := Recall(root); !again.Done(seed, Digest(root, seed, "")) {
		t.Error("what was done is not on disk")
	}
	os.Remove(file)
	if m.Done(seed, Digest(root, seed, "")) {
		t.Error("a seed is done although its database file is gone")
	}
	if files := m.Forget(); len(files) != 1 || files[0] != file {
		t.Errorf("forgotten are the files %v", files)
	}
	if m.Done(step(stack.Create), Digest(root, step(stack.Create), "volume a")) ||
		m.Seconds()["step:seed:."] != 1 {
		t.Error("a reset forgets what was done, and only that")
	}
}
