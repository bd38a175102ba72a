package cli_test

import (
	"bufio"
	"fmt"
	"math/rand/v2"
	"net/http"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"nimbleharbor/internal/engine"
	"nimbleharbor/internal/engine/standin"
	"nimbleharbor/internal/engine/standin/inside"
	"nimbleharbor/internal/record"
	"nimbleharbor/internal/testbound"
	"nimbleharbor/internal/testport"
)

// stand serves as a service of a test: on a port of this machine, or on one inside of its
// container.
func stand(words []string) {
	asked := make(chan os.Signal, 1)
	signal.Notify(asked, syscall.SIGTERM)
	answer := http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		fmt.Fprintf(w, "<title>%s</title>", os.Getenv("LEVEL"))
	})
	go func() {
		if words[0] == "inside" {
			l, err := inside.Listen(":" + words[1])
			if err != nil {
				os.Exit(3)
			}
			http.Serve(l, answer)
		}
		http.ListenAndServe("127.0.0.1:"+words[1], answer)
		os.Exit(4)
	}()
	<-asked
}

// mixed is a workspace with native services and a container, whose programs are this test's own.
func mixed(t *testing.T) (*bench, *engine.Engine, []int) {
	t.Helper()
	b := newBench(t)
	self, err := os.Executable()
	if err != nil {
		t.Fatal(err)
	}
	base := filepath.Dir(b.dir)
	socket := filepath.Join(base, "engine")
	image := standin.Image{Files: map[string]string{"/stand": self},
		Entrypoint: []string{"/stand", "stand", "inside", "80"}}
	if _, err := standin.Start(socket, filepath.Join(base, "engine-state"),
		map[string]standin.Image{"quay/stand:1": image, "quay/postgres:1": image}); err != nil {
		t.Fatal(err)
	}
	e, err := engine.At(t.Context(), "unix://"+socket)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { e.Close() })
	b.env = append(b.env, "DOCKER_HOST=unix://"+socket)
	ports := []int{testport.Take(t), testport.Take(t), testport.Take(t)}
	b.write(map[string]string{
		"compose.yaml": fmt.Sprintf(
			"services:\n  db:\n    image: quay/stand:1\n    ports: [\"%d:80\"]\n    volumes: "+
				"[data:/data]\nvolumes:\n  data:\n", ports[0]),
		".env": "LEVEL=low\n",
		"nharbor.toml": fmt.Sprintf(
			"[service.api]\ncommand = [%q, \"stand\", \"here\", \"%d\"]\nport = %d\nafter = "+
				"[\"db\"]\n[service.web]\ncommand = [%q, \"stand\", \"here\", \"%d\"]\nport = "+
				"%d\nafter = [\"api\"]\n", self, ports[1], ports[1], self, ports[2], ports[2]),
	})
	return b, e, ports
}

// TestKilledAtAnyMoment kills the command or the steward at random moments of a launch: no process
// and no container stays without an owner, the state can be read, and the next command puts right
// what it finds.
//
// These are 20; NHARBOR_KILLS says another number, and CI takes 200. It does not run beside other
// tests, so that a moment means the same each time.
func TestKilledAtAnyMoment(t *testing.T) {
	moments, workers := 20, 4
	if n, err := strconv.Atoi(os.Getenv("NHARBOR_KILLS")); err == nil {
		moments = n
	}
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	for w := range workers {
		t.Run(fmt.Sprint("worker ", w), func(t *testing.T) {
			t.Parallel()
			b, e, ports := mixed(t)
			chance := rand.New(rand.NewPCG(seed, uint64(w)))
			for range moments / workers {
				killOnce(t, b, e, chance)
			}
			b.must(0, "launch", "--background", "--vouch")
			b.must(0, "check")
			b.must(0, "stop")
			for _, p := range ports {
				if answers(p) {
					t.Errorf("port %d still answers", p)
				}
			}
		})
	}
}

