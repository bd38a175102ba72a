package supervise

import (
	"context"
	"encoding/json"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

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
		Ports: []stack.Port{{Host: 8000}}},
		{Name: "other"}})
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

func TestKeeperReadsWhatItIsTold(t *testing.T) {
	t.Parallel()
	p := newPlay(t)
	p.native("kept", stack.Lasting, 0, words("stay"))
	p.native("released", stack.Lasting, 0, words("stay"))
	x := p.run(t, nil)
	group := func(name string) string {
		for _, r := range x.records() {
			if r.Name == name {
				data, _ := json.Marshal(r.PID)
				return string(data)
			}
		}
		return ""
	}
	Keep(strings.NewReader("hold " + group("kept") + "\nhold " + group("released") + "\nrelease " +
		group("released") + "\nhold 0\nhold 1\nhold x\nnonsense\n"))
	x.at("service:kept").over()
	if s := x.at("service:kept").now().State; s != stack.Failed {
		t.Errorf("what was held is %s", s)
	}
	if s := x.at("service:released").now().State; s != stack.Running {
		t.Errorf("what was released is %s", s)
	}
	Keep(strings.NewReader("hold " + group("released") + "\ndismiss\n"))
	if s := x.at("service:released").now().State; s != stack.Running {
		t.Errorf("after the dismissal it is %s", s)
	}
}

func TestRemoveContainers(t *testing.T) {
	t.Parallel()
	p, e := newPlay(t), standIn(t)
	p.container("one", stack.Lasting, stack.ContainerSpec{}, nil, []string{"stay"})
	x := p.run(t, e)
	if err := RemoveContainers(context.Background(), e, p.plan.ID); err != nil {
		t.Fatal(err)
	}
	x.at("service:one").over()
	if l := x.at("service:one").now(); l.State != stack.Failed ||
		!strings.Contains(l.Text, "ended by itself") &&
			!strings.Contains(l.Text, "removed") {
		t.Errorf("a service whose container was taken away is %s: %s", l.State, l.Text)
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
	s := &steward{exec: &Executor{journal: newJournal(), started: time.Now()},
		settled: make(chan struct{}),
		closed:  make(chan struct{}), told: make(chan struct{}), leased: make(chan struct{})}
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
		s.exec.journal.mu.Lock()
		s.exec.journal.add(stack.Event{ID: "service:quay", State: stack.Starting})
		s.exec.journal.mu.Unlock()
	}
	s.ended()
	close(s.closed)
	testbound.Got(t, "the follower to be let go", served)
}
