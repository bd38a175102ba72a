package cli_test

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"nimbleharbor/internal/testport"
)

// harmlessly are the commands that a person gives before consenting to anything.
var harmlessly = [][]string{{"survey"}, {"survey", "--json"}, {"survey", "--compose"}, {"needs"},
	{"fill", "--dry-run"},
	{"fill"}, {"order"}, {"vouch"}, {"check"}, {"diagnose"}, {"logs"}, {"launch",
		"--background"}, {"stop"}, {"test"},
	{"restart"}, {"board"}, {"catchup"}, {"report", "report.html"}, {"report",
		"report.md"}, {"order", "--draw", "-"}, {"reset"}, {"reset", "--data"}}

// TestGitRunsNothing points us at checkouts whose own git configuration would run a command, in
// every way that git has: none of ours makes it do so before consent.
func TestGitRunsNothing(t *testing.T) {
	t.Parallel()
	for name, lay := range map[string]func(dir, run string) []string{
		"a file system monitor": func(_, run string) []string {
			return []string{"core.fsmonitor", run}
		},
		"hooks": func(dir, run string) []string {
			for _, hook := range []string{"post-index-change", "fsmonitor-watchman", "pre-auto-gc",
				"reference-transaction"} {
				put(dir, "hooks/"+hook, "#!/bin/sh\n"+run+"\n", 0o755)
			}
			return []string{"core.hooksPath", "hooks"}
		},
		"a pager": func(_, run string) []string {
			return []string{"core.pager", run, "pager.tag", run}
		},
		"one command's pager": func(_, run string) []string {
			return []string{"pager.config", run, "pager.log", run}
		},
		"an external diff": func(_, run string) []string { return []string{"diff.external", run} },
		"a converter of files": func(dir, run string) []string {
			put(dir, ".gitattributes", "* diff=x filter=x\n", 0o644)
			return []string{"diff.x.textconv", run, "filter.x.clean", run, "filter.x.smudge", run,
				"filter.x.process", run, "filter.x.required", "true"}
		},
		"an alias": func(_, run string) []string {
			return []string{"alias.ls-files", "!" + run, "alias.tag", "!" + run}
		},
		"a signature": func(_, run string) []string {
			return []string{"log.showSignature", "true", "gpg.program", run}
		},
		"another ssh": func(_, run string) []string {
			return []string{"core.sshCommand", run, "core.gitProxy", run}
		},
		"a login's helper": func(_, run string) []string {
			return []string{"credential.helper", "!" + run, "core.askPass", run}
		},
		"an editor": func(_, run string) []string {
			return []string{"core.editor", run, "sequence.editor", run}
		},
		"a transport": func(_, run string) []string {
			return []string{"remote.origin.url", "ext::sh -c " + run, "protocol.ext.allow",
				"always"}
		},
		"a remote that promises": func(_, run string) []string {
			return []string{"remote.origin.url", "ext::sh -c " + run, "remote.origin.promisor",
				"true", "protocol.ext.allow", "always"}
		},
		"an included file": func(dir, run string) []string {
			put(dir, "more.cfg", fmt.Sprintf("[core]\n\tfsmonitor = %q\n", run), 0o644)
			return []string{"include.path", "../more.cfg"}
		},
		"a file for one work tree": func(dir, run string) []string {
			put(dir, ".git/config.worktree", fmt.Sprintf("[core]\n\tfsmonitor = %q\n", run), 0o644)
			return []string{"extensions.worktreeConfig", "true"}
		},
		"a submodule's update": func(dir, run string) []string {
			put(dir, ".gitmodules", "[submodule \"pier\"]\n\tpath = pier\n\turl = "+
				"./pier\n\tupdate = !"+run+"\n", 0o644)
			return []string{"submodule.pier.update", "!" + run, "submodule.recurse", "true"}
		},
		"alternates": func(dir, run string) []string {
			return []string{"core.alternateRefsCommand", run}
		},
		"a repository elsewhere": func(dir, run string) []string {
			put(dir, "inner/config", fmt.Sprintf("[core]\n\trepositoryformatversion = "+
				"0\n\tfsmonitor = %q\n", run), 0o644)
			os.Rename(filepath.Join(dir, ".git"), filepath.Join(dir, "inner", "git"))
			put(dir, "inner/git/config", fmt.Sprintf("[core]\n\tfsmonitor = %q\n", run), 0o644)
			put(dir, ".git", "gitdir: inner/git\n", 0o644)
			return nil
		},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			b := newBench(t)
			canary := filepath.Join(b.tmp, "canary")
			b.write(map[string]string{"package.json": `{"name": "pier", "scripts": {"start": "node pier.js"}}`,
				".env.example": "PIER_KEY=\n", "compose.yaml": "services: {pier: {image: " +
					"saltmarsh/pier:1}}\n"})
			git := func(args ...string) {
				t.Helper()
				cmd := exec.Command("git", append([]string{"-C", b.dir, "-c", "user.name=ida",
					"-c", "user.email=ida@saltmarsh.example"}, args...)...)
				cmd.Env = b.env
				if out, err := cmd.CombinedOutput(); err != nil {
					t.Fatalf("git %v: %v: %s", args, err, out)
				}
			}
			git("init", "-q", "-b", "main")
			git("add", ".")
			git("commit", "-q", "-m", "a pier")
			git("tag", "v1")
			config := lay(b.dir, "touch "+canary)
			for i := 0; i+1 < len(config); i += 2 {
				if _, err := os.Stat(filepath.Join(b.dir, ".git", "config")); err == nil {
					git("config", config[i], config[i+1])
				}
			}
			os.Remove(canary) // git itself may have run it while this was laid out
			for _, command := range harmlessly {
				b.run(command...)
				if _, err := os.Stat(canary); err == nil {
					t.Fatalf("nharbor %s ran it", strings.Join(command, " "))
				}
			}
		})
	}
}