func killOnce(t *testing.T, b *bench, e *engine.Engine, chance *rand.Rand) {
	t.Helper()
	args := []string{"launch", "--vouch", "--json"}
	background := chance.IntN(2) == 0
	if background {
		args = append(args, "--background")
	}
	cmd := b.command(args...)
	out, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	go func() {
		for lines := bufio.NewScanner(out); lines.Scan(); {
		}
	}()
	moment := time.Duration(chance.IntN(900)) * time.Millisecond
	victim := []string{"command killed", "command interrupted", "steward killed",
		"steward asked to end"}[chance.IntN(4)]
	what := fmt.Sprintf("%s after %v, background %v", victim, moment, background)
	<-time.After(moment)
	switch victim {
	case "command killed":
		cmd.Process.Kill()
	case "command interrupted":
		cmd.Process.Signal(os.Interrupt)
	default:
		// The record may still be that of a steward which has been dead for long; then there is
		// none to kill yet.
		if r, err := record.Read(b.dir); err == nil && r != nil && !r.Ended &&
			syscall.Kill(r.PID, 0) == nil {
			sig := syscall.SIGKILL
			if victim == "steward asked to end" {
				sig = syscall.SIGTERM
			}
			syscall.Kill(r.PID, sig)
		} else {
			if err != nil {
				t.Errorf("%s: the state can't be read: %v", what, err)
			}
			cmd.Process.Kill()
		}
	}
	ended := make(chan struct{})
	go func() {
		cmd.Wait()
		close(ended)
	}()
	select {
	case <-ended:
	case <-time.After(testbound.Long):
		r, _ := record.Read(b.dir)
		syscall.Kill(r.PID, syscall.SIGQUIT) // it tells in its log where it stands
		waitFor(t, "the steward to tell", func() bool { return syscall.Kill(r.PID, 0) != nil })
		told, _ := os.ReadFile(filepath.Join(b.dir, ".nharbor", "steward.log"))
		t.Fatalf("%s: the command does not end; the record is %+v, and the steward tells\n%s",
			what, r, told)
	}
	if code, said, _ := b.run("check"); code != 0 && code != 1 {
		t.Errorf("%s: check then ends with %d: %s", what, code, said)
	}
	if code, said, errOut := b.run("stop"); code != 0 {
		t.Errorf("%s: stop then ends with %d: %s%s", what, code, said, errOut)
	}
	waitFor(t, what+": the last container to be removed", func() bool {
		list, err := e.List(t.Context(), nil)
		return err == nil && len(list) == 0
	})
	waitFor(t, what+": the last process to end",
		func() bool { return len(processesIn(b.dir)) == 0 })
}

// processesIn lists the processes that work in a folder.
func processesIn(dir string) []int {
	var out []int
	all, _ := filepath.Glob("/proc/[0-9]*")
	for _, p := range all {
		if cwd, err := os.Readlink(p + "/cwd"); err == nil &&
			(cwd == dir || strings.HasPrefix(cwd, dir+"/")) {
			pid, _ := strconv.Atoi(filepath.Base(p))
			out = append(out, pid)
		}
	}
	return out
}

