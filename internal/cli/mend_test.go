package cli_test

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/testport"
)

// slowLedger is a program that takes its time until it listens, or gives up where that one doesn't
// listen yet, as it is told.
const slowLedger = `package main

import (
	"fmt"
	"net"
	"net/http"
	"os"
	"time"
)

func main() {
	if os.Args[1] == "ledger" {
		time.Sleep(3 * time.Second)
	} else if _, err := net.Dial("tcp", "127.0.0.1:"+os.Args[3]); err != nil {
		fmt.Printf("Error: connect ECONNREFUSED 127.0.0.1:%s\n", os.Args[3])
		os.Exit(1)
	}
	fmt.Println(http.ListenAndServe("127.0.0.1:"+os.Args[2], nil))
}
`

// TestMending launches a service that starts too early, which nothing says. What would help is
// told; with --mend it is done, and told; from then on it is known, until the service is gone.
func TestMending(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	ledger, desk := testport.Take(t), testport.Take(t)
	service := func(name string, port int, more string) string {
		return fmt.Sprintf("[service.%s]\ncommand = [\"go\", \"run\", \".\", %q, \"%d\"%s]\nport "+
			"= %d\nspeaks = \"http\"\n", name, name, port, more, port)
	}
	of := service("desk", desk, fmt.Sprintf(", \"%d\"", ledger)) +
		"[service.work]\nleave-out = true\n"
	b.write(map[string]string{"go.mod": "module quay\n\ngo 1.24\n", "main.go": slowLedger,
		"nharbor.toml": of + service("ledger", ledger, "")})
	const act = "desk waits until ledger answers"

	said := oneLine(b.must(1, "launch", "--vouch", "--background"))
	if want := "What may mend it: " + act +
		". To have that done: nharbor launch --mend"; !strings.Contains(
		said, want) {
		t.Errorf("no word of %q in: %s", want, said)
	}
	b.must(0, "stop")

	lines := strings.Split(strings.TrimSpace(b.must(0, "launch", "--vouch", "--background",
		"--mend",
		"--json")), "\n")
	var r stack.LaunchResult
	if err := json.Unmarshal([]byte(lines[len(lines)-1]), &r); err != nil {
		t.Fatal(err)
	}
	want := stack.Mended{ID: "service:desk", Cause: "connection-refused", Act: act, Lesson: true}
	if len(r.Mended) != 1 || r.Mended[0] != want {
		t.Errorf("mended: %+v", r.Mended)
	}
	b.run("report", "took.md")
	if report, _ := os.ReadFile(filepath.Join(b.dir, "took.md")); !strings.Contains(string(report),
		"What it took") || !strings.Contains(string(report), "waits until ledger answers") {
		t.Errorf("the report does not say what it took: %.2000s", report)
	}
	b.must(0, "stop")

	if said := b.must(0, "survey"); !strings.Contains(said, "was refused without it") {
		t.Errorf("the survey does not know it: %s", said)
	}
	if said := b.must(0, "launch", "--vouch", "--background"); strings.Contains(said, "Mending") {
		t.Errorf("it was mended again: %s", said)
	}
	b.must(0, "stop")

	b.write(map[string]string{"nharbor.toml": of})
	if said := oneLine(b.must(0, "survey")); !strings.Contains(said,
		"desk waits for ledger; ledger is not here any more") {
		t.Errorf("what was learned of a service that is gone stays: %s", said)
	}
}
