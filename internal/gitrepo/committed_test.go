package gitrepo

import (
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

// TestCommitted tells what the commit has of files, whatever lies in the folder now.
func TestCommitted(t *testing.T) {
	t.Parallel()
	dir := repository(t)
	put := func(name, text string) {
		t.Helper()
		full := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(full), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(full, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	put("office/tide.js", "a")
	put("*.js", "a pattern's name")
	put("-n", "an option's name")
	runGit(t, dir, "add", "-A")
	runGit(t, dir, "commit", "-q", "-m", "more")
	files := []string{"version", "office/tide.js", "*.js", "-n", "absent", "office", ":(glob)**"}
	first := Committed(t.Context(), dir, "HEAD", files)
	if got := strings.Join(slices.Sorted(maps.Keys(first)),
		" "); got != "*.js -n office/tide.js version" {
		t.Errorf("of the files it tells %s", got)
	}
	if first["office/tide.js"] == first["version"] || len(first["version"]) < 40 {
		t.Errorf("their contents are %v", first)
	}
	put("office/tide.js", "edited")
	runGit(t, dir, "add", "-A") // also what is only to be committed is not
	if again := Committed(t.Context(), dir, "HEAD", files); !maps.Equal(first, again) {
		t.Errorf("an edit makes it %v", again)
	}
	runGit(t, dir, "commit", "-q", "-m", "edited")
	if again := Committed(t.Context(), dir, "HEAD",
		files); again["office/tide.js"] == first["office/tide.js"] ||
		again["version"] != first["version"] {
		t.Errorf("another commit makes it %v", again)
	}
	if got := Committed(t.Context(), t.TempDir(), "HEAD", files); len(got) > 0 {
		t.Errorf("outside of git: %v", got)
	}
}
