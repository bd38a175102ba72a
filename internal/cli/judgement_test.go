package cli_test

import (
	"context"
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"nimbleharbor/internal/engine"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/testport"
	"nimbleharbor/internal/workspace"
)

// piers is one program that serves a page, an error page for a known reason, or ends with an error,
// as it is told.
const piers = `package main

import (
	"fmt"
	"net/http"
	"os"
)

func main() {
	if os.Args[1] == "dies" {
		fmt.Println("Error: TIDE_TOKEN must be set")
		os.Exit(3)
	}
	http.HandleFunc("/", func(w http.ResponseWriter, r *http.Request) {
		switch {
		case os.Args[1] == "errs":
			w.WriteHeader(500)
			fmt.Fprint(w, "<html><h1>relation &quot;bookings&quot; does not exist</h1></html>")
		case r.URL.Path == "/fares":
			fmt.Fprintf(w, "{\"fares\":[{\"to\":\"Gull Island\",\"cents\":450}],\"key\":%q}",
				r.Header.Get("Authorization"))
		default:
			fmt.Fprint(w, "<title>Pier</title>")
		}
	})
	fmt.Println(http.ListenAndServe("127.0.0.1:"+os.Args[2], nil))
}
`

// TestJudgement holds that launch and check say the same of a stack, that it is true, and that it
// names the cause.
func TestJudgement(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	page, errs, dies := testport.Take(t), testport.Take(t), testport.Take(t)
	service := func(name string, port int) string {
		return fmt.Sprintf("[service.%s]\ncommand = [\"go\", \"run\", \".\", %q, \"%d\"]\nport "+
			"= %d\nspeaks = \"http\"\n", name, name, port, port)
	}
	toml := service("page", page) + service("errs", errs) + service("dies", dies) +
		"[service.work]\nleave-out = true\n"
	b.write(map[string]string{"go.mod": "module piers\n\ngo 1.24\n", "main.go": piers,
		"nharbor.toml": toml})
	verdicts := func(c stack.Check) string {
		var out []string
		for _, p := range c.Ports {
			out = append(out, fmt.Sprintf("%s %s", p.Service, p.Verdict))
		}
		return fmt.Sprintf("%s; %v, %+v", strings.Join(out, ", "), c.Answers, c.Counts)
	}
	check := func(code int) (c stack.Check) {
		t.Helper()
		if err := json.Unmarshal([]byte(b.must(code, "check", "--json")), &c); err != nil {
			t.Fatal(err)
		}
		return c
	}

	// An error page is no answer, for neither of them, and its reason is named.
	var launched stack.LaunchResult
	lines := strings.Split(strings.TrimSpace(b.must(1, "launch", "page", "errs", "--background",
		"--vouch", "--json")), "\n")
	if err := json.Unmarshal([]byte(lines[len(lines)-1]), &launched); err != nil {
		t.Fatal(err)
	}
	c := check(1)
	want := "errs errs, page answers; false, {Expected:2 Running:2 Answering:1}"
	if verdicts(c) != want || verdicts(launched.Check) != want ||
		launched.Outcome != stack.SomeFailed {
		t.Errorf("launch says %s, check %s, want %s", verdicts(launched.Check), verdicts(c), want)
	}
	if said := oneLine(b.must(1, "check")); !strings.Contains(said,
		"a table is missing, bookings") ||
		!strings.Contains(said, "Left out of this launch: dies") ||
		strings.Contains(said, "Every port") {
		t.Errorf("check says\n%s", said)
	}
	b.must(0, "stop")

	// A stranger on the port of what failed is not its answer; nor is one on the port of what was
	// left out.
	for _, port := range []int{dies, errs} {
		stranger := &http.Server{Addr: fmt.Sprintf("127.0.0.1:%d", port)}
		go stranger.ListenAndServe()
		t.Cleanup(func() { stranger.Close() })
	}
	waitFor(t, "the strangers", func() bool { return answers(dies) && answers(errs) })
	b.must(0, "launch", "page", "--background", "--vouch")
	if c := check(0); len(c.Ports) != 1 || !c.Answers || c.Counts.Answering != 1 {
		t.Errorf("of one that was launched alone: %s", verdicts(c))
	}
	b.must(0, "stop")
	if c := check(1); c.Launched ||
		!strings.HasPrefix(verdicts(c), "dies stranger, errs stranger, page refuses; false") {
		t.Errorf("with nothing launched: %s", verdicts(c))
	}
}

