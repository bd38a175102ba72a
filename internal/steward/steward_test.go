package steward

import (
	"context"
	"encoding/json"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"nimbleharbor/internal/memory"
	"nimbleharbor/internal/record"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/testbound"
	"nimbleharbor/internal/workspace"
)

func TestRecord(t *testing.T) {
	t.Parallel()
	root := t.TempDir()
	if r, err := record.Read(root); r != nil || err != nil {
		t.Fatalf("before any launch: %v, %v", r, err)
	}
	if _, err := workspace.MakeStateDir(root); err != nil {
		t.Fatal(err)
	}
	dir, err := os.MkdirTemp("", "nh")
	if err != nil {
		t.Fatal(err)
	}
	defer os.RemoveAll(dir)
	socket := filepath.Join(dir, "s")
	l, err := net.Listen("unix", socket)
	if err != nil {
		t.Fatal(err)
	}
	r := &record.Record{PID: 1, Socket: socket, Started: time.Now(), Services: []record.Service{
		{Name: "web", Runs: stack.Native, State: stack.IsUp, Ports: []stack.Port{{Host: 8100}}},
		{Name: "gone", State: stack.Failed, Ports: []stack.Port{{Host: 8200}}},
	}}
	data, err := json.Marshal(r)
	if err != nil {
		t.Fatal(err)
	}
	if err := workspace.WriteState(root, record.Name, data); err != nil {
		t.Fatal(err)
	}
	if r, err = record.Read(root); err != nil || !r.Alive() {
		t.Fatalf("with a steward that listens: %+v, %v", r, err)
	}
	if held := r.HeldPorts(); !held[8100] || held[8200] {
		t.Errorf("held are %v", held)
	}
	merged := r.Merge([]stack.Service{{Name: "web", Runs: stack.Container,
		Ports: []stack.Port{{Host: 8000}}}, {Name: "other"}})
	if merged[0].Ports[0].Host != 8100 || merged[0].Runs != stack.Native ||
		merged[1].Name != "other" {
		t.Errorf("merged are %+v", merged)
	}
	l.Close()
	if r.Alive() || len(r.HeldPorts()) != 0 ||
		r.Merge([]stack.Service{{Name: "web"}})[0].Runs != "" {
		t.Error("a steward that is gone counts as alive")
	}
	if err := os.WriteFile(record.File(root), []byte("{torn"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := record.Read(root); err == nil ||
		stack.AllFaults(err)[0].Code != "state-unreadable" {
		t.Errorf("of a torn record: %v", err)
	}
	var none *record.Record
	if none.Alive() || none.Service("x") != nil {
		t.Error("no record counts as alive")
	}
}

func TestStopWithoutSteward(t *testing.T) {
	t.Parallel()
	root := t.TempDir()
	if was, err := StopStack(t.Context(), root, nil); was || err != nil {
		t.Errorf("where nothing was launched: %v, %v", was, err)
	}
	if _, err := workspace.MakeStateDir(root); err != nil {
		t.Fatal(err)
	}
	// The process number is that of somebody else by now: this test's own group.
	data, err := json.Marshal(&record.Record{PID: 1, Socket: "/no/such/socket",
		Services: []record.Service{{Name: "web", Runs: stack.Native, PID: os.Getpid()}}})
	if err != nil {
		t.Fatal(err)
	}
	if err := workspace.WriteState(root, record.Name, data); err != nil {
		t.Fatal(err)
	}
	if was, err := StopStack(t.Context(), root, nil); was || err != nil {
		t.Errorf("after the steward's death: %v, %v", was, err)
	}
	if r, err := record.Read(root); err != nil || !r.Ended {
		t.Errorf("the record is %+v, %v", r, err)
	}
}

func TestSocketPath(t *testing.T) {
	short, err := os.MkdirTemp("", "nh")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(short) })
	absent := filepath.Join(short, "absent")
	long := filepath.Join(t.TempDir(), strings.Repeat("long/", 30))
	for _, dir := range []string{"", long, absent} {
		t.Setenv("XDG_RUNTIME_DIR", dir) // so this test is not parallel
		p, err := record.SocketPath("0123456789")
		if err != nil || len(p) > 100 {
			t.Errorf("with %q the socket is %s, %v", dir, p, err)
		}
		info, err := os.Stat(filepath.Dir(p))
		if err != nil || info.Mode().Perm() != 0o700 {
			t.Errorf("its folder: %v, %v", info.Mode(), err)
		}
	}
	if _, err := os.Lstat(absent); err == nil {
		t.Error("a folder of the login that was not there was made")
	}
}

