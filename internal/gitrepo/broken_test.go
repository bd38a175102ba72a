package gitrepo

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/cgi"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"nimbleharbor/internal/stack"
)

// backend serves the repositories below a folder by git's own program for it, through what a test
// puts before it.
func backend(t *testing.T, root string,
	before func(w http.ResponseWriter, r *http.Request, next http.Handler)) string {
	t.Helper()
	exec, err := exec.Command("git", "--exec-path").Output()
	if err != nil {
		t.Fatal(err)
	}
	own := &cgi.Handler{Path: filepath.Join(strings.TrimSpace(string(exec)), "git-http-backend"),
		Env: []string{"GIT_PROJECT_ROOT=" + root, "GIT_HTTP_EXPORT_ALL=1", "GIT_CONFIG_COUNT=2",
			"GIT_CONFIG_KEY_0=safe.directory", "GIT_CONFIG_VALUE_0=*",
			"GIT_CONFIG_KEY_1=uploadpack.allowFilter", "GIT_CONFIG_VALUE_1=true"},
		Stderr: io.Discard}
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		before(w, r, own)
	}))
	t.Cleanup(s.Close)
	return s.URL
}

func through(w http.ResponseWriter, r *http.Request, next http.Handler) { next.ServeHTTP(w, r) }

// silent hands on the first so many bytes of an answer, and then says nothing until the other end
// goes.
type silent struct {
	http.ResponseWriter
	left int
	gone <-chan struct{}
}

func (s *silent) Write(p []byte) (int, error) {
	if len(p) > s.left {
		s.ResponseWriter.Write(p[:s.left])
		s.ResponseWriter.(http.Flusher).Flush()
		<-s.gone
		return 0, io.ErrClosedPipe
	}
	s.left -= len(p)
	return s.ResponseWriter.Write(p)
}

// long makes a repository with so many commits, whose files don't compress.
func long(t *testing.T, commits int) string {
	t.Helper()
	dir := repository(t)
	script := &strings.Builder{}
	for i := range commits {
		fmt.Fprintf(script, "commit refs/heads/main\ncommitter Ida <ida@quay.example> %d "+
			"+0000\ndata 4\ntide\n", 1700000000+i)
		if i == 0 {
			fmt.Fprintf(script, "from refs/heads/main^0\n")
		}
		noise := make([]byte, 4000)
		for k := range noise {
			noise[k] = byte((i*7919 + k*k*31 + k*i) >> (k % 5))
		}
		fmt.Fprintf(script, "M 644 inline f%d\ndata %d\n%s\n", i%50, len(noise), noise)
	}
	cmd := exec.Command("git", "-C", dir, "fast-import", "--quiet", "--force")
	cmd.Stdin = strings.NewReader(script.String())
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	runGit(t, dir, "reset", "-q", "--hard")
	return dir
}

