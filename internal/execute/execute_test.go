package execute

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/signal"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"nimbleharbor/internal/engine"
	"nimbleharbor/internal/engine/standin"
	"nimbleharbor/internal/engine/standin/inside"
	"nimbleharbor/internal/judge"
	"nimbleharbor/internal/logs"
	"nimbleharbor/internal/memory"
	"nimbleharbor/internal/order"
	"nimbleharbor/internal/plan"
	"nimbleharbor/internal/record"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/testbound"
	"nimbleharbor/internal/testport"
)

// The test's own program plays steps and services: its words say what to do, one after another. It
// ends without the exit hooks of a program that is covered, which would have a last word of their
// own.
func TestMain(m *testing.M) {
	if len(os.Args) < 2 || os.Args[1] != "play" {
		os.Exit(m.Run())
	}
	asked := make(chan os.Signal, 1)
	signal.Notify(asked, syscall.SIGTERM)
	for words := os.Args[2:]; len(words) > 0; words = words[1:] {
		word, value, _ := strings.Cut(words[0], "=")
		switch word {
		case "say":
			fmt.Println(value)
		case "env":
			fmt.Println(os.Getenv(value))
		case "touch":
			os.WriteFile(value, []byte("x"), 0o600)
		case "exit":
			code, _ := strconv.Atoi(value)
			syscall.Exit(code)
		case "pause":
			pause, _ := time.ParseDuration(value)
			<-time.After(pause)
		case "first": // fails the first time, and leaves the file to know it
			if _, err := os.Stat(value); err != nil {
				os.WriteFile(value, nil, 0o600)
				syscall.Exit(5)
			}
		case "await": // a file that the test makes
			for {
				if _, err := os.Stat(value); err == nil {
					break
				}
				select {
				case <-asked:
					syscall.Exit(0)
				case <-time.After(time.Millisecond):
				}
			}
		case "listen", "listen-inside":
			l, err := net.Listen("tcp", "127.0.0.1:"+value)
			if word == "listen-inside" {
				l, err = inside.Listen(":" + value)
			}
			if err != nil {
				fmt.Println(err)
				syscall.Exit(7)
			}
			fmt.Println("opened", time.Now().UnixNano())
			go http.Serve(l, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				io.WriteString(w, "<title>here</title>")
			}))
		case "stay":
			<-asked
			fmt.Println("asked to stop")
		}
	}
	syscall.Exit(0)
}

// play is a plan that a test puts together.
type play struct {
	plan  *plan.Plan
	x     *Executor
	root  string
	ready sync.WaitGroup // done when there is an executor
}

// plays counts them, so that each has a mark of its own.
var plays atomic.Int32

func newPlay(t testing.TB) *play {
	t.Helper()
	root := t.TempDir()
	p := &play{root: root, plan: &plan.Plan{Root: root,
		ID:    fmt.Sprintf("test%d-%d", os.Getpid(), plays.Add(1)),
		Steps: map[stack.NodeID]plan.Step{}, Services: map[stack.NodeID]plan.Service{}}}
	p.ready.Add(1)
	return p
}

func words(list ...string) []string { return append([]string{os.Args[0], "play"}, list...) }

func (p *play) after(id stack.NodeID, others ...string) {
	n := order.Node{ID: id}
	for _, o := range others {
		other, until, _ := strings.Cut(o, " ")
		n.After = append(n.After, order.Edge{ID: stack.NodeID(other), Until: stack.Until(until)})
	}
	p.plan.Order.Nodes = append(p.plan.Order.Nodes, n)
}

func (p *play) native(name string, kind stack.Lifetime, port int, command []string,
	after ...string) {
	s := plan.Service{Name: name, Kind: kind, Runs: stack.Native, Command: command, Dir: p.root,
		Environment: os.Environ()}
	if port > 0 {
		s.Ports = []stack.Port{{Host: port, Target: port, Transport: "tcp", Speaks: "http"}}
	}
	p.plan.Services[stack.ServiceNode(name)] = s
	p.after(stack.ServiceNode(name), after...)
}

func (p *play) step(name string, command []string, inputs []string, after ...string) {
	p.plan.Steps[stack.StepNode(name)] = plan.Step{Dir: p.root,
		Work: memory.Work{ID: name, Command: command, Inputs: inputs, Env: os.Environ()}}
	p.after(stack.StepNode(name), after...)
}

