package session

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"nimbleharbor/internal/needs"
	"nimbleharbor/internal/stack"
)

// TestOfCheckouts tells of scripts that no shell can run, and of a commit from the future. What is
// told to be pasted mends it, whatever the files are called, and does nothing else.
func TestOfCheckouts(t *testing.T) {
	t.Parallel()
	root := t.TempDir()
	canary := filepath.Join(root, "canary")
	run := func(dir, when, command string) string {
		t.Helper()
		cmd := exec.Command("sh", "-e", "-c", command)
		cmd.Dir = dir
		cmd.Env = append(os.Environ(), "GIT_COMMITTER_DATE="+when, "GIT_CONFIG_NOSYSTEM=1",
			"GIT_CONFIG_GLOBAL=/dev/null")
		out, err := cmd.CombinedOutput()
		if err != nil {
			t.Fatalf("%s: %v\n%s", command, err, out)
		}
		return string(out)
	}
	const now = "2026-06-01T12:00:00Z"
	begin := `git init -q && git config user.name ida && git config user.email ida@quay.example && `
	dirs := map[string]string{"committed": now, "made here": now, "later": "2026-06-03T12:00:00Z",
		"well": now}
	hostile := "tide;touch canary $(touch canary).sh"
	for name, when := range dirs {
		dir := filepath.Join(root, name)
		if err := os.Mkdir(dir, 0o755); err != nil {
			t.Fatal(err)
		}
		ends := "\n"
		if name == "committed" {
			ends = "\r\n"
		}
		for _, file := range []string{hostile, "-n.sh", "notes.txt"} {
			text := "#!/bin/sh" + ends + "echo tide" + ends
			if err := os.WriteFile(filepath.Join(dir, file), []byte(text), 0o755); err != nil {
				t.Fatal(err)
			}
		}
		run(dir, when, begin+"git add -A && git commit -q -m tide")
		if name == "made here" {
			run(dir, when, "git config core.autocrlf true && rm -- * && git checkout -q -- .")
		}
	}
	ask := func() (told map[string]needs.Need) {
		m := &Mixed{Surveyed: &Surveyed{Workspace: &Workspace{Root: root}}}
		for name := range dirs {
			m.Checkouts = append(m.Checkouts, stack.Checkout{Path: name})
		}
		at, _ := time.Parse(time.RFC3339, now)
		a := &needs.Answer{}
		m.ofCheckouts(t.Context(), a, at.Add(time.Minute))
		told = map[string]needs.Need{}
		for _, n := range a.Needs {
			told[strings.SplitN(n.Because[0].File, "/", 2)[0]+" "+string(n.Kind)] = n
		}
		return told
	}
	told := ask()
	committed, made, later := told["committed file"], told["made here file"], told["later host"]
	if len(told) != 3 || !strings.Contains(committed.Name, "2 scripts") ||
		!strings.Contains(later.Found, "2026-06-03") ||
		!strings.HasPrefix(committed.Remedy, "They are committed so.") ||
		!strings.HasPrefix(made.Remedy,
			"This machine's git makes them so: git config core.autocrlf input.") {
		t.Fatalf("told is %+v", told)
	}
	paste := func(remedy string) {
		t.Helper()
		_, command, _ := strings.Cut(remedy, "cd ")
		run(root, now, "cd "+command)
	}
	paste(committed.Remedy)
	run(filepath.Join(root, "made here"), now, "git config core.autocrlf input")
	paste(made.Remedy)
	if again := ask(); len(again) != 1 {
		t.Errorf("after what was pasted is told %+v", again)
	}
	for _, dir := range []string{"committed", "made here"} {
		if got := run(filepath.Join(root, dir), now, "'./"+hostile+"'"); got != "tide\n" {
			t.Errorf("in %s the script says %q", dir, got)
		}
		if _, err := os.Stat(filepath.Join(root, dir, "canary")); err == nil {
			t.Errorf("in %s a file's name was run", dir)
		}
	}
	if _, err := os.Stat(canary); err == nil {
		t.Error("a file's name was run")
	}
}