// TestStalledAndResumed clones from a server that falls silent in the middle: that is said, and the
// next attempt, which goes in steps, keeps what has arrived when it breaks off, until one comes
// through.
func TestStalledAndResumed(t *testing.T) {
	t.Parallel()
	repo := long(t, 700)
	var allow, asked atomic.Int64 // bytes of each answer with objects
	allow.Store(60_000)
	server := backend(t, filepath.Dir(repo),
		func(w http.ResponseWriter, r *http.Request, next http.Handler) {
			if strings.HasSuffix(r.URL.Path, "git-upload-pack") {
				asked.Add(1)
				w = &silent{w, int(allow.Load()), r.Context().Done()}
			}
			next.ServeHTTP(w, r)
		})
	address := server + "/" + strings.ReplaceAll(filepath.Base(repo), " ", "%20")
	dir := filepath.Join(t.TempDir(), "new", "checkout")
	making := filepath.Join(t.TempDir(), "making", "one")
	attempt := func() error {
		patience := time.Second
		if allow.Load() > 1<<20 { // the server doesn't fall silent, however slow this machine is
			patience = time.Minute
		}
		_, err := Clone(t.Context(), address, dir,
			Options{Patience: patience, worthSteps: time.Hour, Making: making})
		return err
	}
	var f *stack.Fault
	if err := attempt(); !errors.As(err, &f) || f.Code != stack.CodeCloneStalled ||
		!strings.Contains(f.Text, "has sent nothing for 1s") {
		t.Fatalf("of a server that stalls: %v", err)
	}
	for _, folder := range []string{filepath.Dir(dir), filepath.Dir(making)} {
		if left, err := os.ReadDir(folder); err != nil || len(left) != 0 {
			t.Fatalf("after a short attempt there is %v, %v", left, err)
		}
	}
	at, err := takePlace(dir, making) // as an attempt leaves it that took longer
	if err != nil {
		t.Fatal(err)
	}
	if err := at.mark(inSteps); err != nil {
		t.Fatal(err)
	}
	at.leave(true)
	allow.Store(260_000) // the newest commit, and some more, but not all
	if err := attempt(); !errors.As(err, &f) || f.Code != stack.CodeCloneStalled ||
		!strings.Contains(f.Remedy, "goes on") {
		t.Fatalf("of the attempt in steps: %v", err)
	}
	g := git{ctx: t.Context()}
	got := g.output(filepath.Join(making, "checkout"), "rev-list", "--count",
		"refs/remotes/origin/main")
	if got == "" || got == "702" {
		t.Fatalf("of the attempt in steps there are %s commits", got)
	}
	allow.Store(100 << 20)
	if err := attempt(); err != nil {
		t.Fatal(err)
	}
	for _, ask := range [][2]string{{"702", "rev-list --count HEAD"},
		{"main", "symbolic-ref --short HEAD"}, {"", "status --porcelain"},
		{"v1\nv2", "tag"}, {"origin/main", "rev-parse --abbrev-ref main@{upstream}"}, {"false",
			"rev-parse --is-shallow-repository"}} {
		if got := g.output(dir, strings.Fields(ask[1])...); got != ask[0] {
			t.Errorf("git %s says %q, want %q", ask[1], got, ask[0])
		}
	}
	if entries, _ := os.ReadDir(filepath.Dir(dir)); len(entries) != 1 {
		t.Errorf("beside the checkout there is %v", entries)
	}
}