// run executes the plan until it has settled, and stops it when the test ends.
func (p *play) run(t testing.TB, e *engine.Engine) *Executor {
	t.Helper()
	folder, err := logs.Begin(p.root, p.plan.Secrets)
	if err != nil {
		t.Fatal(err)
	}
	p.x = New(t.Context(), p.plan, Machines{Here: e}, folder, memory.Recall(p.root), nil)
	p.ready.Done()
	t.Cleanup(func() { p.x.Stop(nil) })
	if err := p.x.Run(); err != nil {
		t.Fatal(err)
	}
	return p.x
}

// states gives how every node stands, as "ID state".
func (p *play) states() string {
	var out []string
	for _, n := range p.x.all() {
		id := n.id
		out = append(out, strings.TrimPrefix(string(id), "service:")+" "+string(n.now().State))
	}
	slices.Sort(out)
	return strings.Join(out, ", ")
}

// when tells the place of an event in their order; -1 if there was none.
func (p *play) when(id stack.NodeID, s stack.State) int {
	return slices.IndexFunc(p.x.Past(),
		func(e stack.Event) bool { return e.ID == id && e.State == s })
}

func TestEachStartsWhenWhatItNeedsAnswers(t *testing.T) {
	t.Parallel()
	p := newPlay(t)
	db, web := testport.Take(t), testport.Take(t)
	p.native("db", stack.Lasting, db, words(fmt.Sprintf("listen=%d", db), "stay"))
	p.native("setup", stack.Once, 0, words("say=done"), "service:db answering")
	p.step("install", words("say=installed"), nil)
	p.native("web", stack.Lasting, web, words(fmt.Sprintf("listen=%d", web), "stay"),
		"service:setup finished", "step:install finished", "service:db answering")
	x := p.run(t, nil)
	if got := p.states(); got != "db answering, setup finished, step:install done, web "+
		"answering" || !x.State().Good() || len(x.State().Failures()) > 0 {
		t.Fatalf("states %s, failures %v", got, x.State().Failures())
	}
	for _, c := range []struct {
		first     stack.NodeID
		firstIs   stack.State
		second    stack.NodeID
		secondIs  stack.State
		otherwise string
	}{
		{"service:db", stack.IsUp, "service:setup", stack.Starting,
			"setup started before the database answered"},
		{"service:setup", stack.Ended, "service:web", stack.Starting,
			"web started before setup had finished"},
		{"step:install", stack.Done, "service:web", stack.Starting,
			"web started before it was installed"},
	} {
		if a, b := p.when(c.first, c.firstIs), p.when(c.second, c.secondIs); a < 0 || b < 0 ||
			a > b {
			t.Error(c.otherwise)
		}
	}
	x.Stop(nil)
	if a, b := p.when("service:web", stack.Stopped), p.when("service:db", stack.Stopped); a < 0 ||
		b < 0 || a > b {
		t.Errorf("stopped were web at %d and db at %d", a, b)
	}
	if x.State().Running() != 0 {
		t.Errorf("%d are still running", x.State().Running())
	}
}

func TestFailures(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		name  string
		make  func(*play)
		want  string
		fails []string
	}{
		{"a step fails, and what needs it is skipped; the rest goes on", func(p *play) {
			p.step("build", words("say=first", "say=the reason", "exit=2"), nil)
			p.native("web", stack.Lasting, 0, words("stay"), "step:build finished")
			p.native("last", stack.Lasting, 0, words("stay"), "service:web begun")
			p.native("lone", stack.Lasting, 0, words("stay"))
		}, "last skipped, lone running, step:build failed, web skipped",
			[]string{"build: ended with code 2; it last said: first | the reason",
				"web: skipped, since build failed", "last: skipped, since web failed"}},
		{"a service ends", func(p *play) {
			p.native("web", stack.Lasting, 1, words("say=no license", "exit=1"))
		}, "web failed", []string{"web: ended with code 1; it last said: no license"}},
		{"a service ends well, and should not", func(p *play) {
			p.native("web", stack.Lasting, 1, words("exit=0"))
		}, "web failed", []string{"web: ended by itself"}},
		{"a set-up job fails", func(p *play) {
			p.native("setup", stack.Once, 0, words("exit=4"))
			p.native("web", stack.Lasting, 0, words("stay"), "service:setup finished")
		}, "setup failed, web skipped", []string{"setup: ended with code 4", "web: skipped"}},
		{"a program is absent", func(p *play) {
			p.native("web", stack.Lasting, 0, []string{"no-such-program"})
		}, "web failed", []string{"web: could not be started"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			p := newPlay(t)
			c.make(p)
			x := p.run(t, nil)
			if got := p.states(); got != c.want || x.State().Good() {
				t.Errorf("states %s", got)
			}
			fails := failureLines(x)
			if len(fails) != len(c.fails) {
				t.Fatalf("failures %q", fails)
			}
			for i := range fails {
				if !strings.HasPrefix(fails[i], c.fails[i]) {
					t.Errorf("failure %q, want %q", fails[i], c.fails[i])
				}
			}
		})
	}
}