// TestDeaf has a steward tell its events to a command that never listens: what is told goes on, and
// once everything is over the command is let go.
func TestDeaf(t *testing.T) {
	t.Parallel()
	var mu sync.Mutex
	var events []stack.Event
	s := &steward{settled: make(chan struct{}),
		since: func(from int) ([]stack.Event, <-chan struct{}) {
			mu.Lock()
			defer mu.Unlock()
			return slices.Clone(events[from:]), nil
		}, closed: make(chan struct{}), told: make(chan struct{}), leased: make(chan struct{})}
	s.over, s.ended = context.WithCancel(t.Context())
	mine, its := net.Pipe() // which keeps nothing: what isn't read holds up who writes
	served := make(chan struct{})
	go letGo(its, s.closed, served, time.Millisecond)
	go func() {
		defer close(served)
		s.serve(its)
	}()
	if err := json.NewEncoder(mine).Encode(record.Request{Do: "follow"}); err != nil {
		t.Fatal(err)
	}
	for range 1000 {
		mu.Lock()
		events = append(events, stack.Event{ID: "service:quay", State: stack.Starting})
		mu.Unlock()
	}
	s.ended()
	close(s.closed)
	testbound.Got(t, "the follower to be let go", served)
}

// TestResetWithoutEngine throws away what steps have made in files, and nothing outside of the
// workspace.
func TestResetWithoutEngine(t *testing.T) {
	root, outside := t.TempDir(), filepath.Join(t.TempDir(), "kept.db")
	t.Setenv("DOCKER_HOST", "unix://"+filepath.Join(root, "no-engine"))
	inside := filepath.Join(root, "db", "tides.sqlite3")
	if err := os.MkdirAll(filepath.Dir(inside), 0o755); err != nil {
		t.Fatal(err)
	}
	for _, f := range []string{inside, outside} {
		if err := os.WriteFile(f, []byte("x"), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	step := &memory.Work{ID: "seed:.", Role: stack.Seed, Command: []string{"x"}}
	remember := func() {
		m := memory.Recall(root)
		m.Remember(step, memory.Digest(root, step, ""), []string{inside, outside})
		data := []byte(`{"ended": true, "services": [{"name": "api", "runs": "native"}]}`)
		if err := workspace.WriteState(root, record.Name, data); err != nil {
			t.Fatal(err)
		}
	}
	exists := func(file string) bool {
		_, err := os.Stat(file)
		return err == nil
	}
	remember()
	gone, err := Reset(t.Context(), root, false)
	if err != nil || gone.Stopped || len(gone.Files) > 0 || !exists(inside) {
		t.Errorf("without the data: %+v, %v", gone, err)
	}
	if m := memory.Recall(root); m.Done(step, memory.Digest(root, step, "")) {
		t.Error("the seed is still done")
	}
	remember()
	gone, err = Reset(t.Context(), root, true)
	if err != nil || strings.Join(gone.Files, " ") != "db/tides.sqlite3" || exists(inside) ||
		!exists(outside) {
		t.Errorf("with the data: %+v, %v; outside of the workspace is left %v", gone, err,
			exists(outside))
	}
	if err := workspace.WriteState(root, record.Name,
		[]byte(`{"ended": true, "services": [{"name": "db", "runs": "container"}]}`)); err != nil {
		t.Fatal(err)
	}
	if _, err := Reset(t.Context(), root, true); err == nil {
		t.Error("of volumes that can't be reached nothing is said")
	}
	for name, put := range map[string]func() error{
		"broken": func() error { return workspace.WriteState(root, record.Name, []byte("{")) },
		"forged": func() error {
			return os.WriteFile(record.File(root), []byte(`{"ended": true}`), 0o600)
		},
	} { // it is not believed and goes; what the engine may have of the stack must be asked for then
		if err := put(); err != nil {
			t.Fatal(err)
		}
		_, err := Reset(t.Context(), root, true)
		if err == nil || !strings.Contains(err.Error(), "no container engine answers at") ||
			exists(record.File(root)) {
			t.Errorf("with a %s state: %v; it is still there: %v", name, err,
				exists(record.File(root)))
		}
	}
}
