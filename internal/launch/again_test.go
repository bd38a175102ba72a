package launch

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"nimbleharbor/internal/order"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/testport"
	"nimbleharbor/internal/workspace"
)

// change alters a service of the plan.
func (p *play) change(name string, f func(*Service)) {
	s := p.plan.Services["service:"+name]
	f(&s)
	p.plan.Services["service:"+name] = s
}

// await waits until a node has been in the state that many times.
func (p *play) await(t *testing.T, id string, s stack.State, times int) {
	t.Helper()
	end := time.Now().Add(3 * time.Minute)
	for seen := 0; ; {
		events := p.x.Events(seen, func() bool { return time.Now().Before(end) })
		if len(events) == 0 {
			t.Fatalf("%s was not %s %d times; events %+v", id, s, times, p.x.Events(0, func() bool { return false }))
		}
		for _, e := range events {
			if seen++; e.ID == id && e.State == s {
				if times--; times == 0 {
					return
				}
			}
		}
	}
}

func TestStartsAgain(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		rule   func(*Service)
		words  []string
		starts int
		ends   string
	}{
		"a failure that passes": {func(s *Service) { s.Restart = true }, []string{"first=was", "stay"},
			2, "x running"},
		"given up in the end": {func(s *Service) { s.Restart, s.RestartTimes = true, 2 }, []string{"exit=3"},
			3, "x failed"},
		"only after a failure": {func(s *Service) { s.Restart, s.RestartOnFailure = true, true },
			[]string{"exit=0"}, 1, "x failed"},
		"not where nothing declares": {func(*Service) {}, []string{"exit=3"}, 1, "x failed"},
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
			if strings.HasSuffix(c.ends, "failed") { // one that ends well may have been up for a moment
				p.await(t, "service:x", stack.Failed, 1)
			}
			starts := 0
			for _, e := range p.x.Events(0, func() bool { return false }) {
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
	p.native("x", stack.Lasting, port, words(fmt.Sprintf("listen=%d", port), "await="+filepath.Join(p.root, "go"),
		"exit=4"))
	p.change("x", func(s *Service) { s.Restart = true })
	p.run(t, nil)
	if err := os.WriteFile(filepath.Join(p.root, "go"), nil, 0o600); err != nil {
		t.Fatal(err)
	}
	p.await(t, "service:x", stack.Starting, 2) // the first start, and that it starts again after a pause
	p.x.Stop(nil)
	if got := p.states(); got != "x stopped" {
		t.Errorf("it is %s", got)
	}
	if n := p.x.Running(); n != 0 {
		t.Errorf("%d run", n)
	}
}

func TestHalt(t *testing.T) {
	t.Parallel()
	p := newPlay(t)
	p.plan.Halt = true
	slow, gate := testport.Take(t), filepath.Join(p.root, "gate")
	p.native("bad", stack.Lasting, 0, words("exit=1"))
	p.native("up", stack.Lasting, slow, words("await="+gate, fmt.Sprintf("listen=%d", slow), "stay"))
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
	serve := func(port int) []string { return words("env=LEVEL", fmt.Sprintf("listen=%d", port), "stay") }
	p.native("db", stack.Lasting, db, serve(db))
	p.step("install", words("say=installed"), []string{"lock"})
	p.native("api", stack.Lasting, api, serve(api), "service:db answering", "step:install finished")
	p.native("web", stack.Lasting, web, serve(web), "service:api answering")
	p.native("own", stack.Lasting, 0, words("stay"), "service:api answering")
	x := p.run(t, nil)
	x.Stop([]string{"own"})
	before := x.at("service:db")

	next := *p.plan
	next.Services = map[string]Service{}
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
	if got := p.states(); got != "api answering, db answering, own stopped, step:install done, web answering" {
		t.Errorf("after the restart: %s", got)
	}
	if x.at("service:db") != before {
		t.Error("the database was restarted too")
	}
	lines, err := NewLogReader(p.root, []string{"api", "web", "db"}).Next()
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
	if err := x.Restart(&next, []string{"api"}); err != nil || p.when("step:install", stack.Unchanged) < 0 {
		t.Errorf("a second restart installs again: %v", err)
	}
	more := next
	more.Order.Nodes = append(slices.Clone(next.Order.Nodes), order.Node{ID: "service:new", Kind: "service"})
	if err := x.Restart(&more, nil); err == nil || !strings.Contains(err.Error(), "new") {
		t.Errorf("with a service that was not launched: %v", err)
	}
	x.Stop(nil)
	if n := x.Running(); n != 0 {
		t.Errorf("%d still run", n)
	}
}

// TestOncePerDatabase runs what works on a database once for each, however often it is launched.
func TestOncePerDatabase(t *testing.T) {
	t.Parallel()
	root := t.TempDir()
	m := Recall(root)
	step := func(role stack.Role, env ...string) *Step {
		return &Step{Step: stack.Step{ID: string(role) + ":.", Role: role, Command: []string{"x"}}, Dir: root, Env: env}
	}
	for _, role := range []stack.Role{stack.Create, stack.Seed} {
		s := step(role)
		if m.Done(s, m.Digest(root, s, "volume a")) {
			t.Errorf("%s is done before it was", role)
		}
		m.Remember(s, m.Digest(root, s, "volume a"), nil, time.Second)
		if !m.Done(s, m.Digest(root, s, "volume a")) {
			t.Errorf("%s is forgotten", role)
		}
		if m.Done(s, m.Digest(root, s, "volume b")) {
			t.Errorf("%s is done for a volume that is new", role)
		}
		if other := step(role, "DATABASE_URL=elsewhere"); m.Done(other, m.Digest(root, other, "volume a")) {
			t.Errorf("%s is done for another database", role)
		}
		if other := step(role, "LOG_LEVEL=debug"); !m.Done(other, m.Digest(root, other, "volume a")) {
			t.Errorf("%s is done again for a setting that does not matter", role)
		}
	}
	if s := step(stack.Migrate); m.Digest(root, s, "volume a") != "" {
		t.Error("a migration of which nothing is known is remembered")
	}
	folder := filepath.Join(root, "migrations")
	if err := os.MkdirAll(folder, 0o755); err != nil {
		t.Fatal(err)
	}
	s := step(stack.Migrate)
	s.Inputs = []string{"migrations"}
	before := m.Digest(root, s, "volume a")
	if err := os.WriteFile(filepath.Join(folder, "2.sql"), []byte("alter"), 0o600); err != nil {
		t.Fatal(err)
	}
	if after := m.Digest(root, s, "volume a"); before == after {
		t.Error("a new migration makes no difference")
	}
	file := filepath.Join(root, "tides.sqlite3")
	if err := os.WriteFile(file, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	seed := step(stack.Seed)
	m.Remember(seed, m.Digest(root, seed, ""), databases(seed), time.Second)
	if again := Recall(root); !again.Done(seed, again.Digest(root, seed, "")) {
		t.Error("what was done is not on disk")
	}
	os.Remove(file)
	if m.Done(seed, m.Digest(root, seed, "")) {
		t.Error("a seed is done although its database file is gone")
	}
	if files := m.Forget(); len(files) != 1 || files[0] != file {
		t.Errorf("forgotten are the files %v", files)
	}
	if m.Done(step(stack.Create), m.Digest(root, step(stack.Create), "volume a")) || m.Seconds()["step:seed:."] != 1 {
		t.Error("a reset forgets what was done, and only that")
	}
}

// logs begins logs with a small limit in a folder of the test's own.
func logs(t testing.TB, limit int64, hidden ...string) (string, *Logs) {
	t.Helper()
	root := t.TempDir()
	l, err := NewLogs(root, hidden)
	if err != nil {
		t.Fatal(err)
	}
	l.limit = limit
	return root, l
}

func TestLogsRotate(t *testing.T) {
	t.Parallel()
	root, l := logs(t, 4000)
	log, err := l.Open("service:web")
	if err != nil {
		t.Fatal(err)
	}
	defer log.Close()
	reader, late := NewLogReader(root, nil), NewLogReader(root, nil)
	var got []string
	for i := range 200 {
		log.Line(fmt.Sprintf("line %d of those that make it grow", i))
		if i%7 == 0 {
			lines, err := reader.Next()
			if err != nil {
				t.Fatal(err)
			}
			for _, line := range lines {
				got = append(got, line.Text)
			}
		}
	}
	lines, _ := reader.Next()
	for _, line := range lines {
		got = append(got, line.Text)
	}
	for i, text := range got {
		if want := fmt.Sprintf("line %d of those that make it grow", i); text != want {
			t.Fatalf("line %d is %q", i, text)
		}
	}
	if len(got) != 200 {
		t.Errorf("who follows gets %d lines of 200", len(got))
	}
	files, _ := filepath.Glob(filepath.Join(root, workspace.StateDir, "logs", "*"))
	var size int64
	for _, f := range files {
		if info, err := os.Stat(f); err == nil {
			size += info.Size()
		}
	}
	if len(files) != 2 || size > 8000 {
		t.Errorf("%d files with %d bytes are kept", len(files), size)
	}
	if lines, err := late.Next(); err != nil || len(lines) < 50 || lines[len(lines)-1].Text != got[199] {
		t.Errorf("who comes late gets %d lines, %v", len(lines), err)
	}
}

func TestLogLines(t *testing.T) {
	t.Parallel()
	root, l := logs(t, logLimit, "pier-secret", "pier-secret-long")
	log, err := l.Open("service:web")
	if err != nil {
		t.Fatal(err)
	}
	a, b := log.Stream(), log.Stream()
	fmt.Fprint(a, "half a ")
	fmt.Fprint(b, "another\r\n\n")
	fmt.Fprint(a, "line\nthe pier-secret-long and pier-")
	fmt.Fprint(a, "secret\nno end")
	fmt.Fprint(b, strings.Repeat("x", maxLine+10)+"\n")
	a.Close()
	b.Close()
	lines, err := NewLogReader(root, nil).Next()
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, line := range lines {
		got = append(got, line.Text[:min(len(line.Text), 40)])
	}
	want := []string{"another", "", "half a line", "the *** and ***", strings.Repeat("x", 40), strings.Repeat("x", 10),
		"no end"}
	if !slices.Equal(got, want) {
		t.Errorf("got %q, want %q", got, want)
	}
	if tail := log.Tail(); len(tail) != tailLines || tail[len(tail)-1] != "no end" || log.Last() != "no end" {
		t.Errorf("the last are %.60q", tail)
	}
	if log.Close(); log.Close() != nil {
		t.Error("closing twice fails")
	}
	log.Line("after the end") // is lost, and breaks nothing
}

// BenchmarkLogs writes the logs of 50 services at once, in pieces as they come out of a pipe. What is asked is 200
// MB/s.
func BenchmarkLogs(b *testing.B) {
	_, l := logs(b, logLimit, "pier-secret-1", "pier-secret-2", "pier-secret-3")
	piece := []byte(strings.Repeat(
		"2026-11-23 12:00:00 INFO the ferry to the outer island leaves at half past nine from pier two, all aboard\n",
		300))
	const services = 50
	var all []*Log
	for i := range services {
		log, err := l.Open(fmt.Sprintf("service:s%d", i))
		if err != nil {
			b.Fatal(err)
		}
		defer log.Close()
		all = append(all, log)
	}
	b.SetBytes(int64(services * len(piece)))
	for b.Loop() {
		var wait sync.WaitGroup
		for _, log := range all {
			wait.Go(func() {
				s := log.Stream()
				s.Write(piece)
				s.Close()
			})
		}
		wait.Wait()
	}
}

// BenchmarkCriticalPath launches 50 services with made-up start times, in chains, and reports how much longer than the
// critical path it takes, in milliseconds.
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
		if !p.x.Good() {
			b.Fatal(p.x.Failures())
		}
		b.ReportMetric(float64((took - longest).Milliseconds()), "ms-beyond-path")
		b.ReportMetric(took.Seconds()/longest.Seconds(), "x-of-path")
		p.x.Stop(nil)
	}
}

