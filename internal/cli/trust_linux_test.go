package cli_test

import (
	"context"
	"crypto/sha256"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"nimbleharbor/internal/testport"
)

// git runs git in a folder of the bench.
func (b *bench) git(dir string, args ...string) string {
	b.t.Helper()
	cmd := exec.Command("git", append([]string{"-C", dir, "-c", "user.name=ida", "-c", "user.email=ida@quay.example",
		"-c", "init.defaultBranch=main", "-c", "protocol.file.allow=always"}, args...)...)
	cmd.Env = b.env
	out, err := cmd.CombinedOutput()
	if err != nil {
		b.t.Fatalf("git %s: %v\n%s", strings.Join(args, " "), err, out)
	}
	return strings.TrimSpace(string(out))
}

// within runs the program, which must end in time, by itself and without a trace of Go's.
func (b *bench) within(limit time.Duration, command ...string) string {
	b.t.Helper()
	ctx, cancel := context.WithTimeout(b.t.Context(), limit)
	defer cancel()
	cmd := exec.CommandContext(ctx, program, command...)
	cmd.Dir, cmd.Env, cmd.WaitDelay = b.dir, b.env, time.Second
	out, _ := cmd.CombinedOutput()
	if ctx.Err() != nil {
		b.t.Errorf("nharbor %s does not end within %v: %.400s", strings.Join(command, " "), limit, out)
	}
	if code := cmd.ProcessState.ExitCode(); code > 4 || strings.Contains(string(out), "goroutine ") {
		b.t.Errorf("nharbor %s ends with %d: %.1500s", strings.Join(command, " "), code, out)
	}
	return string(out)
}

// unreadable are ways to put something at a name that nobody should read.
var unreadable = map[string]func(name string) error{
	"a pipe":             func(name string) error { return syscall.Mkfifo(name, 0o644) },
	"a file without end": func(name string) error { return sparse(name, 3<<40) },
	"a link to a device": func(name string) error { return os.Symlink("/dev/zero", name) },
}

func sparse(name string, size int64) error {
	f, err := os.Create(name)
	if err != nil {
		return err
	}
	defer f.Close()
	return f.Truncate(size)
}

// TestNothingIsWaitedFor puts pipes, files without end and devices at names that we or git read: each command ends, and
// survey says which file it has not read.
func TestNothingIsWaitedFor(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ name, told string }{
		{"package.json", "package.json"}, {"compose.yaml", "compose.yaml"}, {".env.example", ".env.example"},
		{".env", ""},
		{"Dockerfile", "Dockerfile"}, {"Makefile", "Makefile"}, {"up.sh", ""}, {"nharbor.toml", "nharbor.toml"},
		{".gitignore", ""}, {".gitattributes", ""}, {".gitmodules", ".gitmodules"}, {".git/HEAD", ".git/HEAD"},
		{".git/config", ".git/config"}, {".git/index", ".git/index"}, {".git/info/exclude", ".git/info/exclude"},
		{".git/refs/heads/main", ".git/refs/heads/main"}, {".git/objects/pack/x.idx", ""}, {".nharbor", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			for how, put := range unreadable {
				b := newBench(t)
				b.write(map[string]string{"package.json": `{"name":"pier","scripts":{"start":"node server.js"}}`,
					"server.js":    "require('http').createServer(() => 0).listen(process.env.PORT)\n",
					"compose.yaml": "services:\n  pier:\n    build: .\n    env_file: .env\n",
					"Dockerfile":   "FROM node\n",
					".env.example": "PORT=4000\n", "up.sh": "#!/bin/sh\nnpm start\n", "README.md": "    ./up.sh\n"})
				b.git(b.dir, "init", "-q")
				b.git(b.dir, "add", "-A")
				b.git(b.dir, "commit", "-qm", "begun")
				full := filepath.Join(b.dir, c.name)
				os.RemoveAll(full)
				os.MkdirAll(filepath.Dir(full), 0o755)
				if err := put(full); err != nil {
					t.Fatal(err)
				}
				said := b.within(15*time.Second, "survey")
				if c.told != "" && how == "a pipe" && !strings.Contains(said, c.told) {
					t.Errorf("with %s survey does not say that it has not read it:\n%s", how, said)
				}
				for _, command := range []string{"needs", "order", "vouch", "fill --dry-run", "catchup"} {
					b.within(15*time.Second, strings.Fields(command)...)
				}
			}
		})
	}
}