func TestInterruptedWhileStarting(t *testing.T) {
	t.Parallel()
	p := newPlay(t)
	never := filepath.Join(p.root, "never")
	p.native("slow", stack.Lasting, testport.Take(t), words("await="+never))
	p.step("long", words("await="+never), nil)
	p.native("web", stack.Lasting, 0, words("stay"), "service:slow answering")
	folder, err := logs.Begin(p.root, nil)
	if err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithCancel(t.Context())
	p.x = New(ctx, p.plan, Machines{Here: nil}, folder, memory.Recall(p.root), nil)
	settled := make(chan error)
	go func() { settled <- p.x.Run() }()
	p.await(t, "service:slow", stack.Starting, 1)
	p.await(t, "step:long", stack.Running, 1)
	cancel()
	if err := testbound.Got(t, "the launch to settle", settled); err != nil {
		t.Fatal(err)
	}
	p.x.Stop(nil)
	if got := p.states(); got != "slow stopped, step:long stopped, web stopped" ||
		p.x.State().Running() != 0 {
		t.Errorf("states %s", got)
	}
}

func TestStopOneAndWhatNeedsIt(t *testing.T) {
	t.Parallel()
	p := newPlay(t)
	p.native("db", stack.Lasting, 0, words("stay"))
	p.native("api", stack.Lasting, 0, words("stay"), "service:db begun")
	p.native("web", stack.Lasting, 0, words("stay"), "service:api begun")
	p.native("lone", stack.Lasting, 0, words("stay"))
	x := p.run(t, nil)
	x.Stop([]string{"api"})
	if got := p.states(); got != "api stopped, db running, lone running, web stopped" ||
		x.State().Running() != 2 {
		t.Errorf("states %s", got)
	}
}

