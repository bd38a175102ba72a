package reading

import (
	"io/fs"
	"testing"
	"testing/fstest"
)

// TestOverlay holds what is seen through an overlay to what the same files say in their final
// state.
func TestOverlay(t *testing.T) {
	content := func(text string) func() ([]byte, error) {
		return func() ([]byte, error) { return []byte(text), nil }
	}
	files := func(pairs ...string) fstest.MapFS {
		out := fstest.MapFS{}
		for i := 0; i < len(pairs); i += 2 {
			out[pairs[i]] = &fstest.MapFile{Data: []byte(pairs[i+1])}
		}
		return out
	}
	now := files("a", "1", "web/app.js", "old", "web/kept", "k", "gone/only", "x", "left/one", "1",
		"left/two", "2")
	then := files("a", "1", "web/app.js", "new", "web/kept", "k", "left/two", "2", "deep/er/b", "b")
	seen := Overlay(now, map[string]func() ([]byte, error){"web/app.js": content("new"),
		"gone/only": nil, "left/one": nil, "deep/er/b": content("b")})
	listing := func(fsys fs.FS) (out string) {
		var walk func(dir string)
		walk = func(dir string) {
			list, err := fs.ReadDir(fsys, dir)
			if err != nil {
				return
			}
			for _, e := range list {
				name := e.Name()
				if dir != "." {
					name = dir + "/" + name
				}
				if e.IsDir() {
					walk(name)
					continue
				}
				data, err := fs.ReadFile(fsys, name)
				out += name + "=" + string(data)
				if err != nil {
					out += err.Error()
				}
				if info, err := fs.Stat(fsys, name); err != nil ||
					info.Size() != int64(len(data)) || info.IsDir() {
					out += " wrongly described"
				}
				out += "\n"
			}
		}
		walk(".")
		return out
	}
	if got, want := listing(seen), listing(then); got != want {
		t.Errorf("seen:\n%swanted:\n%s", got, want)
	}
	if _, err := fs.ReadFile(seen, "gone/only"); err == nil {
		t.Error("a file that will be gone can be read")
	}
	if info, err := fs.Stat(seen, "deep/er"); err != nil || !info.IsDir() {
		t.Errorf("a folder that will come is no folder: %v", err)
	}
}