// TestStateIsNotWaitedFor leaves pipes and files without end in our own state, as a service could.
func TestStateIsNotWaitedFor(t *testing.T) {
	t.Parallel()
	b, port := newBench(t), testport.Take(t)
	b.write(quay(port))
	b.must(0, "launch", "--background", "--vouch")
	state := filepath.Join(b.dir, ".nharbor")
	for _, name := range []string{"memory.json", "timeline.json", "fill.lock", "logs/work.log", "logs/work.log.0",
		"logs/other.log", "steward.log", ".proof", "stack.json"} {
		for how, put := range unreadable {
			full := filepath.Join(state, name)
			kept := full + ".was"
			os.Rename(full, kept)
			if err := put(full); err != nil {
				t.Fatal(err)
			}
			for _, command := range []string{"check", "logs", "order", "diagnose", "report r.md"} {
				b.within(15*time.Second, strings.Fields(command)...)
			}
			if t.Failed() {
				t.Fatalf("with %s as %s", how, name)
			}
			os.Remove(full)
			os.Rename(kept, full)
		}
	}
	if said := b.within(15*time.Second, "logs"); !strings.Contains(said, "the key is") {
		t.Errorf("put right, the logs say %s", said)
	}
	b.must(0, "stop")
	b.leavesNothing()
}

// TestUnfinishedCloneThatIsPlanted puts what looks like our own unfinished clone where anybody could: nothing of it is
// obeyed, followed or removed; one that was really interrupted is gone on with from the person's own files alone.
func TestUnfinishedCloneThatIsPlanted(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	repo := filepath.Join(b.home, "office")
	b.git(b.home, "init", "-q", repo)
	if err := os.WriteFile(filepath.Join(repo, "true"), []byte("x"), 0o644); err != nil {
		t.Fatal(err)
	}
	b.git(repo, "add", "-A")
	b.git(repo, "commit", "-qm", "true")
	sum := sha256.Sum256([]byte(repo))
	planted := filepath.Join(b.dir, fmt.Sprintf(".nharbor-clone-office-%x", sum[:4]))
	precious := filepath.Join(b.home, "precious")
	for _, dir := range []string{precious, planted} {
		if err := os.MkdirAll(filepath.Join(dir, "checkout"), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(dir, "fetched"), nil, 0o644); err != nil {
			t.Fatal(err)
		}
		work := filepath.Join(dir, "checkout")
		b.git(b.home, "init", "-q", work)
		b.git(work, "config", "core.fsmonitor", "touch "+filepath.Join(b.home, "ran"))
		hook := filepath.Join(work, ".git", "hooks", "post-checkout")
		os.MkdirAll(filepath.Dir(hook), 0o755)
		if err := os.WriteFile(hook, []byte("#!/bin/sh\ntouch "+filepath.Join(b.home, "ran")+"\n"), 0o755); err != nil {
			t.Fatal(err)
		}
		b.git(work, "commit", "-q", "--allow-empty", "-m", "false")
	}
	if err := os.Symlink(precious, filepath.Join(b.dir, ".nharbor-clone-linked")); err != nil {
		t.Fatal(err)
	}
	os.Remove(filepath.Join(b.home, "ran"))
	b.must(0, "clone", repo)
	if got := b.git(filepath.Join(b.dir, "office"), "log", "-1", "--format=%s"); got != "true" {
		t.Errorf("what was cloned is %q", got)
	}
	for _, name := range []string{filepath.Join(b.home, "ran"), filepath.Join(b.dir, "office", ".git", "hooks",
		"post-checkout")} {
		if _, err := os.Lstat(name); err == nil {
			t.Errorf("what was planted has made %s", name)
		}
	}
	if _, err := os.Stat(filepath.Join(precious, "checkout", ".git")); err != nil {
		t.Errorf("a folder outside is gone: %v", err)
	}
	own := filepath.Join(b.home, ".local", "state", "nharbor", "making")
	if left, _ := os.ReadDir(own); len(left) != 0 {
		t.Errorf("of a finished clone %s keeps %v", own, left)
	}
}