// TestRestartAndReset changes a setting of a launched stack: what still runs with the old one is
// named, restart makes it follow, and reset throws away what was set up.
func TestRestartAndReset(t *testing.T) {
	t.Parallel()
	b, e, ports := mixed(t)
	b.must(1, "restart")
	b.must(0, "launch", "--background", "--vouch")
	if said := b.must(0, "check"); strings.Contains(said, "Changed") {
		t.Errorf("nothing has changed, and check says %s", said)
	}
	b.write(map[string]string{"compose.yaml": fmt.Sprintf(
		"services:\n  db:\n    image: quay/stand:1\n    ports: [\"%d:80\"]\n    volumes: "+
			"[data:/data]\n    environment: {LEVEL: high}\nvolumes:\n  data:\n", ports[0])})
	if said := b.must(0, "check"); !strings.Contains(said, "files: compose.yaml") ||
		!strings.Contains(said, "old settings: db\n") ||
		!strings.Contains(said, "nharbor restart db") {
		t.Errorf("check says %s", said)
	}
	if said := b.must(0, "check", "--json"); !strings.Contains(said, `"changed": {`) {
		t.Errorf("check says %s", said)
	}
	if said := b.must(1, "launch"); !strings.Contains(said, "has changed since") ||
		!strings.Contains(said, "nharbor restart db") {
		t.Errorf("launch says %s", said)
	}
	said := b.must(0, "restart", "db", "--vouch")
	if down, up := strings.Index(said, "web  stopped"), strings.Index(said,
		"web  answering"); down < 0 || up < down || !strings.Contains(said, "“high”") {
		t.Errorf("restart says %s", said)
	}
	if said := b.must(0, "check"); strings.Contains(said, "Changed") {
		t.Errorf("after the restart check says %s", said)
	}
	b.must(2, "restart", "nobody")
	b.must(0, "stop", "web")
	b.must(0, "restart", "api", "--vouch")
	if answers(ports[2]) {
		t.Error("what somebody has stopped was started by the restart of what it needs")
	}
	if said := b.must(0, "reset"); !strings.Contains(said, "Everything has been stopped") ||
		!strings.Contains(said, "--data") {
		t.Errorf("reset says %s", said)
	}
	volumes := func() string {
		out, _ := exec.Command("find",
			filepath.Join(filepath.Dir(b.dir), "engine-state", "volumes"), "-mindepth", "1",
			"-maxdepth", "1").Output()
		return string(out)
	}
	if volumes() == "" {
		t.Error("a reset without --data has removed the data")
	}
	if said := b.must(0, "reset", "--data"); !strings.Contains(said, "-data") || volumes() != "" {
		t.Errorf("reset --data says %s, and leaves %s", said, volumes())
	}
	if list, err := e.List(t.Context(), nil); err != nil || len(list) > 0 {
		t.Errorf("left are the containers %v, %v", list, err)
	}
	b.leavesNothing()
}

func TestDraw(t *testing.T) {
	t.Parallel()
	b, _, _ := mixed(t)
	for file, want := range map[string]string{"o.svg": "</svg>",
		"o.dot": `"service:api" -> "service:web"`, "o.mmd": "==>|answering|"} {
		b.must(0, "order", "--draw", file)
		data, err := os.ReadFile(filepath.Join(b.dir, file))
		if err != nil || !strings.Contains(string(data), want) {
			t.Errorf("%s: %v\n%s", file, err, data)
		}
	}
	b.must(2, "order", "--draw", "o.pdf")
}

// BenchmarkFleet launches many services at once and reports how long that takes, and the memory of
// their steward.
func BenchmarkFleet(b *testing.B) {
	self, err := os.Executable()
	if err != nil {
		b.Fatal(err)
	}
	for _, count := range []int{50, 300} {
		b.Run(fmt.Sprint("services=", count), func(b *testing.B) {
			bench := newBench(b)
			var text strings.Builder
			for i := range count {
				port := testport.Take(b)
				fmt.Fprintf(&text, "[service.s%d]\ncommand = [%q, \"stand\", \"here\", "+
					"\"%d\"]\nport = %d\n", i, self, port, port)
			}
			bench.write(map[string]string{"nharbor.toml": text.String()})
			memory := 0.0
			for b.Loop() {
				bench.must(0, "launch", "--background", "--vouch")
				r, err := record.Read(bench.dir)
				if err != nil {
					b.Fatal(err)
				}
				status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", r.PID))
				if err != nil {
					b.Fatal(err)
				}
				for line := range strings.Lines(string(status)) {
					if fields := strings.Fields(line); fields[0] == "VmHWM:" {
						kb, _ := strconv.Atoi(fields[1])
						memory = max(memory, float64(kb)/1024)
					}
				}
				b.StopTimer()
				bench.must(0, "stop")
				b.StartTimer()
			}
			b.ReportMetric(memory, "MB-steward")
		})
	}
}