func put(dir, name, text string, mode os.FileMode) {
	file := filepath.Join(dir, filepath.FromSlash(name))
	os.MkdirAll(filepath.Dir(file), 0o755)
	os.WriteFile(file, []byte(text), mode)
}

// TestStateOfAnother brings a folder of our state along with a checkout: what it says is not
// believed, its links are not followed, and it is not removed.
func TestStateOfAnother(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.write(quay(testport.Take(t)))
	victim := exec.Command("sleep",
		"600") // a process of the person's, as a forged record would name it
	victim.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	victim.Dir = b.dir
	if err := victim.Start(); err != nil {
		t.Fatal(err)
	}
	defer victim.Process.Kill()
	dead := make(chan error, 1)
	go func() { dead <- victim.Wait() }()
	precious := filepath.Join(b.home, "precious")
	mine := func() string {
		data, _ := os.ReadFile(precious)
		others, _ := filepath.Glob(filepath.Join(b.home, "made", "*"))
		return string(data) + strings.Join(others, " ")
	}
	if err := os.WriteFile(precious, []byte("kept"), 0o600); err != nil {
		t.Fatal(err)
	}
	os.MkdirAll(filepath.Join(b.home, "made"), 0o755)
	state := filepath.Join(b.dir, ".nharbor")
	record := fmt.Sprintf(
		`{"pid": %d, "socket": "/no/such", "services": [{"name": "work", "runs": "native", "pid": %d}]}`,
		victim.Process.Pid, victim.Process.Pid)
	for name, text := range map[string]string{"stack.json": record, "stack.json.1": record,
		"memory.json": fmt.Sprintf(`{"made": {"seed:.": [%q]}, "done": {}}`, precious),
		".proof":      strings.Repeat("0", 64),
		"empty.json":  `[{"file": ".env", "key": "QUAY_SECRET"}]`} {
		put(state, name, text, 0o600)
	}
	for name, to := range map[string]string{"steward.log": precious, "steward.lock": precious,
		"fill.lock": precious,
		"before":    filepath.Join(b.home, "made"), "logs": filepath.Join(b.home, "made")} {
		if err := os.Symlink(to, filepath.Join(state, name)); err != nil {
			t.Fatal(err)
		}
	}
	put(b.dir, ".env", "PORT=1\nQUAY_SECRET=\n", 0o600)
	for _, command := range append(slices.Clone(harmlessly), []string{"stop"},
		[]string{"reset", "--data"},
		[]string{"launch", "--background", "--vouch"}, []string{"stop"}, []string{"reset",
			"--data"}) {
		b.run(command...)
		select {
		case err := <-dead:
			t.Fatalf("nharbor %s has killed the person's process: %v", strings.Join(command, " "),
				err)
		default:
		}
		if got := mine(); got != "kept" {
			t.Fatalf("after nharbor %s the person's files are %q", strings.Join(command, " "), got)
		}
		if _, err := os.Lstat(filepath.Join(state, "stack.json.1")); err != nil {
			t.Fatalf("nharbor %s has removed what is not ours: %v", strings.Join(command, " "), err)
		}
	}
}

