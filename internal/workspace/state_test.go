package workspace

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// person gives the test a home of its own; such tests can't run in parallel.
func person(t *testing.T) string {
	t.Helper()
	home := t.TempDir()
	t.Setenv("XDG_STATE_HOME", filepath.Join(home, "state"))
	return home
}

// TestState holds that the state lies in the workspace where the folder there is ours, and among
// the person's own files where it isn't, whatever has come along.
func TestState(t *testing.T) {
	home := person(t)
	ours, err := MakeStateDir(filepath.Join(t.TempDir()))
	if err != nil {
		t.Fatal(err)
	}
	for name, c := range map[string]struct {
		lay  func(t *testing.T, root, state string)
		ours bool
	}{
		"nothing is there": {func(*testing.T, string, string) {}, true},
		"an empty folder is": {func(t *testing.T, _, state string) {
			must(t, os.Mkdir(state, 0o755))
		}, true},
		"one that is ours": {func(t *testing.T, root, _ string) {
			_, err := MakeStateDir(root)
			must(t, err)
		}, true},
		"one that is moved with its workspace": {func(t *testing.T, root, state string) {
			elsewhere := filepath.Join(t.TempDir(), "before")
			must(t, os.Mkdir(elsewhere, 0o755))
			_, err := MakeStateDir(elsewhere)
			must(t, err)
			must(t, os.Rename(filepath.Join(elsewhere, StateDir), state))
		}, true},
		"a file": {func(t *testing.T, _, state string) {
			must(t, os.WriteFile(state, nil, 0o600))
		}, false},
		"a link to a folder": {func(t *testing.T, _, state string) {
			must(t, os.Symlink(home, state))
		}, false},
		"a link to one that is ours": {func(t *testing.T, _, state string) {
			must(t, os.Symlink(ours, state))
		}, false},
		"one that came along": {func(t *testing.T, _, state string) {
			lay(t, state, "stack.json", "logs/")
		}, false},
		"one with a proof that was guessed": {func(t *testing.T, _, state string) {
			lay(t, state, "stack.json")
			must(t, os.WriteFile(filepath.Join(state, proofFile), []byte(strings.Repeat("0", 64)),
				0o600))
		}, false},
		"one with the proof of another": {func(t *testing.T, _, state string) {
			lay(t, state, "stack.json")
			proof, err := os.ReadFile(filepath.Join(ours, proofFile))
			must(t, err)
			must(t, os.WriteFile(filepath.Join(state, proofFile), proof, 0o600))
		}, false},
		"one whose proof is a link": {func(t *testing.T, _, state string) {
			lay(t, state, "stack.json")
			must(t, os.Symlink(filepath.Join(ours, proofFile), filepath.Join(state, proofFile)))
		}, false},
	} {
		t.Run(name, func(t *testing.T) {
			root := t.TempDir()
			state := filepath.Join(root, StateDir)
			c.lay(t, root, state)
			before := listing(root)
			got := State(root)
			if (got == state) != c.ours {
				t.Errorf("the state lies in %s", got)
			}
			dir, err := MakeStateDir(root, "before", "office")
			if err != nil || !strings.HasPrefix(dir, got) {
				t.Fatalf("it is made in %s: %v", dir, err)
			}
			if again := State(root); again != got {
				t.Errorf("then it lies in %s", again)
			}
			if !c.ours && listing(root) != before {
				t.Errorf("what came along is now %s, and was %s", listing(root), before)
			}
		})
	}
}

func must(t *testing.T, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}

// listing are the names below a folder, links not followed.
func listing(root string) string {
	var out []string
	filepath.WalkDir(root, func(name string, d fs.DirEntry, err error) error {
		out = append(out, name+" "+d.Type().String())
		return nil
	})
	return strings.Join(out, "\n")
}