// TestDraftedCorrections drafts nharbor.toml, refuses to write over it, and takes what was
// corrected in it.
func TestDraftedCorrections(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	port := testport.Take(t)
	b.write(quay(port))
	before := b.must(0, "survey", "--json")
	if said := b.must(0, "survey", "--write"); !strings.Contains(said, "Written: nharbor.toml") {
		t.Errorf("survey --write says %s", said)
	}
	if after := b.must(0, "survey", "--json"); after != before {
		t.Errorf("the draft has changed what survey says:\n%s", after)
	}
	if said := b.must(1, "survey", "--write"); !strings.Contains(said, "there already") {
		t.Errorf("a second survey --write says %s", said)
	}
	b.must(2, "survey", "--write", "--compose")
	b.write(map[string]string{"nharbor.local.toml": fmt.Sprintf("[service.work]\nport = %d\n",
		port+1)})
	if said := b.must(0, "survey"); !strings.Contains(said, fmt.Sprint("port ", port+1)) {
		t.Errorf("the correction is not taken: %s", said)
	}
	b.write(map[string]string{"nharbor.local.toml": "[service.work]\nprot = 1\n"})
	if said := b.must(3, "launch"); !strings.Contains(said, "nharbor.local.toml:2:1") ||
		!strings.Contains(said, "Did you mean port?") {
		t.Errorf("with a wrong correction launch says %s", said)
	}
}

// TestHaltAndRestartRule launches stacks of which one part fails: with --halt what has not begun
// never does; with restart the part is started again.
func TestHaltAndRestartRule(t *testing.T) {
	t.Parallel()
	b := newBench(t)
	self, err := os.Executable()
	if err != nil {
		t.Fatal(err)
	}
	port := testport.Take(t)
	b.write(map[string]string{"nharbor.toml": fmt.Sprintf(
		"[service.bad]\ncommand = [\"sh\", \"-c\", \"echo no license; exit "+
			"3\"]\n[service.late]\ncommand = [%q, "+
			"\"stand\", \"here\", \"%d\"]\nport = %d\nafter = [\"bad "+
			"finished\"]\n", self, port, port)})
	said := b.must(1, "launch", "--background", "--vouch", "--halt")
	if !strings.Contains(said, "bad: ended with code 3; it last said: no license") ||
		answers(port) {
		t.Errorf("with --halt: %s", said)
	}
	b.must(0, "stop")
	b.write(map[string]string{"nharbor.toml": fmt.Sprintf(
		"[service.flaky]\ncommand = [\"sh\", \"-c\", \"test -e was || { touch was; exit 3; }; "+
			"exec %s stand here %d\"]\nport = %d\nrestart = true\n", self, port, port)})
	if said := b.must(0, "launch", "--background", "--vouch"); !strings.Contains(said,
		"it starts again in 0.5 s, for the 1st time") || !answers(port) {
		t.Errorf("with restart = true: %s", said)
	}
	b.must(0, "stop")
	b.leavesNothing()
}

// TestStewardKnowsBetter asks the steward where its record is of an earlier moment, as it is when
// the disk was full.
func TestStewardKnowsBetter(t *testing.T) {
	t.Parallel()
	b, _, ports := mixed(t)
	b.must(0, "launch", "--background", "--vouch")
	file := filepath.Join(b.dir, ".nharbor", "stack.json")
	before, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	b.must(0, "restart", "web", "--vouch")
	if err := os.WriteFile(file, before, 0o600); err != nil {
		t.Fatal(err)
	}
	if said := b.must(0, "check"); strings.Contains(said, "stranger") {
		t.Errorf("with the record of before the restart check says %s", said)
	}
	b.must(0, "stop", "web")
	if err := os.WriteFile(file, before, 0o600); err != nil {
		t.Fatal(err)
	}
	if _, said, _ := b.run("check"); answers(ports[2]) || !strings.Contains(said, "stopped") {
		t.Errorf("with the record of before the stop check says %s", said)
	}
	b.must(0, "stop")
	// Without a steward the file is all there is.
	if err := os.WriteFile(file, before, 0o600); err != nil {
		t.Fatal(err)
	}
	b.must(0, "launch", "--background", "--vouch")
	b.must(0, "stop")
	b.leavesNothing()
}