// TestResumedAfterFetching goes on with a submodule that could not be reached before, and with what
// has come since.
func TestResumedAfterFetching(t *testing.T) {
	t.Parallel()
	outer, inner := repository(t), repository(t)
	ctx, cancel := context.WithCancel(t.Context())
	var reached atomic.Bool
	serve := func(dir string, before func(http.ResponseWriter, *http.Request,
		http.Handler)) string {
		return backend(t, filepath.Dir(dir), before) + "/" +
			strings.ReplaceAll(filepath.Base(dir), " ", "%20")
	}
	part := serve(inner, func(w http.ResponseWriter, r *http.Request, next http.Handler) {
		if !reached.Swap(true) {
			cancel() // somebody presses Ctrl-C while the submodule is fetched
			<-r.Context().Done()
			return
		}
		next.ServeHTTP(w, r)
	})
	if err := os.WriteFile(filepath.Join(outer, ".gitmodules"),
		[]byte("[submodule \"part\"]\n\tpath = part\n\turl = "+part+"\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	g := git{ctx: t.Context()}
	commit := g.output(inner, "rev-parse", "HEAD")
	runGit(t, outer, "update-index", "--add", "--cacheinfo", "160000,"+commit+",part")
	runGit(t, outer, "add", ".gitmodules")
	runGit(t, outer, "commit", "-q", "-m", "with a part")
	address := serve(outer, through)
	dir, making := filepath.Join(t.TempDir(), "new", "checkout"), filepath.Join(t.TempDir(),
		"making", "one")
	var f *stack.Fault
	opt := Options{Making: making}
	if _, err := Clone(ctx, address, dir, opt); !errors.As(err, &f) ||
		f.Kind != stack.Interrupted ||
		!strings.Contains(f.Remedy, "goes on from what has arrived") {
		t.Fatalf("interrupted at the submodule: %v", err)
	}
	runGit(t, outer, "commit", "-q", "--allow-empty", "-m", "later")
	if _, err := Clone(t.Context(), address, dir, Options{Making: making}); err != nil {
		t.Fatal(err)
	}
	if got := g.output(dir, "log", "-1", "--format=%s"); got != "later" {
		t.Errorf("the newest commit is %q", got)
	}
	if content(t, filepath.Join(dir, "part", "version")) != "v2" {
		t.Error("the submodule is not there")
	}
	if entries, _ := os.ReadDir(filepath.Dir(dir)); len(entries) != 1 {
		t.Errorf("beside the checkout there is %v", entries)
	}
}

// TestSlim leaves there what is not checked out.
func TestSlim(t *testing.T) {
	t.Parallel()
	repo := long(t, 100)
	address := backend(t, filepath.Dir(repo), through) + "/" +
		strings.ReplaceAll(filepath.Base(repo), " ", "%20")
	dir := filepath.Join(t.TempDir(), "x")
	said := map[string]bool{}
	_, err := Clone(t.Context(), address, dir,
		Options{Slim: true, Progress: func(p Progress) { said[p.Phase] = true }})
	if err != nil || !said["fetched"] || !said["prepared there"] {
		t.Fatalf("%v, and of the progress it said %v", err, said)
	}
	g := git{ctx: t.Context()}
	missing := strings.Count(g.output(dir, "rev-list", "--objects", "--missing=print", "HEAD"), "?")
	if g.output(dir, "rev-list", "--count", "HEAD") != "102" || missing < 40 ||
		g.output(dir, "status", "--porcelain") != "" {
		t.Errorf("of %s commits %d contents are missing",
			g.output(dir, "rev-list", "--count", "HEAD"), missing)
	}
}

// TestOneAtATime lets a second clone into the same place wait for nobody and harm nothing.
func TestOneAtATime(t *testing.T) {
	t.Parallel()
	repo, dir := repository(t), filepath.Join(t.TempDir(), "x")
	making := filepath.Join(t.TempDir(), "making", "one")
	at, err := takePlace(dir, making)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := Clone(t.Context(), repo, dir, Options{Making: making}); err == nil ||
		!strings.Contains(err.Error(), "under way") {
		t.Errorf("of the second: %v", err)
	}
	if err := os.MkdirAll(filepath.Join(at.work(), "torn"), 0o755); err != nil {
		t.Fatal(err)
	}
	at.lock.Unlock() // as if its process was killed
	os.RemoveAll(at.temp)
	if _, err := Clone(t.Context(), repo, dir, Options{Making: making}); err != nil {
		t.Error(err)
	}
	if entries, _ := os.ReadDir(filepath.Dir(dir)); len(entries) != 1 {
		t.Errorf("beside the checkout there is %v", entries)
	}
}

// TestTargets puts clones where something else stands, and clones what has nothing in it.
func TestTargets(t *testing.T) {
	t.Parallel()
	repo, file := repository(t), filepath.Join(t.TempDir(), "x")
	if err := os.WriteFile(file, nil, 0o644); err != nil {
		t.Fatal(err)
	}
	if _, err := Clone(t.Context(), repo, file, Options{}); err == nil ||
		!strings.Contains(err.Error(), "a file stands") {
		t.Errorf("onto a file: %v", err)
	}
	if _, err := Clone(t.Context(), repo, filepath.Join(file, "y"), Options{}); err == nil {
		t.Error("into a file a checkout is made")
	}
	empty := filepath.Join(t.TempDir(), "empty")
	runGit(t, filepath.Dir(empty), "init", "-q", "-b", "main", empty)
	c, err := Clone(t.Context(), empty, filepath.Join(t.TempDir(), "x"), Options{})
	if err != nil || c.Commit != "" || c.Branch != "main" {
		t.Errorf("of a repository without commits: %+v, %v", c, err)
	}
}

func TestProgress(t *testing.T) {
	t.Parallel()
	start := time.Date(2026, 11, 1, 8, 0, 0, 0, time.UTC)
	var f follower
	for i, c := range []struct{ line, want string }{
		{"Cloning into 'x'...", ""},
		{"remote: Counting objects:  40% (4/10)", "prepared there 40 %"},
		{"Receiving objects:   5% (50/1000), 12.00 MiB | 2.00 MiB/s",
			"fetched 5 %, 12.6 MB, 2.1 MB/s"},
		{"Receiving objects:  50% (500/1000), 120.00 MiB | 900.00 KiB/s",
			"fetched 50 %, 125.8 MB, 0.9 MB/s, about 10s to go"},
		{"Resolving deltas: 100% (6/6), done.", "put together 100 %"},
		{"Updating files:  10% (5/50)", "checked out 10 %"}, {"Tiding over: 10% (5/50)", ""},
	} {
		p, ok := f.read(c.line, start.Add(time.Duration(i)*10*time.Second))
		if ok != (c.want != "") || ok && p.String() != c.want {
			t.Errorf("%s: %q, want %q", c.line, p, c.want)
		}
	}
}

// TestTags tells the newest of tags of several kinds, and what a repository had at each.
func TestTags(t *testing.T) {
	t.Parallel()
	repo := repository(t)
	write := func(name, text string) {
		t.Helper()
		full := filepath.Join(repo, name)
		if err := os.MkdirAll(filepath.Dir(full), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(full, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	write("deep/er/note", "one")
	runGit(t, repo, "add", "-A")
	runGit(t, repo, "commit", "-q", "-m", "x")
	for _, tag := range []string{"v10.0.0-rc.1", "v10.0.0", "v9.1.0", "tide", "release-3"} {
		runGit(t, repo, "tag", tag)
	}
	if got := strings.Join(Tags(t.Context(), repo, 3), " "); got != "v10.0.0 v9.1.0 v2" {
		t.Errorf("the tags are %s", got)
	}
	o, err := Open(t.Context(), repo)
	if err != nil {
		t.Fatal(err)
	}
	defer o.Close()
	for _, ask := range [][3]string{{"v1", "version", "v1"}, {"v2", "version", "v2"},
		{"v9.1.0", "deep/er/note", "one"},
		{"v2", "deep/er/note", ""}, {"v2", "absent", ""}, {"tide", "deep", ""}, {"no such tag",
			"version", ""}, {"two\nlines", "version", ""}, {"v1", "../version", ""}} {
		data, err := readFile(o, ask[0], ask[1])
		if data != ask[2] || (err == nil) != (ask[2] != "") {
			t.Errorf("%s at %s: %q, %v", ask[1], ask[0], data, err)
		}
	}
	if list := o.Folder("v9.1.0", "."); len(list) != 2 || list[0].Name != "deep" ||
		!list[0].Folder || list[1].Folder {
		t.Errorf("at the top there are %+v", list)
	}
	c, err := Clone(t.Context(), repo, filepath.Join(t.TempDir(), "x"), Options{Ref: Newest})
	if err != nil || c.Tag != "v10.0.0" && c.Tag != "v9.1.0" && !strings.HasPrefix(c.Tag, "v10") {
		t.Errorf("at the newest: %+v, %v", c, err)
	}
	_, err = Clone(t.Context(), repo, filepath.Join(t.TempDir(), "x"), Options{Ref: "10.0"})
	if faults := stack.AllFaults(err); len(faults) == 0 ||
		!strings.HasPrefix(faults[0].Remedy, "Nearest: v10.0.0, ") {
		t.Errorf("of a ref that is nearly one: %+v", faults)
	}
}

func readFile(o *Objects, ref, name string) (string, error) {
	f, err := o.At(ref).Open(name)
	if err != nil {
		return "", err
	}
	data, err := io.ReadAll(f)
	return string(data), err
}

func TestReason(t *testing.T) {
	t.Parallel()
	for said, want := range map[string]string{
		"Cloning into 'x'...|ida@quay: Permission denied (publickey).|fatal: Could not read " +
			"from remote repository.|" +
			"Please make sure you have the correct access rights|and the repository " +
			"exists.": "ida@quay: Permission denied (publickey).",
		"Cloning into 'x'...|fatal: transport 'file' not allowed|fatal: clone of '/x' into " +
			"submodule path 'y' failed|" +
			"Failed to clone 'y'. Retry scheduled": "transport 'file' not allowed",
		"error: RPC failed; curl 18|fatal: early EOF|fatal: index-pack failed": "RPC failed; " +
			"curl 18",
		"": "",
	} {
		if got := reason(strings.Split(said, "|")); got != want {
			t.Errorf("of %q the reason is %q", said, got)
		}
	}
}
