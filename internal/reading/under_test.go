package reading

import (
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"testing"
)

func TestUnder(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	for _, name := range []string{"a/x", "a/b/y", "z"} {
		if err := os.MkdirAll(filepath.Join(dir, filepath.Dir(name)), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(dir, name), []byte(name), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	root, err := os.OpenRoot(dir)
	if err != nil {
		t.Fatal(err)
	}
	defer root.Close()
	fsys := Under(root)
	if data, err := fs.ReadFile(fsys, "a/b/y"); err != nil || string(data) != "a/b/y" {
		t.Errorf("reading: %q, %v", data, err)
	}
	own := fsys.(interface {
		ReadOwnDir(string) ([]fs.DirEntry, error)
	})
	for name, want := range map[string]int{".": 2, "a": 2, "a/b": 1} {
		entries, err := own.ReadOwnDir(name)
		if err != nil || len(entries) != want {
			t.Errorf("%s holds %v, %v", name, entries, err)
		}
	}
	for _, name := range []string{"..", "/etc", "a/../..", "nowhere", "z"} {
		if entries, err := own.ReadOwnDir(name); err == nil && runtime.GOOS != "windows" {
			t.Errorf("%s can be listed: %v", name, entries)
		}
	}
	if err := os.Symlink("/etc", filepath.Join(dir, "out")); err != nil {
		t.Skip("this file system has no symbolic links")
	}
	if entries, err := own.ReadOwnDir("out"); err == nil {
		t.Errorf("a link is followed: %v", entries)
	}
	if _, err := fs.ReadFile(fsys, "out/passwd"); err == nil {
		t.Error("a file is read through a link that leaves the root")
	}
}
