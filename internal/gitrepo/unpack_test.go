package gitrepo

import (
	"archive/tar"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"nimbleharbor/internal/stack"
)

// TestArchives makes checkouts of what git hands on in one file, and of archives, which have no
// history.
func TestArchives(t *testing.T) {
	t.Parallel()
	repo, dir := repository(t), t.TempDir()
	for _, name := range []string{"ferry-2.zip", "ferry-2.tar", "ferry-2.tar.gz"} {
		runGit(t, repo, "archive", "--prefix=ferry-2/", "-o", filepath.Join(dir, name), "v2")
	}
	runGit(t, repo, "bundle", "create", "-q", filepath.Join(dir, "ferry.bundle"), "HEAD", "main",
		"v1", "v2")
	for name, want := range map[string]string{"ferry-2.zip": "", "ferry-2.tar": "",
		"ferry-2.tar.gz": "", "ferry.bundle": "main"} {
		if got := NameOf(filepath.Join(dir, name)); got != strings.Split(name, ".")[0] {
			t.Errorf("%s becomes the folder %s", name, got)
		}
		to := filepath.Join(dir, "of "+name)
		var said []string
		c, err := Clone(t.Context(), filepath.Join(dir, name), to,
			Options{Progress: func(p Progress) {
				said = append(said, p.String())
			}})
		if err != nil || c.Branch != want || content(t, filepath.Join(to, "version")) != "v2" {
			t.Errorf("%s: %+v, %v", name, c, err)
		}
		if want == "" && (len(said) == 0 ||
			!strings.HasPrefix(said[len(said)-1], "unpacked 100 %")) {
			t.Errorf("%s: on the way it says %q", name, said)
		}
	}
	c, err := Clone(t.Context(), filepath.Join(dir, "ferry-2.zip"), filepath.Join(dir, "fresh"),
		Options{
			NewHistory: true})
	if err != nil || c.Commit == "" || c.Tag != "" {
		t.Errorf("with a history of its own: %+v, %v", c, err)
	}
	var f *stack.Fault
	if _, err := Clone(t.Context(), filepath.Join(dir, "ferry-2.zip"), filepath.Join(dir, "x"),
		Options{
			Ref: "v1"}); !errors.As(err, &f) || f.Code != stack.CodeWrongCall {
		t.Errorf("an archive at a tag: %v", err)
	}
	hostile, err := os.Create(filepath.Join(dir, "hostile.tar"))
	if err != nil {
		t.Fatal(err)
	}
	w := tar.NewWriter(hostile)
	w.WriteHeader(&tar.Header{Name: "fine", Typeflag: tar.TypeReg, Mode: 0o644})
	w.WriteHeader(&tar.Header{Name: "../../out", Typeflag: tar.TypeReg, Mode: 0o644})
	if err := errors.Join(w.Close(), hostile.Close()); err != nil {
		t.Fatal(err)
	}
	_, err = Clone(t.Context(), hostile.Name(), filepath.Join(dir, "h"), Options{})
	if !errors.As(err, &f) || f.Code != stack.CodeArchiveRefused ||
		!strings.Contains(f.Text, "../../out") {
		t.Errorf("an entry that leaves the folder: %v", err)
	}
	left, _ := filepath.Glob(filepath.Join(dir, ".nharbor-*"))
	if _, err := os.Stat(filepath.Join(dir, "h")); err == nil || len(left) > 0 {
		t.Errorf("of a refused archive there is left: %v", left)
	}
}

// TestPointers counts the files that only stand for large ones.
func TestPointers(t *testing.T) {
	t.Parallel()
	repo := repository(t)
	for name, text := range map[string]string{"a.bin": pointer + "oid sha256:0\nsize 5\n",
		"b.bin": pointer, "c.txt": "text", ".gitattributes": "*.bin filter=tide -text\n",
		"long.txt": pointer + strings.Repeat("x", 2000)} {
		if err := os.WriteFile(filepath.Join(repo, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	runGit(t, repo, "add", "-A")
	runGit(t, repo, "commit", "-q", "-m", "large")
	c, err := Clone(t.Context(), repo, filepath.Join(t.TempDir(), "x"), Options{})
	if err != nil || c.Pointers != 2 {
		t.Errorf("%d files are pointers, %v", c.Pointers, err)
	}
}

// TestAlreadyThere goes on with a checkout that stands in the place of a clone, and names one of
// something else.
func TestAlreadyThere(t *testing.T) {
	t.Parallel()
	repo, other, dir := repository(t), repository(t), filepath.Join(t.TempDir(), "checkout")
	if _, err := Clone(t.Context(), repo, dir, Options{Ref: "v1"}); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct{ address, ref, says string }{
		{repo, "", ""}, {repo, "v1", ""}, {repo, "v2", "not at v2"}, {other, "",
			"another checkout stands there, of " + repo},
	} {
		got, err := Clone(t.Context(), c.address, dir, Options{Ref: c.ref})
		if c.says == "" && (err != nil || !got.Already || got.Tag != "v1") ||
			c.says != "" && (err == nil || !strings.Contains(err.Error(), c.says)) {
			t.Errorf("%q: %+v, %v", c.ref, got, err)
		}
	}
	full := t.TempDir()
	if err := os.WriteFile(filepath.Join(full, "x"), nil, 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := Clone(t.Context(), repo, full, Options{}); err == nil ||
		!strings.Contains(err.Error(), "not empty") {
		t.Errorf("a folder with something else: %v", err)
	}
}