// TestFailureStaysKnown holds that what has failed is told by launch, check and diagnose, while the
// stack runs and after.
func TestFailureStaysKnown(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	page, dies := testport.Take(t), testport.Take(t)
	b.write(map[string]string{"go.mod": "module piers\n\ngo 1.24\n", "main.go": piers,
		"nharbor.toml": fmt.Sprintf(`[service.work]
leave-out = true
[service.page]
command = ["go", "run", ".", "page", "%d"]
port = %d
env = {PIER_KEY = "key-of-the-pier"}
[service.dies]
command = ["go", "run", ".", "dies", "%d"]
port = %d
[check.fares]
service = "page"
path = "/fares"
headers = {Authorization = "Bearer ${PIER_KEY}"}
contains = "Gull Island"
json = {"fares.0.cents" = 450, key = "Bearer key-of-the-pier"}
within = "5s"
[check.nothing]
service = "page"
path = "/fares"
json = {"fares.1.cents" = 1}
[cause.tide]
line = "TIDE_TOKEN must be set"
says = "the tide table's token is missing"
do = "Ask the harbour master."
`, page, page, dies, dies)})
	for what, said := range map[string]string{
		"launch": oneLine(b.must(1, "launch", "--background", "--vouch")),
		"check":  oneLine(b.must(1, "check")),
	} {
		for _, want := range []string{"the tide table's token is missing",
			"Ask the harbour master.", "/fares passes", "there is no 1 among 1"} {
			if !strings.Contains(said, want) {
				t.Errorf("%s does not say %q:\n%s", what, want, said)
			}
		}
	}
	b.must(0, "stop")
	if said := oneLine(b.must(1, "check")); !strings.Contains(said, "failed: ended with code") ||
		!strings.Contains(said, "the tide table's token is missing") {
		t.Errorf("after the end check says\n%s", said)
	}
	if said := b.must(0, "diagnose"); !strings.Contains(said, "dies") ||
		!strings.Contains(said, "line 1: Error: TIDE_TOKEN must be set") {
		t.Errorf("diagnose says\n%s", said)
	}
	junit := filepath.Join(b.tmp, "verdicts.xml")
	b.must(1, "check", "--junit", junit, "--wait", "1ms")
	if xml, err := os.ReadFile(junit); err != nil ||
		!strings.Contains(string(xml), `<testsuite name="nharbor check"`) ||
		!strings.Contains(string(xml), "<failure") {
		t.Errorf("the file holds %s, %v", xml, err)
	}
	os.Remove(junit)
	if said := b.must(1, "check", "--json"); strings.Contains(said, "key-of-the-pier") {
		t.Errorf("a setting is shown:\n%s", said)
	}
	b.leavesNothing()
}

// TestProjectsTestThemselves runs a project's own tests against the launched stack, once a person
// has consented.
func TestProjectsTestThemselves(t *testing.T) {
	t.Parallel()
	b, page := newBench(t), testport.Take(t)
	b.write(map[string]string{"go.mod": "module piers\n\ngo 1.24\n", "main.go": piers,
		"nharbor.toml": fmt.Sprintf("[service.work]\ncommand = [\"go\", \"run\", \".\", "+
			"\"page\", \"%d\"]\nport = %d\n", page, page), "pier_test.go": fmt.Sprintf(`package main

import (
	"net/http"
	"testing"
)

func TestPier(t *testing.T) {
	if resp, err := http.Get("http://127.0.0.1:%d/"); err != nil || resp.StatusCode != 200 {
		t.Fatal(resp, err)
	}
}
`, page)})
	b.must(1, "test") // nothing is launched
	b.must(0, "launch", "--background", "--vouch")
	if said := b.must(1, "test"); !strings.Contains(said, "go test ./...") {
		t.Errorf("to be vouched for is\n%s", said)
	}
	if said := b.must(0, "test", "--vouch"); !strings.Contains(said, "1 package passed, 0 failed") {
		t.Errorf("test says\n%s", said)
	}
	b.must(2, "test", "nowhere")
	b.must(0, "stop")
	b.leavesNothing()
}