// TestStateThatIsPlanted puts links and forged files into a state folder of ours, as a next commit
// could.
func TestStateThatIsPlanted(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.write(quay(testport.Take(t)))
	b.must(0, "launch", "--background", "--vouch")
	b.must(0, "stop")
	precious, state := filepath.Join(b.home, "precious"), filepath.Join(b.dir, ".nharbor")
	if err := os.WriteFile(precious, []byte("kept"), 0o600); err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"steward.log", "steward.lock", "fill.lock", "memory.json",
		"stack.json", "before", "logs"} {
		os.Remove(filepath.Join(state, name+".was"))
		if err := os.Rename(filepath.Join(state, name),
			filepath.Join(state, name+".was")); err != nil && name != "before" {
			t.Fatal(err)
		}
		if err := os.Symlink(precious, filepath.Join(state, name)); err != nil {
			t.Fatal(err)
		}
		for _, command := range [][]string{{"fill", "--set", "QUAY_SECRET=x"},
			{"launch", "--background", "--vouch"}, {"check"}, {"stop"}, {"reset", "--data"}} {
			b.run(command...)
			if data, err := os.ReadFile(precious); err != nil || string(data) != "kept" {
				t.Fatalf("with a link %s nharbor %s has made %q of a file outside: "+
					"%v", name, strings.Join(command, " "), data, err)
			}
		}
		os.Remove(filepath.Join(state, name))
		os.Rename(filepath.Join(state, name+".was"), filepath.Join(state, name))
	}
}

