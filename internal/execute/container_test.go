package execute

import (
	"os"
	"path/filepath"
	"testing"
)

func TestHostPath(t *testing.T) {
	t.Parallel()
	root := t.TempDir()
	if err := os.WriteFile(filepath.Join(root, "file"), []byte("x"), 0o600); err != nil {
		t.Fatal(err)
	}
	outside := t.TempDir()
	if err := os.Symlink(outside, filepath.Join(root, "link")); err != nil {
		t.Fatal(err)
	}
	home, err := os.UserHomeDir()
	if err != nil {
		t.Fatal(err)
	}
	for source, want := range map[string]string{
		"new/folder": filepath.Join(root, "new/folder"), "file": filepath.Join(root, "file"),
		"../beside": filepath.Join(filepath.Dir(root), "beside"),
		"/etc":      "/etc", "~/.x": filepath.Join(home, ".x"), "link/made": filepath.Join(root,
			"link/made"),
	} {
		if got, err := hostPath(root, source, true); got != want || err != nil {
			t.Errorf("%s lies at %s, want %s (%v)", source, got, want, err)
		}
	}
	if info, err := os.Stat(filepath.Join(root, "new/folder")); err != nil || !info.IsDir() {
		t.Errorf("the folder in the workspace was not made: %v", err)
	}
	if data, err := os.ReadFile(filepath.Join(root, "file")); err != nil || string(data) != "x" {
		t.Errorf("the file is now %q, %v", data, err)
	}
	if _, err := os.Stat(filepath.Join(filepath.Dir(root), "beside")); err == nil {
		t.Error("a folder outside was made")
	}
	if entries, _ := os.ReadDir(outside); len(entries) > 0 {
		t.Errorf("through a link %v was made outside", entries)
	}
}