// oneLine is what was said without the breaks that fit it to a screen.
func oneLine(said string) string { return strings.Join(strings.Fields(said), " ") }

// TestContainersAreLookedInto tells, on a real engine, why nothing comes through to programs that
// listen on another port inside of their containers than the one that is published, or on the
// loopback address alone, and takes nobody's answer for that of a container that is gone. A port
// that is asked for nothing but to accept answers once somebody is inside.
func TestContainersAreLookedInto(t *testing.T) {
	t.Parallel()
	e, err := engine.Connect(t.Context())
	if err != nil {
		if os.Getenv("NHARBOR_REQUIRE_ENGINE") != "" {
			t.Fatalf("a container engine is required here: %v", err)
		}
		t.Skipf("this needs a container engine: %v", err)
	}
	defer e.Close()
	b := newBench(t)
	other, loop, late, dies := testport.Take(t), testport.Take(t), testport.Take(t), testport.Take(t)
	b.write(map[string]string{
		"go.mod": "module quayside\n\ngo 1.24\n",
		"main.go": `package main

import (
	"net"
	"os"
	"time"
)

func main() {
	if os.Args[1] == "dies" {
		println("KeyError: 'TIDE_TOKEN'")
		os.Exit(4)
	}
	if os.Args[1] == "late" {
		time.Sleep(1500 * time.Millisecond)
	}
	l, err := net.Listen("tcp", os.Args[2])
	if err != nil {
		panic(err)
	}
	for {
		c, err := l.Accept()
		if err != nil {
			return
		}
		defer c.Close()
	}
}
`, "Dockerfile": "FROM scratch\nCOPY quayside /quayside\n",
		"compose.yaml": fmt.Sprintf(`services:
  other: {build: ., entrypoint: [/quayside, now, ":9000"], ports: ["%d:7000"]}
  loop: {build: ., entrypoint: [/quayside, now, "127.0.0.1:7000"], ports: ["%d:7000"]}
  late: {build: ., entrypoint: [/quayside, late, ":7000"], ports: ["%d:7000"]}
  dies: {build: ., entrypoint: [/quayside, dies], ports: ["%d:7000"]}
`, other, loop, late, dies),
	})
	build := exec.Command("go", "build", "-o", "quayside", ".")
	build.Dir, build.Env = b.dir, append(b.env, "CGO_ENABLED=0")
	if out, err := build.CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	defer e.Images().RemoveAll(context.WithoutCancel(t.Context()),
		map[string]string{engine.LabelStack: workspace.ID(b.dir)})
	begin := time.Now()
	launched := oneLine(b.must(1, "launch", "--background", "--vouch"))
	if took := time.Since(begin); took > time.Minute {
		t.Errorf("it was waited for %v", took)
	}
	stranger, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", dies))
	if err != nil {
		t.Fatal(err)
	}
	defer stranger.Close()
	checked := oneLine(b.must(1, "check"))
	for what, said := range map[string]string{"launch": launched, "check": checked} {
		for _, want := range []string{"it listens on 9000, not on 7000",
			"port 7000 of the loopback address alone",
			"the setting TIDE_TOKEN is missing", "4 services expected, 3 running, 1 answering"} {
			if !strings.Contains(said, want) {
				t.Errorf("%s does not say %q:\n%s", what, want, said)
			}
		}
	}
	if !strings.Contains(checked, "what answers here is another program") {
		t.Errorf("the stranger is not told:\n%s", checked)
	}
	b.must(0, "stop")
}