// TestNothingGrowsWithoutBound gives us small files that would become huge, with little memory to
// do it in.
func TestNothingGrowsWithoutBound(t *testing.T) {
	t.Parallel()
	doubling := func(first string) string {
		var out strings.Builder
		out.WriteString("A0=" + first + "\n")
		for i := range 60 {
			fmt.Fprintf(&out, "A%d=${A%d}$A%d\n", i+1, i, i)
		}
		return out.String()
	}
	const stackOf = "services: {pier: {image: \"saltmarsh/pier:${A60}\"}}\n"
	var wide, deep, many strings.Builder
	wide.WriteString("x: &a [x, x, x, x, x, x, x, x, x, x]\n")
	for c := 'b'; c < 'n'; c++ {
		fmt.Fprintf(&wide, "%c: &%c [*%c, *%c, *%c, *%c, *%c, *%c, *%c, *%c, *%c, "+
			"*%c]\n", c, c, c-1, c-1, c-1, c-1, c-1, c-1, c-1, c-1, c-1, c-1)
	}
	deep.WriteString(strings.Repeat("[", 200000))
	many.WriteString("services:\n")
	for i := range 4000 {
		fmt.Fprintf(&many, "  s%d: {image: \"x:$BIG\"}\n", i)
	}
	for name, files := range map[string]map[string]string{
		"a file of settings": {".env": doubling("0123456789"), "compose.yaml": stackOf},
		"a template":         {".env.example": doubling("0123456789"), "compose.yaml": stackOf},
		"aliases":            {"compose.yaml": wide.String() + "services: {pier: {image: x}}\n"},
		"depth":              {"compose.yaml": deep.String()},
		"depth of JSON":      {"package.json": deep.String()},
		"depth of variables": {".env": "A=" + strings.Repeat("${B:-", 100000),
			"compose.yaml": stackOf},
		"many values": {".env": "BIG=" + strings.Repeat("x", 200000) + "\n",
			"compose.yaml": many.String()},
		"one key in many lines": {".env": strings.Repeat("FILLER=x\n", 200000),
			"compose.yaml": stackOf},
		"a file that reads itself": {"compose.yaml": "include: [compose.yaml]\nservices: {pier: " +
			"{image: x}}\n"},
		"a service of itself": {"compose.yaml": "services: {pier: {extends: {service: pier}}}\n"},
		"a long line":         {"README.md": strings.Repeat("`a` ", 1<<20), "package.json": "{}"},
		"a script that calls " +
			"itself": {"package.json": `{"scripts": {"start": "npm run start", "dev": "npm run start"}}`},
		"a Makefile that calls itself": {"Makefile": "run: run\n\tmake run\n",
			"README.md": "    make run\n"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			b := newBench(t)
			b.write(files)
			for _, command := range []string{"survey", "needs", "fill --dry-run", "order",
				"vouch"} {
				ctx, cancel := context.WithTimeout(t.Context(), 2*time.Minute)
				cmd := exec.CommandContext(ctx, "sh", "-c",
					"ulimit -v 4000000; exec "+b.command().Path+" "+command)
				cmd.Dir, cmd.Env = b.dir, append(b.env, "GOMEMLIMIT=1GiB")
				out, _ := cmd.CombinedOutput()
				if ctx.Err() != nil || cmd.ProcessState.ExitCode() > 4 ||
					cmd.ProcessState.ExitCode() < 0 || strings.Contains(string(out), "goroutine ") {
					t.Errorf("nharbor %s: %v, %v\n%.600s", command, ctx.Err(), cmd.ProcessState,
						out)
				}
				cancel()
			}
		})
	}
}

// forking serves a page out of a process that has left its group and session, as daemons do, in the
// background or while the one that was started stays.
const forking = `package main

import (
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"syscall"
)

func main() {
	if len(os.Args) > 1 {
		http.HandleFunc("/", func(w http.ResponseWriter, r *http.Request) { fmt.Fprint(w, "<title>Fork</title>") })
		fmt.Println(http.ListenAndServe("127.0.0.1:"+os.Getenv("PORT"), nil))
		os.Exit(1)
	}
	self, _ := os.Executable()
	c := exec.Command(self, "serve")
	c.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	if err := c.Start(); err != nil {
		panic(err)
	}
	select {}
}
`

