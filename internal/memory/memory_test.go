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

// TestLessons are kept once each, in the order in which they were learned, and survive the program.
func TestLessons(t *testing.T) {
	t.Parallel()
	root := t.TempDir()
	m, day := Recall(root), time.Date(2026, 11, 30, 8, 0, 0, 0, time.UTC)
	first := Lesson{Service: "desk", After: "ledger", Because: "connection-refused", At: day}
	m.Learn(first)
	m.Learn(Lesson{Service: "desk", Provide: "redis", Because: "connection-refused", At: day})
	again := first
	again.Because, again.At = "startup-slow", day.Add(time.Hour)
	m.Learn(again)
	if got := Recall(root).Lessons(); len(got) != 2 || got[0] != first ||
		got[1].Provide != "redis" {
		t.Errorf("after learning one twice: %v", got)
	}
	m.Lessons()[0].After = "rota"
	if got := m.Lessons(); got[0] != first {
		t.Errorf("whoever asks can change what is known: %v", got)
	}
	m.Unlearn(again)
	if got := Recall(root).Lessons(); len(got) != 1 || got[0].Provide != "redis" {
		t.Errorf("after unlearning one: %v", got)
	}
}

// TestAgain does a step once more, and no other one.
func TestAgain(t *testing.T) {
	t.Parallel()
	root := t.TempDir()
	m := Recall(root)
	step := func(id string) *Work {
		return &Work{ID: id, Role: stack.Seed, Command: []string{"x"}}
	}
	for _, id := range []string{"seed:a", "seed:b"} {
		m.Remember(step(id), Digest(root, step(id), ""), nil)
	}
	m.Again("seed:a")
	m.Again("seed:of-nobody")
	after := Recall(root)
	if a := step("seed:a"); after.Done(a, Digest(root, a, "")) {
		t.Error("what is to be done again counts as done")
	}
	if b := step("seed:b"); !after.Done(b, Digest(root, b, "")) {
		t.Error("another step is forgotten along with it")
	}
}

// TestDigest changes with what a step depends on, and with nothing else; without anything known it
// is empty, so that the step is done each time.
func TestDigest(t *testing.T) {
	t.Parallel()
	root := t.TempDir()
	write := func(name, text string) {
		file := filepath.Join(root, name)
		if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	step := func() *Work {
		return &Work{ID: "migrate:.", Role: stack.Migrate, Command: []string{"x"},
			Inputs: []string{"migrations", "lock"}, Env: []string{"DB_HOST=a", "TIDE=high"}}
	}
	write("migrations/1.sql", "a")
	write("migrations/node_modules/tides.js", "a")
	before := Digest(root, step(), "volume a")
	if before == "" {
		t.Fatal("with one of its inputs there it depends on nothing")
	}
	for name, c := range map[string]struct {
		change func(s *Work)
		data   string
		same   bool
	}{
		"nothing":                {func(*Work) {}, "volume a", true},
		"a setting of something": {func(s *Work) { s.Env[1] = "TIDE=low" }, "volume a", true},
		"which database it is":   {func(s *Work) { s.Env[0] = "DB_HOST=b" }, "volume a", false},
		"the data":               {func(*Work) {}, "volume b", false},
		"the command": {func(s *Work) { s.Command = []string{"y"} }, "volume a",
			false},
		"a command that stands for": {func(s *Work) { s.As = []string{"y"} }, "volume a", false},
		"an input less":             {func(s *Work) { s.Inputs = s.Inputs[:1] }, "volume a", false},
	} {
		s := step()
		c.change(s)
		if got := Digest(root, s, c.data); (got == before) != c.same {
			t.Errorf("%s: the same is %v", name, got == before)
		}
	}
	for name, s := range map[string]*Work{
		"no input": {Role: stack.Generate, Command: []string{"x"}},
		"none that is there": {Role: stack.Generate, Command: []string{"x"},
			Inputs: []string{"y"}},
		"done at every start": {Role: stack.Seed, Command: []string{"x"}, EveryTime: true},
	} {
		if got := Digest(root, s, "volume a"); got != "" {
			t.Errorf("%s: %s", name, got)
		}
	}
	for _, change := range []struct {
		file, text string
		same       bool
	}{
		{"migrations/node_modules/tides.js", "b", true}, {"migrations/1.sql", "b", false},
	} {
		write(change.file, change.text)
		if got := Digest(root, step(), "volume a"); (got == before) != change.same {
			t.Errorf("%s is another: the same is %v", change.file, got == before)
		}
	}
}
