package needs

import (
	"errors"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/fsnotify/fsnotify"

	"nimbleharbor/internal/ecosystem"
)

// TestLocalTools asks this machine for made-up tools in a folder of the test's own.
func TestLocalTools(t *testing.T) {
	bin := t.TempDir()
	for name, script := range map[string]string{
		"node":  "echo v20.11.1",
		"mvn":   `printf '\033[1mApache Maven 3.8.7 (NON_CANONICAL)\033[m\n'`,
		"java":  `echo 'openjdk version "21.0.2" 2024-01-16' >&2`,
		"gcc":   "echo 'gcc (Debian 12.2.0-14) 12.2.0'",
		"php":   `if [ "$1" = -m ]; then echo '[PHP Modules]'; echo intl; echo PDO; else echo 'PHP 8.2.1 (cli)'; fi`,
		"ruby":  "true",
		"mix":   "echo 'a library is missing' >&2; exit 3",
		"rotad": "touch started",
		"cargo": `test "$(pwd)" = "$OLDPWD" || echo 1.80.0`,
	} {
		if err := os.WriteFile(filepath.Join(bin, name), []byte("#!/bin/sh\n"+script+"\n"),
			0o755); err != nil {
			t.Fatal(err)
		}
	}
	t.Setenv("PATH", bin+":/bin:/usr/bin")
	l := &Local{Dir: t.TempDir()}
	for tool, want := range map[string]string{"node": "20.11.1", "mvn": "3.8.7", "java": "21.0.2",
		"gcc": "12.2.0-14",
		"php": "8.2.1", "cargo": "1.80.0", "php extension intl": "loaded", "php extension " +
			"pdo": "loaded", "rotad": "found in " + bin} {
		if got, err := l.Version(t.Context(), tool); got != want || err != nil {
			t.Errorf("%s is %q, %v; want %q", tool, got, err, want)
		}
	}
	for tool, want := range map[string]string{"absent-tool": "not installed",
		"php extension xdebug": "not installed",
		"ruby":                 "does not tell", "mix": "a library is missing"} {
		if got, err := l.Version(t.Context(), tool); err == nil ||
			!strings.Contains(err.Error(), want) {
			t.Errorf("%s is %q, %v; want %s", tool, got, err, want)
		}
	}
	if _, err := l.Version(t.Context(), "absent-tool"); !errors.Is(err, ErrNoTool) {
		t.Errorf("that a tool is absent can't be told: %v", err)
	}
}

func TestHeadersAreLookedFor(t *testing.T) {
	t.Parallel()
	for _, tool := range ecosystem.Tools() {
		name, patterns := tool.Name, tool.Headers
		if patterns == nil {
			continue
		}
		found := false
		for _, p := range patterns {
			if list, _ := filepath.Glob(p); len(list) > 0 {
				found = true
			}
		}
		got, err := (&Local{}).Version(t.Context(), name)
		if found != (err == nil) || found != strings.HasPrefix(got, "found in /") {
			t.Errorf("%s: %q, %v, and on this machine %v", name, got, err, found)
		}
	}
}