// TestNothingIsLeft holds that stop ends all that a launch has started, whatever that has done to
// be left alone, and whatever has become of its state and its steward.
func TestNothingIsLeft(t *testing.T) {
	t.Parallel()
	steward := func(t *testing.T, b *bench) (pids []int) { // and the keeper, of this workspace
		t.Helper()
		all, _ := filepath.Glob("/proc/[0-9]*/cmdline")
		for _, file := range all {
			data, _ := os.ReadFile(file)
			dir, _ := os.Readlink(filepath.Join(filepath.Dir(file), "cwd"))
			if words := strings.Split(string(data), "\x00"); len(words) > 1 && dir == b.dir &&
				(words[1] == "steward" || words[1] == "keeper") {
				pid, _ := strconv.Atoi(filepath.Base(filepath.Dir(file)))
				pids = append(pids, pid)
			}
		}
		if len(pids) == 0 {
			t.Fatal("there is no steward")
		}
		return pids
	}
	for name, happens := range map[string]func(*testing.T, *bench){
		"nothing": func(*testing.T, *bench) {},
		"the state is removed": func(_ *testing.T, b *bench) {
			os.RemoveAll(filepath.Join(b.dir, ".nharbor"))
		},
		"the record is truncated": func(_ *testing.T, b *bench) {
			os.Truncate(filepath.Join(b.dir, ".nharbor/stack.json"), 3)
		},
		"the steward is stopped": func(t *testing.T, b *bench) {
			for _, pid := range steward(t, b) {
				syscall.Kill(pid, syscall.SIGSTOP)
			}
		},
		"the steward and the keeper are killed": func(t *testing.T, b *bench) {
			pids := steward(t, b)
			for _, pid := range pids {
				syscall.Kill(pid, syscall.SIGSTOP)
			}
			for _, pid := range pids {
				syscall.Kill(pid, syscall.SIGKILL)
			}
		},
		"all of it at once": func(t *testing.T, b *bench) {
			for _, pid := range steward(t, b) {
				syscall.Kill(pid, syscall.SIGSTOP)
				defer syscall.Kill(pid, syscall.SIGKILL)
			}
			os.RemoveAll(filepath.Join(b.dir, ".nharbor"))
		},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			b, port := newBench(t), testport.Take(t)
			files := quay(port)
			files["main.go"] = forking
			b.write(files)
			b.must(0, "launch", "--background", "--vouch")
			if !answers(port) {
				t.Fatal("it does not answer")
			}
			happens(t, b)
			if name == "the steward and the keeper are killed" {
				if said := b.must(1, "check"); !strings.Contains(said, "nharbor stop") {
					t.Errorf("check says\n%s", said)
				}
			}
			b.must(0, "stop")
			if answers(port) {
				t.Error("it still answers")
			}
			b.must(0, "launch", "--background", "--vouch")
			b.must(0, "stop")
			b.leavesNothing()
		})
	}
}

// TestOutputIsText sends hostile text through every command: none of it reaches the terminal as it
// is.
func TestOutputIsText(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	const evil = "a\x1b]0;pwned\x07\x1b[2J\u202eb\u200bc\u2066d\u009be"
	dir := "pier" + evil
	b.write(map[string]string{
		dir + "/package.json": fmt.Sprintf(
			`{"name": %q, "scripts": {"start": %q, "dev": "node x.js"}}`, evil, "node "+evil),
		dir + "/.env.example": "# " + evil + "\nPIER_KEY=\nPIER_" + evil + "=x\n",
		"compose.yaml": fmt.Sprintf("services:\n  %q: {image: %q, ports: [\"4811:80\"], "+
			"environment: {K: %q}}\n  quay: {image: x, depends_on: [%q], labels: {l: "+
			"%q}}\n", "s"+evil, "img"+evil, evil, "s"+evil, evil),
		"README.md": "# " + evil + "\n\n    npm run " + evil +
			"\n\nSign in as ida@saltmarsh.example / " + evil + "\n",
		"Procfile":     "web: ./" + evil + "\n",
		"nharbor.toml": "[service.quay]\nport = \"" + "x" + "\"\n",
		"log.txt":      "Error: Cannot find module '" + evil + "'\n" + evil + "\n",
	})
	for _, toml := range []bool{true, false} {
		if !toml {
			os.Remove(filepath.Join(b.dir, "nharbor.toml"))
		}
		for _, command := range append(slices.Clone(harmlessly), []string{"diagnose", "log.txt"},
			[]string{"survey", "--why", "quay"}, []string{"fill", "--json",
				"--dry-run"}, []string{"order", "--json"}, []string{"vouch", "--json"},
			[]string{"clone", "ssh://" + evil + "/x"}, []string{"-C", evil,
				"survey"}, []string{"fill", "--set", evil},
			[]string{"restart", evil}, []string{"logs", evil}, []string{"order", "--draw", "o.svg"},
			[]string{"order", "--draw", "o.dot"}, []string{"order", "--draw",
				"o.mmd"}, []string{evil}, []string{"--" + evil}) {
			_, out, errOut := b.run(command...)
			drawn := ""
			for _, file := range []string{"o.svg", "o.dot", "o.mmd"} {
				data, _ := os.ReadFile(filepath.Join(b.dir, file))
				drawn += string(data)
			}
			if i := strings.IndexFunc(out+errOut+drawn, func(r rune) bool {
				return r < ' ' && r != '\n' && r != '\t' || r >= 0x7f && r < 0xa0 ||
					r >= 0x200b && r <= 0x200f ||
					r >= 0x202a && r <= 0x202e || r >= 0x2066 && r <= 0x2069
			}); i >= 0 {
				t.Errorf("nharbor %q says %q", command, (out + errOut +
					drawn)[max(0, i-60):min(i+30, len(out+errOut+drawn))])
			}
		}
	}
}

