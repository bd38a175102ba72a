package execute

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"nimbleharbor/internal/keeper"
	"nimbleharbor/internal/logs"
	"nimbleharbor/internal/memory"
	"nimbleharbor/internal/order"
	"nimbleharbor/internal/plan"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/testport"
)

// change alters a service of the plan.
func (p *play) change(name string, f func(*plan.Service)) {
	s := p.plan.Services[stack.ServiceNode(name)]
	f(&s)
	p.plan.Services[stack.ServiceNode(name)] = s
}

// await waits until a node has been in the state that many times.
func (p *play) await(t *testing.T, id stack.NodeID, s stack.State, times int) {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), 3*time.Minute)
	defer cancel()
	for e := range p.x.Events(ctx, false) {
		if e.ID == id && e.State == s && times > 0 {
			if times--; times == 0 {
				cancel()
			}
		}
	}
	if times > 0 {
		t.Fatalf("%s was not %s often enough; events %+v", id, s, p.x.Past())
	}
}

func TestStartsAgain(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		rule   func(*plan.Service)
		words  []string
		starts int
		ends   string
	}{
		"a failure that passes": {func(s *plan.Service) { s.Restarts.Restart = true },
			[]string{"first=was", "stay"}, 2, "x running"},
		"given up in the end": {func(s *plan.Service) {
			s.Restarts.Restart,
				s.Restarts.RestartTimes = true, 2
		}, []string{"exit=3"}, 3, "x failed"},
		"only after a failure": {func(s *plan.Service) {
			s.Restarts.Restart, s.Restarts.RestartOnFailure = true,
				true
		}, []string{"exit=0"}, 1, "x failed"},
		"not where nothing declares": {func(*plan.Service) {}, []string{"exit=3"}, 1, "x failed"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			p := newPlay(t)
			list := c.words
			if list[0] == "first=was" {
				list[0] = "first=" + filepath.Join(p.root, "was")
			}
			p.native("x", stack.Lasting, 0, words(list...))
			p.change("x", c.rule)
			p.run(t, nil)
			if strings.HasSuffix(c.ends,
				"failed") { // one that ends well may have been up for a moment
				p.await(t, "service:x", stack.Failed, 1)
			}
			starts := 0
			for _, e := range p.x.Past() {
				if e.State == stack.Starting && e.Text == "" {
					starts++
				}
			}
			if got := p.states(); got != c.ends || starts != c.starts {
				t.Errorf("%s after %d starts, want %s after %d", got, starts, c.ends, c.starts)
			}
		})
	}
}

// TestStoppedBetweenStarts stops a service while it waits to be started again.
func TestStoppedBetweenStarts(t *testing.T) {
	t.Parallel()
	p := newPlay(t)
	port := testport.Take(t)
	p.native("x", stack.Lasting, port,
		words(fmt.Sprintf("listen=%d", port), "await="+filepath.Join(p.root, "go"), "exit=4"))
	p.change("x", func(s *plan.Service) { s.Restarts.Restart = true })
	p.run(t, nil)
	if err := os.WriteFile(filepath.Join(p.root, "go"), nil, 0o600); err != nil {
		t.Fatal(err)
	}
	p.await(t, "service:x", stack.Starting,
		2) // the first start, and that it starts again after a pause
	p.x.Stop(nil)
	if got := p.states(); got != "x stopped" {
		t.Errorf("it is %s", got)
	}
	if n := p.x.State().Running(); n != 0 {
		t.Errorf("%d run", n)
	}
}

func TestHalt(t *testing.T) {
	t.Parallel()
	p := newPlay(t)
	p.plan.Halt = true
	slow, gate := testport.Take(t), filepath.Join(p.root, "gate")
	p.native("bad", stack.Lasting, 0, words("exit=1"))
	p.native("up", stack.Lasting, slow,
		words("await="+gate, fmt.Sprintf("listen=%d", slow), "stay"))
	p.native("late", stack.Lasting, 0, words("stay"), "service:up answering")
	go func() {
		p.awaitExecutor()
		p.await(t, "service:late", stack.Stopped, 1)
		os.WriteFile(gate, nil, 0o600)
	}()
	p.run(t, nil)
	if got := p.states(); got != "bad failed, late stopped, up answering" {
		t.Errorf("with halt: %s", got)
	}
}

// awaitExecutor waits until run has made the executor.
func (p *play) awaitExecutor() {
	p.ready.Wait()
}

