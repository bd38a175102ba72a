package cli_test

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"nimbleharbor/internal/casefile"
	"nimbleharbor/internal/testbound"
	"nimbleharbor/internal/testport"
)

// program is the built binary, which is what these tests run.
var program string

func TestMain(m *testing.M) {
	if len(os.Args) > 3 && os.Args[1] == "stand" {
		stand(os.Args[2:])
		return
	}
	dir, err := os.MkdirTemp("", "nharbor-cli-test-")
	if err != nil {
		panic(err)
	}
	program = filepath.Join(dir, "nharbor")
	build := exec.Command("go", "build", "-o", program, "nimbleharbor/cmd/nharbor")
	build.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := build.CombinedOutput(); err != nil {
		fmt.Fprintf(os.Stderr, "building the program: %v\n%s", err, out)
		os.Exit(1)
	}
	code := m.Run()
	os.RemoveAll(dir)
	os.Exit(code)
}

// bench is a person's machine: an empty home, a temporary folder of its own, a workspace.
type bench struct {
	t              testing.TB
	home, tmp, dir string
	env            []string
}

func newBench(t testing.TB) *bench {
	t.Helper()
	base, err := os.MkdirTemp("", "nh") // short, since a socket's path must be
	if err != nil {
		t.Fatal(err)
	}
	if base, err = filepath.EvalSymlinks(base); err != nil {
		t.Fatal(err)
	}
	b := &bench{t: t, home: filepath.Join(base, "home"), tmp: filepath.Join(base, "tmp"),
		dir: filepath.Join(base, "work")}
	for _, d := range []string{b.home, b.tmp, b.dir} {
		if err := os.Mkdir(d, 0o755); err != nil {
			t.Fatal(err)
		}
	}
	b.env = append(os.Environ(), "HOME="+b.home, "TMPDIR="+b.tmp, "XDG_STATE_HOME=",
		"XDG_RUNTIME_DIR=",
		"GOCACHE="+goCache(t), "GOFLAGS=-buildvcs=false", "GIT_CONFIG_NOSYSTEM=1")
	t.Cleanup(func() {
		if t.Failed() { // then a stack may be left
			ctx, cancel := context.WithTimeout(context.Background(), testbound.Long)
			defer cancel()
			stop := exec.CommandContext(ctx, program, "stop")
			stop.Dir, stop.Env = b.dir, b.env
			stop.Run()
		}
		exec.Command("chmod", "-R", "u+w", base).Run() // the go command's module cache is read-only
		os.RemoveAll(base)
	})
	return b
}

func goCache(t testing.TB) string {
	out, err := exec.Command("go", "env", "GOCACHE").Output()
	if err != nil {
		t.Fatal(err)
	}
	return strings.TrimSpace(string(out))
}

func (b *bench) write(files map[string]string) {
	b.t.Helper()
	for name, text := range files {
		full := filepath.Join(b.dir, name)
		if err := os.MkdirAll(filepath.Dir(full), 0o755); err != nil {
			b.t.Fatal(err)
		}
		if err := os.WriteFile(full, []byte(text), 0o644); err != nil {
			b.t.Fatal(err)
		}
	}
}

func (b *bench) command(args ...string) *exec.Cmd {
	// Whatever becomes of the test, its programs end with it.
	ctx, cancel := context.WithTimeout(b.t.Context(), 2*testbound.Long)
	b.t.Cleanup(cancel)
	cmd := exec.CommandContext(ctx, program, args...)
	cmd.Dir, cmd.Env, cmd.WaitDelay = b.dir, b.env, 10*time.Second
	return cmd
}

// run runs the program and gives exit code, output and error output.
func (b *bench) run(args ...string) (int, string, string) {
	b.t.Helper()
	var out, errOut bytes.Buffer
	cmd := b.command(args...)
	cmd.Stdout, cmd.Stderr = &out, &errOut
	err := cmd.Run()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		b.t.Fatal(err)
	}
	return cmd.ProcessState.ExitCode(), out.String(), errOut.String()
}

// must is run for a command that has to end with the code.
func (b *bench) must(code int, args ...string) string {
	b.t.Helper()
	got, out, errOut := b.run(args...)
	if got != code {
		b.t.Fatalf("nharbor %s ended with %d, want %d\n%s\n%s", strings.Join(args, " "), got, code,
			out, errOut)
	}
	return out + errOut
}

