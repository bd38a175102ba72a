package cli_test

import (
	"context"
	"crypto/sha256"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"nimbleharbor/internal/testport"
)

// git runs git in a folder of the bench.
func (b *bench) git(dir string, args ...string) string {
	b.t.Helper()
	cmd := exec.Command("git", append([]string{"-C", dir, "-c", "user.name=ida", "-c",
		"user.email=ida@quay.example",
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
		b.t.Errorf("nharbor %s does not end within %v: %.400s", strings.Join(command, " "), limit,
			out)
	}
	if code := cmd.ProcessState.ExitCode(); code > 4 ||
		strings.Contains(string(out), "goroutine ") {
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

// TestNothingIsWaitedFor puts pipes, files without end and devices at names that we or git read:
// each command ends, and survey says which file it has not read.
func TestNothingIsWaitedFor(t *testing.T) {
	t.Parallel()
	for _, c := range []struct{ name, told string }{
		{"package.json", "package.json"}, {"compose.yaml", "compose.yaml"}, {".env.example",
			".env.example"},
		{".env", ""},
		{"Dockerfile", "Dockerfile"}, {"Makefile", "Makefile"}, {"up.sh", ""}, {"nharbor.toml",
			"nharbor.toml"},
		{".gitignore", ""}, {".gitattributes", ""}, {".gitmodules", ".gitmodules"}, {".git/HEAD",
			".git/HEAD"},
		{".git/config", ".git/config"}, {".git/index", ".git/index"}, {".git/info/exclude",
			".git/info/exclude"},
		{".git/refs/heads/main", ".git/refs/heads/main"}, {".git/objects/pack/x.idx",
			""}, {".nharbor", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			for how, put := range unreadable {
				b := newBench(t)
				b.write(map[string]string{"package.json": `{"name":"pier","scripts":{"start":"node server.js"}}`,
					"server.js": "require('http').createServer(() => " +
						"0).listen(process.env.PORT)\n",
					"compose.yaml": "services:\n  pier:\n    build: .\n    env_file: .env\n",
					"Dockerfile":   "FROM node\n",
					".env.example": "PORT=4000\n", "up.sh": "#!/bin/sh\nnpm " +
						"start\n", "README.md": "    ./up.sh\n"})
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
				commands := []string{"needs", "vouch"}
				if how == "a pipe" {
					commands = append(commands, "order", "fill --dry-run", "catchup")
				}
				for _, command := range commands {
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
	for _, name := range []string{"memory.json", "timeline.json", "fill.lock", "logs/work.log",
		"logs/work.log.0", "logs/other.log", "steward.log", ".proof", "stack.json"} {
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

// TestUnfinishedCloneThatIsPlanted puts what looks like our own unfinished clone where anybody
// could: nothing of it is obeyed, followed or removed; one that was really interrupted is gone on
// with from the person's own files alone.
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
		if err := os.WriteFile(hook, []byte("#!/bin/sh\ntouch "+filepath.Join(b.home, "ran")+"\n"),
			0o755); err != nil {
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
	for _, name := range []string{filepath.Join(b.home, "ran"),
		filepath.Join(b.dir, "office", ".git", "hooks", "post-checkout")} {
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

// TestNothingIsInherited launches from a script that holds a lock and a pipe: both are free the
// moment the call returns.
func TestNothingIsInherited(t *testing.T) {
	t.Parallel()
	b, port := newBench(t), testport.Take(t)
	b.write(quay(port))
	script := exec.CommandContext(t.Context(), "bash", "-c", `exec 9>held; flock -n 9 || exit 7
`+program+` launch --background --vouch || exit 8
exec 9>&-
flock -n held true || exit 9`)
	script.Dir, script.Env, script.WaitDelay = b.dir, b.env, 10*time.Second
	out, err := script.CombinedOutput() // returns when nobody holds the pipe any more
	if err != nil {
		t.Errorf("the script ends with %v: %s", err, out)
	}
	if !answers(port) {
		t.Error("nothing was launched")
	}
	b.must(0, "stop")
	b.leavesNothing()
}

// TestWithoutItsMark starts a program that leaves its group and session, and throws its variables
// away: it ends with the stack, and when the steward is killed.
func TestWithoutItsMark(t *testing.T) {
	t.Parallel()
	for _, how := range []string{"stopped", "killed"} {
		t.Run(how, func(t *testing.T) {
			t.Parallel()
			b, port := newBench(t), testport.Take(t)
			self, err := os.Executable()
			if err != nil {
				t.Fatal(err)
			}
			odd := filepath.Join(b.home,
				"x) Z 1") // as if it had ended, for who reads the process table carelessly
			if err := os.Symlink(self, odd); err != nil {
				t.Fatal(err)
			}
			b.write(map[string]string{
				"up.sh": fmt.Sprintf("(setsid env -i '%s' stand here %d </dev/null >/dev/null "+
					"2>&1 &)\nexec sleep 600\n", odd, port),
				"nharbor.toml": fmt.Sprintf("[service.quay]\ncommand = [\"sh\", "+
					"\"up.sh\"]\nport = %d\n", port)})
			b.must(0, "launch", "--background", "--vouch")
			if !answers(port) {
				t.Fatal("it does not answer")
			}
			if how == "killed" {
				<-time.After(3 * time.Second) // the steward looks every second
				for _, pid := range processesIn(b.dir) {
					if line, _ := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline",
						pid)); strings.HasSuffix(string(line), "steward\x00") {
						syscall.Kill(pid, syscall.SIGKILL)
					}
				}
			} else {
				b.must(0, "stop")
			}
			waitFor(t, "the program to end", func() bool { return !answers(port) })
			b.must(0, "stop")
		})
	}
}

// TestInterruptedWithinASecond interrupts commands in the middle of a read, a walk, a question to
// an engine and a launch: those that own nothing are over within a second, and the launch has said
// by then what it stops.
func TestInterruptedWithinASecond(t *testing.T) {
	t.Parallel()
	silent, err := net.Listen("tcp",
		"127.0.0.1:0") // an engine that takes questions and says nothing
	if err != nil {
		t.Fatal(err)
	}
	defer silent.Close()
	port := testport.Take(t)
	deep := map[string]string{"compose.yaml": "services: {pier: {image: saltmarsh/pier:1, " +
		"ports: [\"4980:80\"]}}\n"}
	for _, c := range []struct {
		words string
		files map[string]string
		until func(b *bench) bool
		env   string
	}{
		{words: "needs", files: deep, env: "DOCKER_HOST=tcp://" + silent.Addr().String()},
		{words: "check --watch", files: deep}, {words: "logs --follow", files: deep},
		{words: "diagnose -", files: deep}, {words: "survey", files: func() map[string]string {
			wide := map[string]string{"package.json": `{"name":"x"}`}
			for i := range 3000 {
				wide[fmt.Sprintf("d%d/package.json",
					i)] = `{"name":"x","scripts":{"start":"node x.js"}}`
			}
			return wide
		}()},
		{words: "launch --vouch", files: quay(port),
			until: func(*bench) bool { return answers(port) }},
	} {
		t.Run(strings.Fields(c.words)[0], func(t *testing.T) {
			t.Parallel()
			b := newBench(t)
			b.write(c.files)
			cmd := b.command(strings.Fields(c.words)...)
			cmd.Env = append(cmd.Env, c.env)
			in, err := cmd.StdinPipe() // open, so that what reads it waits
			if err != nil {
				t.Fatal(err)
			}
			defer in.Close()
			var out syncedBuffer
			cmd.Stdout, cmd.Stderr = &out, &out
			if err := cmd.Start(); err != nil {
				t.Fatal(err)
			}
			if c.until != nil {
				waitFor(t, "it to be in the middle", func() bool { return c.until(b) })
			} else {
				<-time.After(150 * time.Millisecond)
			}
			begun := time.Now()
			cmd.Process.Signal(syscall.SIGINT)
			if strings.HasPrefix(c.words, "launch") {
				waitFor(t, "the launch to say what it stops", func() bool {
					return strings.Contains(out.String(), "Stopping work")
				})
			} else {
				cmd.Wait()
			}
			if took := time.Since(begun); took > 3*time.Second { // three times what is promised
				t.Errorf("nharbor %s takes %v: %s", c.words, took, out.String())
			}
			if cmd.Wait(); strings.Contains(out.String(), "goroutine") {
				t.Errorf("nharbor %s says %s", c.words, out.String())
			}
		})
	}
}

// syncedBuffer can be read while it is written.
type syncedBuffer struct {
	mu   sync.Mutex
	text strings.Builder
}

func (s *syncedBuffer) Write(p []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.text.Write(p)
}

func (s *syncedBuffer) String() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.text.String()
}

// TestTokensAreHiddenAnywhere puts tokens of a known form where nobody would look for a secret: no
// command shows one, whole or cut, in text, in JSON or in a report.
func TestTokensAreHiddenAnywhere(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	token := "ghp_" + strings.Repeat("Canary", 7)
	repo := "https://" + token + "@quay.example/x.git"
	b.write(map[string]string{
		"compose.yaml": "services:\n  pier:\n    image: saltmarsh/pier:1\n    command: [run, " +
			"--with, " + token + "]\n" +
			"    environment: {HARBOUR_NOTE: " + token + "}\n    labels: {note: " + token + "}\n" +
			"    healthcheck: {test: \"curl -H 'Authorization: Bearer " + token +
			"' localhost\"}\n" +
			"    logging: {driver: syslog, options: {tag: " + token + "}}\n    configs: [note]\n" +
			"    x-" + token + ": 1\nconfigs: {note: {content: " + token + "}}\n",
		"package.json": `{"name":"pier","scripts":{"start":"node x.js ` + token + `","test":"t ` +
			token + `"}}`,
		"Procfile": "web: node x.js --key " + token + "\n", "up.sh": "curl -u x:" + token +
			" quay\n",
		"Makefile": "up:\n\tcurl https://quay.example/?access_token=" + token + "\n",
		"README.md": "```sh\nexport NOTE=" + token + "\nmake up\nsh up.sh\ngit clone " + repo +
			"\n```\n",
		".env": "NOTE=" + token + "\nPLAIN=1\n", ".env.example": "NOTE=\nPLAIN=1\n# see " + token +
			"\n",
		"Dockerfile": "FROM node\nENV NOTE=" + token + "\nRUN npm config set x " + token +
			"\nCMD [\"npm\", \"start\"]\n",
	})
	b.git(b.dir, "init", "-q")
	b.git(b.dir, "remote", "add", "origin", repo)
	b.git(b.dir, "add", "-A")
	b.git(b.dir, "commit", "-qm", "begun "+token)
	wrong := filepath.Join(b.dir, "wrong")
	if err := os.Mkdir(wrong, 0o755); err != nil {
		t.Fatal(err)
	}
	put(wrong, "compose.yaml", "services:\n  pier: {image: x, ports: \""+token+"\", commmand: "+
		""+token+"}\n", 0o644)
	put(wrong, "nharbor.toml", "[service.x]\nnote = \""+token+"\"\n", 0o644)
	for _, words := range []string{"survey --all", "survey --json", "survey --compose",
		"survey --compose --json",
		"survey --why pier", "survey --why NOTE", "needs", "needs --json", "fill " +
			"--dry-run", "fill --dry-run --json", "order",
		"order --json", "order --draw -", "vouch", "vouch --json", "check", "check " +
			"--json", "report r.md", "report r.html",
		"survey --write", "catchup", "launch --background", "test --list", "-C wrong " +
			"survey", "-C wrong survey --json", "clone " + repo, "clone --json " + repo} {
		_, out, errOut := b.run(strings.Fields(words)...)
		if i := strings.Index(out+errOut, "Canary"); i >= 0 {
			all := out + errOut
			t.Errorf("nharbor %s shows a token: %s", words, all[max(0, i-200):min(len(all), i+100)])
		}
	}
	for _, name := range []string{"r.md", "r.html", "nharbor.toml"} {
		if data, err := os.ReadFile(filepath.Join(b.dir, name)); err != nil ||
			strings.Contains(string(data), "Canary") {
			t.Errorf("%s holds a token: %v", name, err)
		}
	}
	if said := b.must(0, "survey", "--json", "--reveal"); !strings.Contains(said, token) {
		t.Error("asked for, it is not shown")
	}
}

// TestFilledValuesRunNothing answers with what a shell would act on, and has one read the file as
// its own lines.
func TestFilledValuesRunNothing(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.write(map[string]string{"compose.yaml": "services: {pier: {image: saltmarsh/pier:1, " +
		"env_file: .env}}\n", ".env.example": "A=\nB='x'\nC=\"x\"\nD=\nE=\nF=\n"})
	for key, value := range map[string]string{"A": "$(touch ran)", "B": "`touch ran`'",
		"C": "\"; touch ran; \"",
		"D": "x;touch ran", "E": "x&touch ran&", "F": "x'`touch ran`\"$(touch ran)\\"} {
		b.must(0, "fill", "--set", key+"="+value)
		shell := exec.Command("bash", "-c", ". ./.env && printf %s \"$"+key+"\"")
		shell.Dir, shell.Env = b.dir, b.env
		out, err := shell.CombinedOutput()
		if err != nil || string(out) != value {
			t.Errorf("%s reads back in a shell as %q, %v; it was %q", key, out, err, value)
		}
		if _, err := os.Stat(filepath.Join(b.dir, "ran")); err == nil {
			t.Fatalf("with %s=%s a shell runs something", key, value)
		}
	}
}

// TestNestingAndWidth gives files that are nested or repeated beyond all that people write: each
// command ends in time, by itself, and with little memory.
func TestNestingAndWidth(t *testing.T) {
	t.Parallel()
	many := func(part string, n int) string { return strings.Repeat(part, n) }
	numbered := func(format string, n int) string {
		var out strings.Builder
		for i := range n {
			fmt.Fprintf(&out, strings.ReplaceAll(format, "%n", "%[1]d"), i, i+1)
		}
		return out.String()
	}
	const n = 100_000
	for name, files := range map[string]map[string]string{
		"parentheses of a shell": {"Procfile": "web: " + many("(", n)},
		"sums of a shell":        {"Procfile": "web: " + many("$((", n)},
		"conditions of a shell":  {"up.sh": many("if ", n), "README.md": "    sh up.sh\n"},
		"parts of a shell":       {"Procfile": "web: " + many("a && ", n) + "a"},
		"quotes of Markdown":     {"README.md": many("> ", n) + "x", "package.json": "{}"},
		"lists of Markdown":      {"README.md": many("- ", n) + "x", "package.json": "{}"},
		"brackets of Markdown":   {"README.md": many("[a](", n), "package.json": "{}"},
		"tables of TOML":         {"pyproject.toml": numbered("[a%n]\n", n)},
		"brackets of TOML":       {"nharbor.toml": "a = " + many("[", n)},
		"brackets of JSON":       {"package.json": many(`{"a":`, n)},
		"brackets of YAML":       {"compose.yaml": "services: " + many("{a: ", n)},
		"patterns to ignore": {".gitignore": many("*a", 500) + "b\n" + numbered("p%n*x\n", 2*n),
			"package.json": "{}", many("a", 200): ""},
		"many settings": {".env.example": numbered("K%n=v\n", n)},
		"settings of others": {".env": numbered("K%n=$K%[2]d\n", n),
			"compose.yaml": "services: {a: {image: \"x:$K0\"}}\n"},
		"many scripts": {"package.json": `{"scripts": {` + numbered(`"s%n": "npm run s%[2]d", `,
			n/4) + `"x": "y"}}`},
		"many tasks": {"Makefile": numbered("t%n: t%[2]d\n\techo\n", n/10),
			"README.md": "    make t0\n"},
		"lines that go on": {"Dockerfile": "FROM x\n" + many("RUN a \\\n", n)},
		"many stages":      {"Dockerfile": numbered("FROM s%n AS s%[2]d\nCOPY a b\n", n/4)},
		"many versions":    {".tool-versions": many("node 20\n", n), "package.json": "{}"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			b := newBench(t)
			b.write(files)
			b.env = append(b.env, "GOMEMLIMIT=1GiB")
			for _, command := range []string{"survey", "vouch", "fill --dry-run"} {
				b.within(time.Minute, strings.Fields(command)...)
			}
		})
	}
}

// TestNoTrace defines services in folders where nothing counts, or that are not there.
func TestNoTrace(t *testing.T) {
	t.Parallel()
	for _, folder := range []string{"sub", "nowhere", ".", "..", "/etc", ""} {
		b := newBench(t)
		b.write(map[string]string{"sub/notes.txt": "x\n",
			"nharbor.toml": fmt.Sprintf("[service.x]\ncommand = \"sleep 600\"\n"+
				"folder = %q\n", folder)})
		for _, command := range []string{"survey", "order", "needs", "vouch", "fill --dry-run",
			"launch --background"} {
			if said := b.within(30*time.Second, strings.Fields(command)...); strings.Contains(said,
				"foreseen") {
				t.Errorf("with the folder %q nharbor %s says %s", folder, command, said)
			}
		}
	}
}

// TestTakenPlaces has no home that can be used, and a usual temporary place that is somebody
// else's: that is said, and another way is gone.
func TestTakenPlaces(t *testing.T) {
	t.Parallel()
	b, port := newBench(t), testport.Take(t)
	b.write(quay(port))
	taken := filepath.Join(b.tmp, fmt.Sprintf("nharbor-%d", os.Getuid()))
	if err := os.WriteFile(taken, nil, 0o600); err != nil { // what is no folder can be nobody's
		t.Fatal(err)
	}
	b.env = append(b.env, "HOME=/dev/null/nowhere", "GOPATH="+b.home,
		"GOMODCACHE="+filepath.Join(b.home, "mod"))
	if said := b.must(0, "launch", "--background", "--vouch"); !strings.Contains(said, taken+"-1") {
		t.Errorf("it does not say where it went: %s", said)
	}
	b.must(0, "check")
	b.must(0, "stop")
	if answers(port) {
		t.Error("it is not stopped")
	}
}

// TestWorkingCopyBeside catches up in a second working copy, whose repository lies outside of the
// workspace: it is not fetched into before the person says that it may be.
func TestWorkingCopyBeside(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	origin, own := filepath.Join(b.home, "quay"), filepath.Join(b.home, "own")
	put(origin, "package.json", `{"name": "quay", "scripts": {"test": "true"}}`, 0o644)
	b.git(origin, "init", "-q", "-b", "main")
	b.git(origin, "add", "-A")
	b.git(origin, "commit", "-q", "-m", "A quay")
	b.git(b.home, "clone", "-q", origin, own)
	if err := os.Remove(b.dir); err != nil {
		t.Fatal(err)
	}
	b.git(own, "worktree", "add", "-q", "-b", "side", "--track", b.dir, "origin/main")
	put(origin, "README.md", "# Quay\n", 0o644)
	b.git(origin, "add", "-A")
	b.git(origin, "commit", "-q", "-m", "What it is")
	comes := strings.TrimSpace(b.git(origin, "rev-parse", "main"))
	fetched := func() bool {
		return strings.TrimSpace(b.git(own, "rev-parse", "origin/main")) == comes
	}

	said := b.must(1, "catchup", "--json")
	if !strings.Contains(said, `"checkout-elsewhere"`) || !strings.Contains(said, own) ||
		fetched() {
		t.Errorf("it goes by a repository elsewhere, fetched %v: %s", fetched(), said)
	}
	b.must(0, "catchup", "--agree")
	if _, err := os.Stat(filepath.Join(b.dir, "README.md")); err != nil || !fetched() {
		t.Errorf("with --agree it does not go on: %v", err)
	}
}