// TestRestart takes over another plan for one service and what needs it; the others go on.
func TestRestart(t *testing.T) {
	t.Parallel()
	p := newPlay(t)
	db, api, web := testport.Take(t), testport.Take(t), testport.Take(t)
	lock := filepath.Join(p.root, "lock")
	if err := os.WriteFile(lock, []byte("1"), 0o600); err != nil {
		t.Fatal(err)
	}
	serve := func(port int) []string {
		return words("env=LEVEL", fmt.Sprintf("listen=%d", port), "stay")
	}
	p.native("db", stack.Lasting, db, serve(db))
	p.step("install", words("say=installed"), []string{"lock"})
	p.native("api", stack.Lasting, api, serve(api), "service:db answering", "step:install finished")
	p.native("web", stack.Lasting, web, serve(web), "service:api answering")
	p.native("own", stack.Lasting, 0, words("stay"), "service:api answering")
	x := p.run(t, nil)
	x.Stop([]string{"own"})
	before := x.at("service:db")

	next := *p.plan
	next.Services = map[stack.NodeID]plan.Service{}
	for id, s := range p.plan.Services {
		s.Environment = append(slices.Clone(os.Environ()), "LEVEL=high-tide-77")
		next.Services[id] = s
	}
	next.Secrets = []string{"high-tide-77"}
	if err := os.WriteFile(lock, []byte("2"), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := x.Restart(&next, []string{"api"}); err != nil {
		t.Fatal(err)
	}
	if got := p.states(); got != "api answering, db answering, own stopped, step:install done, "+
		"web answering" {
		t.Errorf("after the restart: %s", got)
	}
	if x.at("service:db") != before {
		t.Error("the database was restarted too")
	}
	lines, err := logs.Read(p.root, []string{"api", "web", "db"}).Next()
	if err != nil {
		t.Fatal(err)
	}
	said := map[string]int{}
	for _, l := range lines {
		if strings.Contains(l.Text, "high-tide") {
			t.Errorf("the log shows a secret that came with the restart: %s", l.Text)
		}
		if l.Text == "***" {
			said[l.Source]++
		}
	}
	if said["api"] != 1 || said["web"] != 1 || said["db"] != 0 {
		t.Errorf("the new setting came to %v", said)
	}
	if err := x.Restart(&next, []string{"api"}); err != nil ||
		p.when("step:install", stack.Unchanged) < 0 {
		t.Errorf("a second restart installs again: %v", err)
	}
	more := next
	more.Order.Nodes = append(slices.Clone(next.Order.Nodes),
		order.Node{ID: "service:new", Kind: "service"})
	if err := x.Restart(&more, nil); err == nil || !strings.Contains(err.Error(), "new") {
		t.Errorf("with a service that was not launched: %v", err)
	}
	x.Stop(nil)
	if n := x.State().Running(); n != 0 {
		t.Errorf("%d still run", n)
	}
}

// BenchmarkCriticalPath launches 50 services with made-up start times, in chains, and reports how
// much longer than the critical path it takes, in milliseconds.
func BenchmarkCriticalPath(b *testing.B) {
	for b.Loop() {
		p := newPlay(b)
		longest := time.Duration(0)
		finish := map[int]time.Duration{}
		for i := range 50 {
			takes := time.Duration(200+(i*37)%600) * time.Millisecond
			port := testport.Take(b)
			var after []string
			if i >= 10 {
				after = append(after, fmt.Sprintf("service:s%d answering", i-10))
			}
			finish[i] = finish[i-10] + takes
			longest = max(longest, finish[i])
			p.native(fmt.Sprintf("s%d", i), stack.Lasting, port,
				words("pause="+takes.String(), fmt.Sprintf("listen=%d", port), "stay"), after...)
		}
		begin := time.Now()
		p.run(b, nil)
		took := time.Since(begin)
		if !p.x.State().Good() {
			b.Fatal(p.x.State().Failures())
		}
		b.ReportMetric(float64((took - longest).Milliseconds()), "ms-beyond-path")
		b.ReportMetric(took.Seconds()/longest.Seconds(), "x-of-path")
		p.x.Stop(nil)
	}
}

// BenchmarkRelaunch launches a stack of ten services and twenty steps of which nothing has changed.
func BenchmarkRelaunch(b *testing.B) {
	root := b.TempDir()
	if err := os.WriteFile(filepath.Join(root, "lock"), []byte(strings.Repeat("x", 1<<20)),
		0o600); err != nil {
		b.Fatal(err)
	}
	for b.Loop() {
		p := newPlay(b)
		p.root, p.plan.Root = root, root
		for i := range 20 {
			p.step(fmt.Sprintf("install%d", i), words("say=x"), []string{"lock"})
		}
		for i := range 10 {
			port := testport.Take(b)
			p.native(fmt.Sprintf("s%d", i), stack.Lasting, port,
				words(fmt.Sprintf("listen=%d", port), "stay"),
				fmt.Sprintf("step:install%d finished", i), fmt.Sprintf("step:install%d finished",
					i+10))
		}
		p.run(b, nil)
		if !p.x.State().Good() {
			b.Fatal(p.x.State().Failures())
		}
		b.StopTimer()
		p.x.Stop(nil)
		b.StartTimer()
	}
}

// TestSeals tells a database that was made with another password, and nothing else, by sums that
// show no password.
func TestSeals(t *testing.T) {
	t.Parallel()
	service := func(image string, env ...string) *plan.Service {
		return &plan.Service{Name: "db", Image: image, Runs: stack.Container, Environment: env}
	}
	db := service("registry.example:5000/team/postgres:16", "POSTGRES_PASSWORD=canary",
		"POSTGRES_USER=office", "LEVEL=1")
	was := seal(db, "volume-1")
	if was == "" || strings.Contains(was, "canary") {
		t.Errorf("the seal is %q", was)
	}
	for name, c := range map[string]struct {
		s     *plan.Service
		store string
		same  bool
	}{
		"the same": {db, "volume-1", true},
		"another setting": {service("postgres", "POSTGRES_PASSWORD=canary", "LEVEL=2"),
			"volume-1", true},
		"another password": {service("postgres", "POSTGRES_PASSWORD=later"), "volume-1", false},
		"another volume":   {db, "volume-2", false},
		"a service that stores none": {service("saltmarsh/api", "POSTGRES_PASSWORD=canary"),
			"volume-1", false},
		"no password": {service("postgres", "POSTGRES_PASSWORD="), "volume-1", false},
	} {
		if got := seal(c.s, c.store); (got == was) != c.same {
			t.Errorf("%s: %q", name, got)
		}
	}
	root := t.TempDir()
	m := memory.Recall(root)
	m.Sealed("volume-1", was)
	m.Sealed("volume-1", "a later one")
	m.Sealed("volume-2", "")
	if again := memory.Recall(root); again.SealOf("volume-1") != was ||
		again.SealOf("volume-2") != "" {
		t.Errorf("remembered are %q and %q", again.SealOf("volume-1"), again.SealOf("volume-2"))
	}
	if data, err := os.ReadFile(filepath.Join(root, ".nharbor", "memory.json")); err != nil ||
		strings.Contains(string(data), "canary") {
		t.Errorf("the memory holds %s, %v", data, err)
	}
}

// TestShortJob starts services that end at once with code 0: where nothing says that one serves, it
// was a job.
func TestShortJob(t *testing.T) {
	t.Parallel()
	p := newPlay(t)
	p.native("sums", stack.Lasting, 0, words("say=all sums are right"))
	p.native("desk", stack.Lasting, testport.Take(t), words("say=gone"))
	p.native("after", stack.Lasting, 0, words("stay"), "service:sums answering")
	p.run(t, nil)
	if got := p.states(); got != "after running, desk failed, sums finished" {
		t.Error(got)
	}
}

func TestKeeperReadsWhatItIsTold(t *testing.T) {
	t.Parallel()
	p := newPlay(t)
	p.native("kept", stack.Lasting, 0, words("stay"))
	p.native("released", stack.Lasting, 0, words("stay"))
	x := p.run(t, nil)
	group := func(name string) string {
		for _, r := range x.State().Services() {
			if r.Name == name {
				data, _ := json.Marshal(r.PID)
				return string(data)
			}
		}
		return ""
	}
	keeper.Keep(strings.NewReader("hold " + group("kept") + "\nhold " + group("released") +
		"\nrelease " + group("released") + "\nhold 0\nhold 1\nhold x\nnonsense\n"))
	x.at("service:kept").over()
	if s := x.at("service:kept").now().State; s != stack.Failed {
		t.Errorf("what was held is %s", s)
	}
	if s := x.at("service:released").now().State; s != stack.Running {
		t.Errorf("what was released is %s", s)
	}
	keeper.Keep(strings.NewReader("hold " + group("released") + "\ndismiss\n"))
	if s := x.at("service:released").now().State; s != stack.Running {
		t.Errorf("after the dismissal it is %s", s)
	}
}

func TestRemoveContainers(t *testing.T) {
	t.Parallel()
	p, e := newPlay(t), standIn(t)
	p.container("one", stack.Lasting, stack.ContainerSpec{}, nil, []string{"stay"})
	x := p.run(t, e)
	if err := keeper.RemoveContainers(context.Background(), e, p.plan.ID); err != nil {
		t.Fatal(err)
	}
	x.at("service:one").over()
	if l := x.at("service:one").now(); l.State != stack.Failed ||
		!strings.Contains(l.Text, "ended by itself") && !strings.Contains(l.Text, "removed") {
		t.Errorf("a service whose container was taken away is %s: %s", l.State, l.Text)
	}
}