// TestCases runs the command lines below "== script" on the files of a case, one after another, and
// compares all that is said.
func TestCases(t *testing.T) {
	t.Parallel()
	casefile.Run(t, "testdata/*.case", func(t *testing.T, c *casefile.Case) {
		b := newBench(t)
		for name, text := range c.Files {
			if name != "script" && name != "want" {
				b.write(map[string]string{name: text})
			}
		}
		var said strings.Builder
		for line := range strings.Lines(c.Files["script"]) {
			line = strings.TrimSpace(line)
			code, out, errOut := b.run(strings.Fields(line)...)
			fmt.Fprintf(&said, "$ nharbor %s\n%s%s", line, out, errOut)
			if code != 0 {
				fmt.Fprintf(&said, "[exit %d]\n", code)
			}
			said.WriteByte('\n')
		}
		text := strings.ReplaceAll(said.String(), b.dir, "/ws")
		for _, r := range []struct{ expr, with string }{{`\d+\.\d GB free`, "N GB free"},
			{`process \d+`, "process N"}, {`(?m)[ \t]+$`, ""}} {
			text = regexp.MustCompile(r.expr).ReplaceAllString(text, r.with)
		}
		c.Want(t, text)
	})
}

// quay is a small server in Go: real, and without any need of a network.
func quay(port int) map[string]string {
	return map[string]string{
		"go.mod": "module quay\n\ngo 1.24\n",
		"main.go": `package main

import (
	"fmt"
	"net/http"
	"os"
)

func main() {
	fmt.Println("the key is", os.Getenv("QUAY_SECRET"))
	http.HandleFunc("/", func(w http.ResponseWriter, r *http.Request) { fmt.Fprint(w, "<title>Quay</title>") })
	if err := http.ListenAndServe("127.0.0.1:"+os.Getenv("PORT"), nil); err != nil {
		fmt.Println(err)
		os.Exit(1)
	}
}
`,
		".env.example": fmt.Sprintf("PORT=%d\n# 16 bytes, hex\nQUAY_SECRET=change-me\n", port),
	}
}

// waitFor asks until it is so.
func waitFor(t testing.TB, what string, ok func() bool) {
	t.Helper()
	for end := time.Now().Add(testbound.Long); !ok(); {
		if time.Now().After(end) {
			t.Fatalf("waited in vain for %s", what)
		}
	}
}

func answers(port int) bool {
	resp, err := http.Get(fmt.Sprintf("http://127.0.0.1:%d/", port))
	if err != nil {
		return false
	}
	resp.Body.Close()
	return true
}

func TestLifeOfAStack(t *testing.T) {
	t.Parallel()
	b, port := newBench(t), testport.Take(t)
	b.write(quay(port))
	if said := b.must(1, "launch", "--background"); !strings.Contains(said, "go run .") ||
		!strings.Contains(said, "nobody has vouched") || answers(port) {
		t.Fatalf("without consent: %s", said)
	}
	out := b.must(0, "launch", "--background", "--vouch", "--json")
	lines := strings.Split(strings.TrimSpace(out), "\n")
	var result struct {
		Schema, Outcome string
		Services        []struct{ Name, State string }
		Check           struct {
			Answers bool
			Ports   []struct{ Verdict, Title string }
		}
	}
	if err := json.Unmarshal([]byte(lines[len(lines)-1]), &result); err != nil ||
		result.Schema != "nharbor.launch/1" ||
		result.Outcome != "answering" || !result.Check.Answers ||
		result.Check.Ports[0].Title != "Quay" || result.Services[0].State != "answering" {
		t.Fatalf("the result is %+v, %v", result, err)
	}
	var event struct {
		T         float64
		ID, State string
	}
	if err := json.Unmarshal([]byte(lines[0]), &event); err != nil || event.ID == "" ||
		event.State == "" {
		t.Errorf("the first event is %s", lines[0])
	}
	if said := b.must(0, "check"); !strings.Contains(said, "answers") ||
		!strings.Contains(said, "Quay") {
		t.Errorf("check says %s", said)
	}
	if said := b.must(0, "logs"); !strings.Contains(said, "the key is ***") {
		t.Errorf("the log says %s", said)
	}
	if said := b.must(1, "launch", "--background"); !strings.Contains(said, "launched already") {
		t.Errorf("a second launch says %s", said)
	}
	if said := b.must(0, "needs"); !strings.Contains(said, "held by this stack") {
		t.Errorf("needs says %s", said)
	}
	b.must(2, "stop", "nobody")
	b.must(0, "stop")
	if answers(port) {
		t.Error("after the stop the port still answers")
	}
	if said := b.must(1, "check"); !strings.Contains(said, "not launched") {
		t.Errorf("after the stop check says %s", said)
	}
	b.must(0, "stop")
	b.leavesNothing()
}