// BenchmarkRelaunch launches a stack of ten services and twenty steps of which nothing has changed.
func BenchmarkRelaunch(b *testing.B) {
	root := b.TempDir()
	if err := os.WriteFile(filepath.Join(root, "lock"), []byte(strings.Repeat("x", 1<<20)), 0o600); err != nil {
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
			p.native(fmt.Sprintf("s%d", i), stack.Lasting, port, words(fmt.Sprintf("listen=%d", port), "stay"),
				fmt.Sprintf("step:install%d finished", i), fmt.Sprintf("step:install%d finished", i+10))
		}
		p.run(b, nil)
		if !p.x.Good() {
			b.Fatal(p.x.Failures())
		}
		b.StopTimer()
		p.x.Stop(nil)
		b.StartTimer()
	}
}

// TestUnmade does not wait for what a step has never left behind, and does it again when what it left is gone.
func TestUnmade(t *testing.T) {
	t.Parallel()
	root := t.TempDir()
	for _, name := range []string{"package.json", "made"} {
		if err := os.WriteFile(filepath.Join(root, name), []byte("{}"), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	m := Recall(root)
	s := &Step{Step: stack.Step{ID: "install:.", Role: stack.Install, Command: []string{"x"},
		Inputs: []string{"package.json"}, Outputs: []string{"node_modules", "made"}}, Dir: root}
	m.Remember(s, m.Digest(root, s, ""), nil, time.Second)
	if again := Recall(root); !again.Done(s, again.Digest(root, s, "")) {
		t.Error("a step that has left no folder is never done")
	}
	if err := os.Remove(filepath.Join(root, "made")); err != nil {
		t.Fatal(err)
	}
	if m.Done(s, m.Digest(root, s, "")) {
		t.Error("a step is done although what it left is gone")
	}
	m.Remember(s, m.Digest(root, s, ""), nil, time.Second)
	if !m.Done(s, m.Digest(root, s, "")) {
		t.Error("done again it is not done")
	}
}

// TestSeals tells a database that was made with another password, and nothing else, by sums that show no password.
func TestSeals(t *testing.T) {
	t.Parallel()
	service := func(image string, env ...string) *Service {
		return &Service{Service: stack.Service{Name: "db", Image: image, Runs: stack.Container}, Environment: env}
	}
	db := service("registry.example:5000/team/postgres:16", "POSTGRES_PASSWORD=canary", "POSTGRES_USER=office",
		"LEVEL=1")
	was := db.seal("volume-1")
	if was == "" || strings.Contains(was, "canary") {
		t.Errorf("the seal is %q", was)
	}
	for name, c := range map[string]struct {
		s     *Service
		store string
		same  bool
	}{
		"the same":                   {db, "volume-1", true},
		"another setting":            {service("postgres", "POSTGRES_PASSWORD=canary", "LEVEL=2"), "volume-1", true},
		"another password":           {service("postgres", "POSTGRES_PASSWORD=later"), "volume-1", false},
		"another volume":             {db, "volume-2", false},
		"a service that stores none": {service("saltmarsh/api", "POSTGRES_PASSWORD=canary"), "volume-1", false},
		"no password":                {service("postgres", "POSTGRES_PASSWORD="), "volume-1", false},
	} {
		if got := c.s.seal(c.store); (got == was) != c.same {
			t.Errorf("%s: %q", name, got)
		}
	}
	root := t.TempDir()
	m := Recall(root)
	m.sealed("volume-1", was)
	m.sealed("volume-1", "a later one")
	m.sealed("volume-2", "")
	if got := Recall(root).data.Seals; len(got) != 1 || got["volume-1"] != was {
		t.Errorf("remembered is %v", got)
	}
	if data, err := os.ReadFile(filepath.Join(root, ".nharbor", "memory.json")); err != nil ||
		strings.Contains(string(data), "canary") {
		t.Errorf("the memory holds %s, %v", data, err)
	}
}