// TestStopWhatHasNotStarted stops services while one is being waited for and the other waits.
func TestStopWhatHasNotStarted(t *testing.T) {
	t.Parallel()
	p := newPlay(t)
	ready := filepath.Join(p.root, "ready")
	p.native("slow", stack.Once, 0, words("await="+ready))
	p.native("web", stack.Lasting, 0, words("stay"), "service:slow finished")
	p.step("long", words("await="+ready), nil)
	p.native("last", stack.Lasting, 0, words("stay"), "step:long finished")
	folder, err := logs.Begin(p.root, nil)
	if err != nil {
		t.Fatal(err)
	}
	p.x = New(t.Context(), p.plan, Machines{Here: nil}, folder, memory.Recall(p.root), nil)
	settled := make(chan error)
	go func() { settled <- p.x.Run() }()
	p.await(t, "service:slow", stack.Starting, 1)
	p.await(t, "step:long", stack.Running, 1)
	p.x.Stop([]string{"web"})
	if s := p.x.at("service:web").now().State; s != stack.Stopped {
		t.Errorf("what waited is %s", s)
	}
	if err := os.WriteFile(ready, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	if err := testbound.Got(t, "the launch to settle", settled); err != nil {
		t.Fatal(err)
	}
	if got := p.states(); got != "last running, slow finished, step:long done, web stopped" {
		t.Errorf("states %s", got)
	}
	p.x.Stop(nil)
	if p.x.State().Running() != 0 {
		t.Error("something still runs")
	}
}

func TestStepsAreRemembered(t *testing.T) {
	t.Parallel()
	root := t.TempDir()
	lock := filepath.Join(root, "lock")
	made := filepath.Join(root, "made")
	write := func(text string) {
		if err := os.WriteFile(lock, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	once := func(want string) {
		t.Helper()
		p := newPlay(t)
		p.root, p.plan.Root = root, root
		p.step("install", words("touch="+made), []string{"lock"})
		s := p.plan.Steps["step:install"]
		s.Outputs = []string{"made"}
		p.plan.Steps["step:install"] = s
		p.run(t, nil)
		if got := p.states(); got != "step:install "+want {
			t.Errorf("got %s, want %s", got, want)
		}
	}
	write("1")
	once("done")
	once("unchanged")
	write("2")
	once("done")
	once("unchanged")
	if err := os.Remove(made); err != nil {
		t.Fatal(err)
	}
	once("done")
	if err := os.WriteFile(filepath.Join(root, ".nharbor", "memory.json"), []byte("{torn"),
		0o600); err != nil {
		t.Fatal(err)
	}
	once("done")
	if s := memory.Recall(root).Seconds(); len(s) != 1 {
		t.Errorf("the times that are remembered: %v", s)
	}
}

func TestLogsHideSecrets(t *testing.T) {
	t.Parallel()
	p := newPlay(t)
	p.plan.Secrets = []string{"canary-value"}
	p.native("setup", stack.Once, 0,
		words("say=the password is canary-value", "say=plain", "exit=1"))
	x := p.run(t, nil)
	if text := strings.Join(failureLines(x), " "); strings.Contains(text, "canary") {
		t.Errorf("a failure says %q", text)
	}
	lines, err := logs.Read(p.root, []string{"setup"}).Next()
	if err != nil || len(lines) != 2 || lines[0].Text != "the password is ***" ||
		lines[1].Text != "plain" || lines[0].Source != "setup" {
		t.Errorf("the log holds %+v, %v", lines, err)
	}
	if info, err := os.Stat(filepath.Join(p.root, ".nharbor", "logs", "setup.log")); err != nil ||
		info.Mode().Perm() != 0o600 {
		t.Errorf("the log's rights: %v, %v", info.Mode(), err)
	}
}

// standIn starts a stand-in engine with an image of this very program.
func standIn(t testing.TB) *engine.Engine {
	t.Helper()
	dir, err := os.MkdirTemp("", "nh")
	if err != nil {
		t.Fatal(err)
	}
	self, err := os.Executable()
	if err != nil {
		t.Fatal(err)
	}
	s, err := standin.Start(filepath.Join(dir, "s"), filepath.Join(dir, "state"),
		map[string]standin.Image{"player:1": {Files: map[string]string{"/player": self},
			Entrypoint: []string{"/player", "play"}}})
	if err != nil {
		t.Fatal(err)
	}
	e, err := engine.At(t.Context(), "unix://"+filepath.Join(dir, "s"))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		e.Close()
		s.Close()
		os.RemoveAll(dir)
	})
	return e
}

func (p *play) container(name string, kind stack.Lifetime, spec stack.ContainerSpec,
	ports []stack.Port, command []string, after ...string) {
	spec.Networks = []string{"default"}
	spec.Labels = map[string]string{engine.LabelStack: "stolen",
		"own": "label"} // a checkout can't hide its containers
	p.plan.Services[stack.ServiceNode(name)] = plan.Service{Name: name, Kind: kind,
		Runs: stack.Container, Image: "player:1", Command: command, Ports: ports, Container: &spec}
	p.after(stack.ServiceNode(name), after...)
}

func TestContainers(t *testing.T) {
	t.Parallel()
	p, e := newPlay(t), standIn(t)
	host, ready := testport.Take(t), filepath.Join(p.root, "ready")
	health := &stack.Health{Test: []string{"CMD", "/player", "play", "await=" + ready},
		Interval: 30}
	p.container("db", stack.Lasting, stack.ContainerSpec{Health: health,
		Mounts: []stack.Mount{{Type: "volume", Source: "data", Target: "/data"}}},
		nil, []string{"stay"})
	p.container("api", stack.Lasting, stack.ContainerSpec{},
		[]stack.Port{{Host: host, Target: 80, Transport: "tcp",
			Speaks: "http"}}, []string{"listen-inside=80", "stay"}, "service:db answering")
	p.native("ripen", stack.Once, 0, words("touch="+ready))
	x := p.run(t, e)
	if got := p.states(); got != "api answering, db answering, ripen finished" {
		t.Fatalf("states %s, failures %v", got, x.State().Failures())
	}
	list, err := e.List(t.Context(), map[string]string{engine.LabelStack: p.plan.ID})
	if err != nil || len(list) != 2 {
		t.Fatalf("containers %+v, %v", list, err)
	}
	for _, c := range list {
		if c.Name != "nharbor-"+p.plan.ID+"-"+c.Service || c.Labels[engine.LabelRoot] != p.root {
			t.Errorf("a container is %+v", c)
		}
	}
	services := []stack.Service{{Name: "api", Ports: p.plan.Services["service:api"].Ports}}
	record := &record.Record{Services: x.State().Services()}
	c := judge.Judging{Services: services, Record: record}.Ask(t.Context())
	if len(c.Ports) != 1 || c.Ports[0].Speaks != "http" || c.Ports[0].Title != "here" {
		t.Errorf("the check gives %+v", c)
	}
	x.Stop(nil)
	if list, _ := e.List(t.Context(),
		map[string]string{engine.LabelStack: p.plan.ID}); len(list) != 0 {
		t.Errorf("left behind: %+v", list)
	}
}

func TestContainerFailures(t *testing.T) {
	t.Parallel()
	p, e := newPlay(t), standIn(t)
	taken, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer taken.Close()
	p.container("ends", stack.Lasting, stack.ContainerSpec{}, nil, []string{"say=why", "exit=5"})
	p.container("port", stack.Lasting, stack.ContainerSpec{},
		[]stack.Port{{Host: taken.Addr().(*net.TCPAddr).Port, Target: 80, Transport: "tcp",
			Speaks: "http"}}, []string{"stay"})
	p.container("image", stack.Lasting, stack.ContainerSpec{}, nil, nil)
	s := p.plan.Services["service:image"]
	s.Image = "absent:1"
	p.plan.Services["service:image"] = s
	x := p.run(t, e)
	said := strings.Join(failureLines(x), "\n")
	for _, want := range []string{"ends: ended with code 5; it last said: why",
		"port: could not be started",
		"in use already", "image: could not be started: the image absent:1 could not be fetched"} {
		if !strings.Contains(said, want) {
			t.Errorf("%q is missing in\n%s", want, said)
		}
	}
	if list, _ := e.List(t.Context(),
		map[string]string{engine.LabelStack: p.plan.ID}); len(list) != 0 {
		t.Errorf("left behind: %+v", list)
	}
}

// BenchmarkAnswering measures the time from a native service opening its port to the state
// answering.
func BenchmarkAnswering(b *testing.B) {
	var total, worst time.Duration
	for b.Loop() {
		p := newPlay(b)
		n := testport.Take(b)
		p.native("web", stack.Lasting, n,
			words("await="+filepath.Join(p.root, "go"), fmt.Sprintf("listen=%d", n), "stay"))
		go func() {
			// so that the wait is in full swing when the port opens
			time.Sleep(50 * time.Millisecond)
			os.WriteFile(filepath.Join(p.root, "go"), nil, 0o600)
		}()
		x := p.run(b, nil)
		lines, err := logs.Read(p.root, nil).Next()
		if err != nil || len(lines) == 0 {
			b.Fatal(lines, err)
		}
		nanos, err := strconv.ParseInt(strings.TrimPrefix(lines[0].Text, "opened "), 10, 64)
		if err != nil {
			b.Fatal(err)
		}
		took := x.started.Add(x.at("service:web").now().Since).Sub(time.Unix(0, nanos))
		total += took
		worst = max(worst, took)
		x.Stop(nil)
	}
	b.ReportMetric(float64(total.Microseconds())/1000/float64(b.N), "ms-to-answering")
	b.ReportMetric(float64(worst.Microseconds())/1000, "ms-worst")
}

// failureLines are the failures of a launch, a line for each.
func failureLines(x *Executor) []string {
	out := []string{}
	for _, f := range x.State().Failures() {
		text := f.ID.Title() + ": " + f.Text
		if f.State == stack.Skipped {
			text = f.ID.Title() + ": skipped, since " + f.Text
		}
		out = append(out, text)
	}
	return out
}