// TestOutputThatCantBeWritten holds that an answer which nobody has got is no success.
func TestOutputThatCantBeWritten(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.write(quay(testport.Take(t)))
	for _, command := range []string{"survey", "survey --json", "needs", "order", "fill --dry-run",
		"vouch"} {
		cmd := exec.Command("sh", "-c", b.command().Path+" "+command+" >/dev/full")
		cmd.Dir, cmd.Env = b.dir, b.env
		if err := cmd.Run(); err == nil {
			t.Errorf("nharbor %s into a full device ends well", command)
		}
	}
	cmd := exec.Command("sh", "-c", b.command().Path+" survey 2>&1 | head -1; true")
	cmd.Dir, cmd.Env = b.dir, b.env
	if out, err := cmd.CombinedOutput(); err != nil || strings.Count(string(out), "\n") != 1 {
		t.Errorf("into a pipe that is closed: %v, %s", err, out)
	}
}

// TestLinksLeadNowhere lets what is read and sent for a launch be links out of the workspace: a
// build's folder, a file of settings, a template.
func TestLinksLeadNowhere(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	secret := filepath.Join(b.home, "secret")
	os.MkdirAll(secret, 0o755)
	put(secret, "Dockerfile", "FROM canary-of-the-person\n", 0o644)
	put(secret, "env", "CANARY=canary-of-the-person\n", 0o600)
	b.write(map[string]string{"package.json": "{}",
		"compose.yaml": "services:\n  pier: {build: ctx, env_file: [my.env]}\n"})
	for name, to := range map[string]string{"ctx": secret, "my.env": filepath.Join(secret, "env"),
		".env.example": filepath.Join(secret, "env"), ".env": filepath.Join(secret, "env")} {
		if err := os.Symlink(to, filepath.Join(b.dir, name)); err != nil {
			t.Fatal(err)
		}
	}
	before, _ := os.ReadFile(filepath.Join(secret, "env"))
	for _, command := range append(slices.Clone(harmlessly),
		[]string{"launch", "--background", "--vouch"},
		[]string{"stop"}, []string{"fill", "--set", "CANARY=x"}) {
		_, out, errOut := b.run(command...)
		if strings.Contains(out+errOut, "canary-of-the-person") {
			t.Errorf("nharbor %s has read what lies outside:\n%s%s", strings.Join(command, " "),
				out, errOut)
		}
		if after, _ := os.ReadFile(filepath.Join(secret, "env")); string(after) != string(before) {
			t.Fatalf("nharbor %s has written what lies outside", strings.Join(command, " "))
		}
	}
}