// leavesNothing looks for processes of this bench, and for files outside of home and workspace.
func (b *bench) leavesNothing() {
	b.t.Helper()
	base := filepath.Dir(b.dir)
	waitFor(b.t, "the last process to end", func() bool {
		dirs, _ := filepath.Glob("/proc/[0-9]*")
		for _, d := range dirs {
			if cwd, err := os.Readlink(d + "/cwd"); err == nil && strings.HasPrefix(cwd, base) {
				return false
			}
		}
		return true
	})
	entries, err := os.ReadDir(b.tmp)
	if err != nil {
		b.t.Fatal(err)
	}
	for _, e := range entries {
		if !strings.HasPrefix(e.Name(), "go-build") {
			b.t.Errorf("left in the temporary folder: %s", e.Name())
		}
	}
}

func TestForeground(t *testing.T) {
	t.Parallel()
	for name, sig := range map[string]syscall.Signal{"Ctrl-C": syscall.SIGINT,
		"a request to end":     syscall.SIGTERM,
		"the terminal is gone": syscall.SIGHUP, "killed": syscall.SIGKILL} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			b, port := newBench(t), testport.Take(t)
			b.write(quay(port))
			cmd := b.command("launch", "--vouch")
			var out bytes.Buffer
			cmd.Stdout, cmd.Stderr = &out, &out
			if err := cmd.Start(); err != nil {
				t.Fatal(err)
			}
			waitFor(t, "the port", func() bool { return answers(port) })
			waitFor(t, "its own word", func() bool {
				code, _,
					_ := b.run("check")
				return code == 0
			})
			if err := cmd.Process.Signal(sig); err != nil {
				t.Fatal(err)
			}
			err := cmd.Wait()
			if sig != syscall.SIGKILL &&
				!strings.Contains(out.String(), "Everything has been stopped.") {
				t.Errorf("%v; it said %s", err, out.String())
			}
			waitFor(t, "the port to be free", func() bool { return !answers(port) })
			b.leavesNothing()
		})
	}
}

func TestStewardIsKilled(t *testing.T) {
	t.Parallel()
	b, port := newBench(t), testport.Take(t)
	b.write(quay(port))
	b.must(0, "launch", "--background", "--vouch")
	data, err := os.ReadFile(filepath.Join(b.dir, ".nharbor", "stack.json"))
	if err != nil {
		t.Fatal(err)
	}
	var record struct{ PID int }
	if err := json.NewDecoder(bytes.NewReader(data)).Decode(&record); err != nil { // a sum follows
		t.Fatal(err)
	}
	if err := syscall.Kill(record.PID, syscall.SIGKILL); err != nil {
		t.Fatal(err)
	}
	waitFor(t, "the keeper to end the server", func() bool { return !answers(port) })
	if said := b.must(1, "check"); !strings.Contains(said, "not launched") {
		t.Errorf("check says %s", said)
	}
	b.must(0, "launch", "--background")
	b.must(0, "check")
	b.must(0, "stop")
}