func TestLogins(t *testing.T) {
	home := t.TempDir()
	t.Setenv("HOME", home)
	t.Setenv("QUAY_TOKEN", "x")
	t.Setenv("EMPTY_TOKEN", "")
	if err := os.MkdirAll(filepath.Join(home, ".m2"), 0o755); err != nil {
		t.Fatal(err)
	}
	for name, text := range map[string]string{".npmrc": "//npm.quay.example/:_authToken=x",
		".m2/settings.xml": "<url>https://maven.quay.example</url>"} {
		if err := os.WriteFile(filepath.Join(home, name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	l := &Local{}
	for _, c := range []struct {
		address, variable string
		want              bool
	}{
		{"https://npm.quay.example/x", "", true}, {"https://npm.quay.example", "EMPTY_TOKEN", true},
		{"https://maven.quay.example/r", "", true}, {"https://else.quay.example", "QUAY_TOKEN",
			true},
		{"https://else.quay.example", "", false}, {"https://else.quay.example", "EMPTY_TOKEN",
			false},
		{"::no address", "", false}, {"", "", false},
	} {
		if got := l.LoggedIn(c.address, c.variable); got != c.want {
			t.Errorf("%s with %q: %v", c.address, c.variable, got)
		}
	}
}

// TestRemediesAreCommands looks at what is said for each tool on each system that is known.
func TestRemediesAreCommands(t *testing.T) {
	t.Parallel()
	l := &Local{}
	for _, tool := range ecosystem.Tools() {
		for how, names := range tool.Packages {
			if strings.TrimSpace(names) != names || names == "" || installs[how] == "" {
				t.Errorf("%s by %s is %q", tool.Name, how, names)
			}
		}
		if got := l.command(tool.Name); tool.By != nil && got == "" && !managed() {
			t.Errorf("for %s one is told %q", tool.Name, got)
		}
	}
	for name := range map[string]bool{"library cairo": true, "python headers": true} {
		if got := l.command(name); got == "" && system() != "" {
			t.Errorf("for %s one is told nothing", name)
		}
	}
	if l.Install("no such tool").Command != "" {
		t.Error("a tool that nobody knows has a remedy")
	}
	if got := l.command("php extension pdo_pgsql"); system() == "apt" &&
		!strings.HasSuffix(got, "apt-get install -y php-pgsql") {
		t.Errorf("for an extension one is told %q", got)
	}
}

// TestToolsAreBounded asks tools that hang, that leave something behind, that print without end,
// and those of the checkout itself, which are not run.
func TestToolsAreBounded(t *testing.T) {
	bin, checkout := t.TempDir(), t.TempDir()
	write := func(name, script string) {
		t.Helper()
		if err := os.WriteFile(name, []byte("#!/bin/sh\n"+script+"\n"), 0o755); err != nil {
			t.Fatal(err)
		}
	}
	write(bin+"/node", "pwd > "+bin+"/where; yes 20.1.0")
	write(bin+"/mvn", "sleep 1000 & echo 3.9.1")
	write(bin+"/php", "echo 8.2.1 in the folder; touch "+bin+"/php-ran")
	write(checkout+"/php", "echo 9.9; touch "+bin+"/evil")
	write(checkout+"/ruby", "echo 9.9; touch "+bin+"/evil")
	t.Setenv("PATH", strings.Join([]string{".", checkout, bin, "/usr/bin", "/bin"}, ":"))
	t.Chdir(checkout)
	if err := os.MkdirAll(bin+"/lib/corepack", 0o755); err != nil {
		t.Fatal(err)
	}
	write(bin+"/lib/corepack/pnpm.js", "touch "+bin+"/evil")
	if err := os.Symlink(bin+"/lib/corepack/pnpm.js", bin+"/pnpm"); err != nil {
		t.Fatal(err)
	}
	l := &Local{Dir: checkout}
	for tool, want := range map[string]string{"pnpm": "corepack's, which fetches the version " +
		"that the project names", "node": "20.1.0", "mvn": "3.9.1", "php": "8.2.1",
		"ruby": "found in " + checkout + ", and not asked: it belongs to the checkout"} {
		if got, err := l.Version(t.Context(), tool); got != want || err != nil {
			t.Errorf("%s is %q, %v; want %q", tool, got, err, want)
		}
	}
	if _, err := os.Stat(bin + "/evil"); err == nil {
		t.Error("a program of the checkout was run")
	}
	if where, err := os.ReadFile(bin + "/where"); strings.TrimSpace(string(where)) != "/" ||
		err != nil {
		t.Errorf("tools are asked in %s, %v", where, err)
	}
}

// TestFacts holds what this machine tells against what it is.
func TestFacts(t *testing.T) {
	t.Parallel()
	f := (&Local{}).Host()
	if f.Memory == 0 || f.MemoryFree == 0 || f.MemoryFree > f.Memory || f.OpenFiles == 0 {
		t.Errorf("%+v", f)
	}
	watcher, err := fsnotify.NewWatcher()
	if err != nil {
		t.Fatal(err)
	}
	defer watcher.Close()
	for range 3 {
		if err := watcher.Add(t.TempDir()); err != nil {
			t.Fatal(err)
		}
	}
	if w := (&Local{}).Host(); w.Watches.Used < 3 || w.Watchers.Used < 1 ||
		w.Watches.Most < w.Watches.Used {
		t.Errorf("with one watcher of three folders: %+v", w)
	}
}

// TestReaches speaks to a source that is there, and to one that is not.
func TestReaches(t *testing.T) {
	t.Parallel()
	s := httptest.NewServer(http.NotFoundHandler())
	l := &Local{}
	if err := l.Reaches(t.Context(), s.URL); err != nil {
		t.Error(err)
	}
	s.Close()
	if err := l.Reaches(t.Context(), s.URL); err == nil || strings.Contains(err.Error(), "HEAD") {
		t.Errorf("of one that is gone: %v", err)
	}
}