// TestStateFiles holds that a file of the state is read only as it was written, where it was
// written.
func TestStateFiles(t *testing.T) {
	person(t)
	root, other := t.TempDir(), t.TempDir()
	for _, r := range []string{root, other} {
		must(t, WriteState(r, "stack.json", []byte(`{"of": "`+filepath.Base(r)+`"}`)))
		must(t, WriteState(r, "memory.json", []byte("a\nb\n")))
	}
	if data, err := ReadState(root, "memory.json"); err != nil || string(data) != "a\nb\n" {
		t.Errorf("it reads %q, %v", data, err)
	}
	if _, err := ReadState(root, "absent.json"); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("of one that is not there: %v", err)
	}
	file := filepath.Join(root, StateDir, "stack.json")
	whole, err := os.ReadFile(file)
	must(t, err)
	ofOther, err := os.ReadFile(filepath.Join(other, StateDir, "stack.json"))
	must(t, err)
	ofMemory, err := os.ReadFile(filepath.Join(root, StateDir, "memory.json"))
	must(t, err)
	for name, text := range map[string]string{"changed": strings.Replace(string(whole), "of", "by",
		1), "empty": "",
		"truncated": string(whole[:9]), "without a sum": `{"of": 1}`, "with a sum of " +
			"nothing": "{}\n\n",
		"that of another workspace": string(ofOther), "another file of this one": string(ofMemory),
		"with something behind it": string(whole) + "{}\n"} {
		must(t, os.WriteFile(file, []byte(text), 0o600))
		if data, err := ReadState(root, "stack.json"); !errors.Is(err, ErrForged) {
			t.Errorf("%s, it reads %q, %v", name, data, err)
		}
	}
	must(t, os.WriteFile(file, whole, 0o600))
	if _, err := ReadState(root, "stack.json"); err != nil {
		t.Errorf("as it was written: %v", err)
	}
	must(t, os.Remove(file))
	must(t, os.Symlink(filepath.Join(other, StateDir, "stack.json"), file))
	if data, err := ReadState(root, "stack.json"); err == nil {
		t.Errorf("through a link it reads %q", data)
	}
	// Another person, or another machine, has another key.
	person(t)
	if State(other) == filepath.Join(other, StateDir) {
		t.Error("with another key the folder is still ours")
	}
}

// TestStateWithoutLinks holds that no folder of the state is made through a link that leaves it.
func TestStateWithoutLinks(t *testing.T) {
	person(t)
	root, outside := t.TempDir(), t.TempDir()
	dir, err := MakeStateDir(root)
	must(t, err)
	must(t, os.Symlink(outside, filepath.Join(dir, "before")))
	if made, err := MakeStateDir(root, "before", "office"); err == nil {
		t.Errorf("%s was made", made)
	}
	if entries, _ := os.ReadDir(outside); len(entries) > 0 {
		t.Errorf("outside is now %v", entries)
	}
}

// TestKnownClones holds that a folder is known to be a clone of the repository that was said, and
// of no other.
func TestKnownClones(t *testing.T) {
	person(t)
	dir, other := t.TempDir(), t.TempDir()
	if Known(dir, "quay.example/office") {
		t.Error("it is known before anything was said")
	}
	must(t, SetKnown(dir, "quay.example/office"))
	if !Known(dir, "quay.example/office") || Known(dir, "quay.example/counter") ||
		Known(other, "quay.example/office") {
		t.Error("it is known as something else, or not at all")
	}
	moved := filepath.Join(t.TempDir(), "moved")
	must(t, os.Rename(dir, moved))
	if !Known(moved, "quay.example/office") {
		t.Error("it is not known any more after it was moved")
	}
}

// TestStateWithoutHome holds that a person without a home has a state all the same.
func TestStateWithoutHome(t *testing.T) {
	t.Setenv("XDG_STATE_HOME", "")
	t.Setenv("HOME", "")
	t.Setenv("TMPDIR", t.TempDir())
	root := t.TempDir()
	must(t, WriteState(root, "stack.json", []byte("{}")))
	if data, err := ReadState(root, "stack.json"); err != nil || string(data) != "{}" {
		t.Errorf("it reads %q, %v", data, err)
	}
}