// TestPartOfAStack works on two services, of which one needs the other.
func TestPartOfAStack(t *testing.T) {
	t.Parallel()
	b, inner, outer := newBench(t), testport.Take(t), testport.Take(t)
	for name, port := range map[string]int{"inner": inner, "outer": outer} {
		files := map[string]string{}
		for file, text := range quay(port) {
			files[name+"/"+file] = text
		}
		b.write(files)
	}
	b.write(map[string]string{"outer/.env.example": fmt.Sprintf(
		"PORT=%d\nINNER_URL=http://localhost:%d\n# Get it at "+
			"https://tides.example/tokens\nTIDE_TOKEN=\n", outer, inner), ".nharbor/x": ""})
	code, _, errOut := b.run("launch", "--background", "--vouch")
	if code != 4 || !strings.Contains(errOut, "TIDE_TOKEN") ||
		!strings.Contains(errOut, "https://tides.example/tokens") {
		t.Fatalf("with a setting missing it ended with %d: %s", code, errOut)
	}
	said := b.must(0, "launch", "outer", "--background", "--vouch", "--set", "TIDE_TOKEN=tide-77")
	words := strings.Join(strings.Fields(said), " ")
	if up, then := strings.Index(words, "inner answering"), strings.Index(words,
		"outer starting"); up < 0 || then < up {
		t.Errorf("the order was not kept:\n%s", said)
	}
	b.must(0, "stop", "outer")
	if answers(outer) || !answers(inner) {
		t.Error("not exactly the one was stopped")
	}
	if said := b.must(1, "check"); !strings.Contains(said, "was stopped") {
		t.Errorf("check says %s", said)
	}
	if said := b.must(0, "logs", "--json", "inner"); !strings.Contains(said, `"source":"inner"`) ||
		strings.Contains(said, `"outer"`) {
		t.Errorf("the log says %s", said)
	}
	if said := b.must(0, "logs", "--since", "1ns"); said != "" {
		t.Errorf("of the last nanosecond the log says %s", said)
	}
	b.must(2, "logs", "nobody")
	if said := b.must(0, "order"); !strings.Contains(said, "Estimate from earlier launches") {
		t.Errorf("order says %s", said)
	}
	b.must(0, "stop", "inner")
	waitFor(t, "the steward to end with its last service",
		func() bool { code, _, _ := b.run("stop"); return code == 0 })
	b.leavesNothing()
}

func TestSecondCopy(t *testing.T) {
	t.Parallel()
	b, port := newBench(t), testport.Take(t)
	b.write(quay(port))
	taken, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port))
	if err != nil {
		t.Fatalf("the port is this test's, and taken: %v", err)
	}
	defer taken.Close()
	go http.Serve(taken, nil)
	if said := b.must(1, "launch", "--background", "--vouch"); !strings.Contains(said,
		"is taken by") || !strings.Contains(said, "--shift") {
		t.Errorf("with a taken port: %s", said)
	}
	if said := b.must(1, "check", "--json"); !strings.Contains(said, `"stranger"`) {
		t.Errorf("check says %s", said)
	}
	if said := b.must(0, "launch", "--background", "--vouch", "--shift",
		"7"); !strings.Contains(said, fmt.Sprint(port+7)) {
		t.Errorf("shifted: %s", said)
	}
	b.must(0, "stop")
	b.must(2, "launch", "--shift", "65000")
}

func TestCloneOfSeveral(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	for _, name := range []string{"front end", "back"} {
		repo := filepath.Join(b.home, "repos", name)
		if err := os.MkdirAll(repo, 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(repo, "package.json"),
			[]byte(`{"scripts":{"start":"node x.js --port 4000"}}`), 0o644); err != nil {
			t.Fatal(err)
		}
		for _, args := range [][]string{{"init", "-q", "-b", "main"}, {"add", "-A"},
			{"-c", "user.name=Ida", "-c", "user.email=i@example.com", "commit", "-q", "-m", "x"}} {
			cmd := exec.Command("git", args...)
			cmd.Dir = repo
			if out, err := cmd.CombinedOutput(); err != nil {
				t.Fatalf("%v\n%s", err, out)
			}
		}
	}
	b.must(0, "clone", filepath.Join(b.home, "repos", "front end"),
		filepath.Join(b.home, "repos", "back"), "--into", "Ölmühle app")
	top := b.dir
	b.dir = filepath.Join(top, "Ölmühle app", "back") // the workspace is found upwards from there
	out := b.must(0, "survey", "--json")
	b.dir = top
	var s struct {
		Root      string
		Checkouts []struct{ Path, Branch string }
		Services  []struct{ Name string }
	}
	if err := json.Unmarshal([]byte(out), &s); err != nil {
		t.Fatal(err)
	}
	if s.Root != filepath.Join(b.dir, "Ölmühle app") || len(s.Checkouts) != 2 ||
		len(s.Services) != 2 || s.Services[1].Name != "front-end" {
		t.Errorf("survey gives %+v", s)
	}
}

