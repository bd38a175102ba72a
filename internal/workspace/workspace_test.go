package workspace

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

func lay(t *testing.T, root string, paths ...string) {
	t.Helper()
	for _, p := range paths {
		full := filepath.Join(root, p)
		if strings.HasSuffix(p, "/") {
			if err := os.MkdirAll(full, 0o755); err != nil {
				t.Fatal(err)
			}
			continue
		}
		if err := os.MkdirAll(filepath.Dir(full), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(full, nil, 0o644); err != nil {
			t.Fatal(err)
		}
	}
}

func TestRoot(t *testing.T) {
	t.Parallel()
	root := t.TempDir()
	lay(t, root, "ws/.nharbor/", "ws/app/.git/", "ws/app/src/deep/", "repo/.git/", "repo/a/b/",
		"configured/nharbor.toml", "configured/.git/", "configured/sub/.git/", "plain/x/")
	for dir, want := range map[string]string{
		"ws/app/src/deep": "ws", "ws": "ws", "repo/a/b": "repo", "repo": "repo",
		"configured/sub": "configured",
		"plain/x":        "plain/x",
	} {
		if got := Root(filepath.Join(root, dir)); got != filepath.Join(root, want) {
			t.Errorf("the root of %s is %s, want %s", dir, got, want)
		}
	}
}

func TestNear(t *testing.T) {
	t.Parallel()
	root := t.TempDir()
	lay(t, root, "a/package.json", "a/lost/", "b/compose.yaml", "c/notes.txt", "d/")
	if got, want := Near(filepath.Join(root, "d")),
		[]string{filepath.Join(root, "a"), filepath.Join(root, "b")}; !slices.Equal(got, want) {
		t.Errorf("near d are %v, want %v", got, want)
	}
	if got := Near(filepath.Join(root, "a", "lost")); len(got) == 0 ||
		got[0] != filepath.Join(root, "a") {
		t.Errorf("near a/lost are %v", got)
	}
}

func TestID(t *testing.T) {
	t.Parallel()
	root := t.TempDir()
	lay(t, root, "one/app/", "two/app/")
	one, two := filepath.Join(root, "one", "app"), filepath.Join(root, "two", "app")
	if err := os.Symlink(one, filepath.Join(root, "link")); err != nil {
		t.Fatal(err)
	}
	if ID(one) == ID(two) || ID(one) != ID(filepath.Join(root, "link")) || len(ID(one)) != 10 {
		t.Errorf("the ids are %s and %s", ID(one), ID(two))
	}
}

func TestWriteFile(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	name := filepath.Join(dir, "f")
	for _, text := range []string{"first", "second, and longer", ""} {
		if err := WriteFile(name, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		data, err := os.ReadFile(name)
		info, _ := os.Stat(name)
		if err != nil || string(data) != text || info.Mode().Perm() != 0o600 {
			t.Errorf("it holds %q, %v, %v", data, info.Mode(), err)
		}
	}
	if err := WriteFile(filepath.Join(dir, "absent", "f"), nil, 0o600); err == nil {
		t.Error("writing into an absent folder went well")
	}
	if err := os.Mkdir(filepath.Join(dir, "folder"), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := WriteFile(filepath.Join(dir, "folder"), nil, 0o600); err == nil {
		t.Error("a folder was overwritten")
	}
	entries, err := os.ReadDir(dir)
	if err != nil || len(entries) != 2 {
		t.Errorf("left in the folder: %v, %v", entries, err)
	}
}

func TestMakeStateDir(t *testing.T) {
	t.Parallel()
	root := t.TempDir()
	dir, err := MakeStateDir(root, "logs")
	if err != nil || dir != filepath.Join(root, ".nharbor", "logs") {
		t.Fatalf("%s, %v", dir, err)
	}
	if data, err := os.ReadFile(filepath.Join(root, ".nharbor", ".gitignore")); err != nil ||
		string(data) != "*\n" {
		t.Errorf("its ignore file holds %q, %v", data, err)
	}
	if info, err := os.Stat(dir); err != nil || info.Mode().Perm() != 0o700 {
		t.Errorf("its rights are %v, %v", info.Mode(), err)
	}
}