// TestContracts looks for the lists that the contracts promise: one that holds nothing is [], never
// null.
func TestContracts(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	b.write(map[string]string{"compose.yaml": "services:\n  web: {image: saltmarsh/web:1}\n",
		".env.example": "A=\n"})
	for _, c := range []struct {
		args   []string
		schema string
	}{
		{[]string{"survey"}, "nharbor.survey/1"}, {[]string{"needs"}, "nharbor.needs/1"},
		{[]string{"fill", "--dry-run"}, "nharbor.fill/1"},
		{[]string{"order"}, "nharbor.order/1"}, {[]string{"vouch"}, "nharbor.vouch/1"},
		{[]string{"check"}, "nharbor.check/1"}, {[]string{"stop"}, "nharbor.stop/1"},
	} {
		_, out, errOut := b.run(append(c.args, "--json")...)
		var answer struct{ Schema string }
		if err := json.Unmarshal([]byte(out), &answer); err != nil || answer.Schema != c.schema {
			t.Errorf("%v: %v, schema %q\n%s%s", c.args, err, answer.Schema, out, errOut)
		}
		if strings.Contains(out, ": null") {
			t.Errorf("%v gives null:\n%s", c.args, out)
		}
	}
	for args, kind := range map[string]int{"survey --frob": 2, "logs": 1, "-C nowhere survey": 2,
		"launch nobody": 2, "fill --set X=1": 2} {
		code, _, errOut := b.run(append(strings.Fields(args), "--json")...)
		var e struct{ Schema, Code, Text, Remedy string }
		if err := json.Unmarshal([]byte(errOut), &e); err != nil || code != kind ||
			e.Schema != "nharbor.error/1" || e.Code == "" || e.Text == "" || e.Remedy == "" {
			t.Errorf("%s ended with %d: %v\n%s", args, code, err, errOut)
		}
	}
}

func TestSecretsStayHidden(t *testing.T) {
	t.Parallel()
	b, port := newBench(t), testport.Take(t)
	b.write(quay(port))
	canary := "canary" + strings.Repeat("7", 20)
	b.write(map[string]string{"compose.yaml": fmt.Sprintf(`
services:
  cache:
    image: saltmarsh/cache:1
    profiles: [never]
    command: serve --key ${QUAY_SECRET}
  store:
    image: saltmarsh/store:1
    environment: {STORE_PASSWORD: %[1]s, URL: "http://u:%[1]s@x/"}
    command: serve --key ${QUAY_SECRET}
    healthcheck: {test: "ask -p %[1]s"}
    build: {context: ./store, args: {API_KEY: %[1]s}}
    labels: {note: "%[1]s"}
`, canary)})
	answers := filepath.Join(b.home, "answers")
	if err := os.WriteFile(answers, []byte("QUAY_SECRET="+canary+"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	var said strings.Builder
	for _, args := range [][]string{{"fill", "--answers", answers}, {"fill", "--json"}, {"survey"},
		{"survey", "--json"}, {"survey", "--compose"}, {"survey", "--compose", "--json"},
		{"order", "--json"}, {"vouch"}, {"vouch", "--json"}, {"launch", "work", "--background",
			"--vouch", "--json"}, {"logs"}, {"check", "--json"}, {"stop"}} {
		_, out, errOut := b.run(args...)
		said.WriteString(out + errOut)
	}
	err := filepath.Walk(b.dir, func(name string, info os.FileInfo, err error) error {
		if err != nil || info.IsDir() || filepath.Base(name) == ".env" ||
			filepath.Base(name) == "compose.yaml" {
			return err
		}
		data, err := os.ReadFile(name)
		said.Write(data)
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	if strings.Contains(said.String(), canary) {
		t.Errorf("the secret's value was shown or written:\n%s", said.String())
	}
	if data, err := os.ReadFile(filepath.Join(b.dir, ".env")); err != nil ||
		!strings.Contains(string(data), canary) {
		t.Errorf("the settings file lacks it: %v", err)
	}
	if out := b.must(0, "fill", "--dry-run", "--reveal"); !strings.Contains(out, canary) {
		t.Errorf("--reveal shows %s", out)
	}
}
