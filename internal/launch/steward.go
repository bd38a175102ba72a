package launch

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/signal"
	"path/filepath"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/gofrs/flock"

	"nimbleharbor/internal/engine"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/workspace"
)

// Request is one line that a command sends to the steward.
type Request struct {
	Do       string   `json:"do"`    // "follow", "stop", "restart" or "kill"
	Lease    bool     `json:"lease"` // with follow: when the connection ends, everything is stopped
	Services []string `json:"services,omitempty"`
	Plan     *Plan    `json:"plan,omitempty"` // with restart: how the files say it now
}

// Message is one line that the steward sends.
type Message struct {
	Event   *stack.Event `json:"event,omitempty"`
	Settled *Settled     `json:"settled,omitempty"` // every node has reached a state that lasts
	Stopped bool         `json:"stopped,omitempty"` // what was asked to stop has stopped
	Error   *stack.Fault `json:"error,omitempty"`
	Ready   string       `json:"ready,omitempty"` // the socket
	Record  *Record      `json:"record,omitempty"`
}

// Settled tells how a launch has gone.
type Settled struct {
	Outcome  string                `json:"outcome"`
	Seconds  float64               `json:"seconds"`
	Services []stack.ServiceResult `json:"services"`
	Failures []string              `json:"failures"`
}

// leaseTime is how long a steward in the foreground waits for its command to connect.
const leaseTime = 15 * time.Second

// RunSteward is the work of the steward process: it reads the plan, executes it, and answers on its
// socket until everything has been stopped. It tells over out that it is ready, or why it can't be.
func RunSteward(in io.Reader, out io.Writer, keeperWords []string) error {
	var plan Plan
	if err := json.NewDecoder(in).Decode(&plan); err != nil {
		return fmt.Errorf("reading the plan: %w", err)
	}
	s, err := newSteward(&plan, keeperWords)
	if err != nil {
		json.NewEncoder(out).Encode(Message{Error: stack.AllFaults(err)[0]})
		return err
	}
	if err := json.NewEncoder(out).Encode(Message{Ready: s.record.Socket}); err != nil {
		s.halt()
	}
	return s.work()
}

type steward struct {
	plan     *Plan
	exec     *Executor
	engine   *engine.Engine
	keeper   *Keeper
	lock     *flock.Flock
	listener net.Listener
	ctx      context.Context // of starting things
	halt     context.CancelFunc

	settled atomic.Pointer[Settled]
	over    chan struct{} // everything has been stopped
	closed  chan struct{} // and the record of it is written: nothing touches the workspace any more
	told    chan struct{} // somebody knows how the launch has gone
	tell    sync.Once
	clients sync.WaitGroup
	stopAll sync.Once

	restarting sync.Mutex
	changing   atomic.Int32 // restarts under way: nothing may run for a moment

	mu     sync.Mutex
	record Record
}

func newSteward(plan *Plan, keeperWords []string) (*steward, error) {
	dir, err := workspace.MakeStateDir(plan.Root)
	if err != nil {
		return nil, &stack.Fault{Kind: stack.Unreadable, Code: "state-unwritable", At: stack.Place{File: plan.Root},
			Text:   "the workspace's state can't be written: " + err.Error(),
			Remedy: "Check the folder's rights and the free space.", Cause: err}
	}
	s := &steward{plan: plan, over: make(chan struct{}), closed: make(chan struct{}), told: make(chan struct{}),
		lock: flock.New(filepath.Join(dir, "steward.lock"))}
	if got, err := s.lock.TryLock(); err != nil || !got {
		return nil, &stack.Fault{Kind: stack.NotSo, Code: "already-launched",
			Text:   "this workspace's stack is launched already",
			Remedy: "See how it stands with nharbor check, or stop it first: nharbor stop", Cause: err}
	}
	logs, err := NewLogs(plan.Root, plan.Secrets)
	if err != nil {
		return nil, err
	}
	address := ""
	for _, svc := range plan.Services {
		if svc.Runs != stack.Container || s.engine != nil {
			continue
		}
		e, err := engine.Connect(context.Background())
		if err != nil {
			f := &stack.Fault{Kind: stack.NotSo, Code: "engine-unavailable", Text: err.Error(), Cause: err}
			var u *engine.Unavailable
			if errors.As(err, &u) {
				f.Remedy = u.Remedy()
			}
			return nil, f
		}
		s.engine, address = e, e.Address
	}
	self, err := os.Executable()
	if err != nil {
		return nil, err
	}
	if s.keeper, err = StartKeeper(self, keeperWords, address, plan.ID); err != nil {
		return nil, err
	}
	socket, err := socketPath(plan.ID)
	if err != nil {
		return nil, err
	}
	os.Remove(socket) // one that a dead steward left behind; the lock says that none is alive
	if s.listener, err = net.Listen("unix", socket); err != nil {
		return nil, fmt.Errorf("the steward can't listen: %w", err)
	}
	if err := os.Chmod(socket, 0o600); err != nil {
		return nil, err
	}
	s.ctx, s.halt = context.WithCancel(context.Background())
	s.exec = NewExecutor(plan, s.engine, logs, Recall(plan.Root), s.keeper)
	s.record = Record{PID: os.Getpid(), Socket: socket, Started: time.Now(), Shift: plan.Shift, Options: plan.Options,
		Prints: plan.Prints}
	s.save()
	return s, nil
}

// save writes the record as it stands.
func (s *steward) save() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.record.Services = s.exec.records()
	if data, err := json.MarshalIndent(s.record, "", " "); err == nil {
		workspace.WriteFile(recordFile(s.plan.Root), data, 0o600)
	}
}

func (x *Executor) records() []RecordService {
	var out []RecordService
	for _, o := range x.plan().Order.Nodes {
		n := x.at(o.ID)
		if n.svc == nil {
			continue
		}
		n.mu.Lock()
		r := RecordService{Name: n.svc.Name, Runs: n.svc.Runs, Kind: n.svc.Kind, State: n.state, Text: n.text,
			Ports: n.svc.Ports}
		if p, ok := n.proc.(interface{ Group() int }); ok {
			r.PID = p.Group()
		}
		n.mu.Unlock()
		out = append(out, r)
	}
	return out
}

func (s *steward) work() error {
	signals := make(chan os.Signal, 4)
	signal.Notify(signals, os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
	go func() {
		for range signals {
			go s.stop()
		}
	}()
	leased := make(chan struct{})
	var once sync.Once
	go s.accept(func() { once.Do(func() { close(leased) }) })
	if !s.plan.Background {
		go func() {
			select {
			case <-leased:
			case <-time.After(leaseTime):
				s.stop()
			}
		}()
	}
	saved := make(chan struct{})
	go func() { // the record follows the events
		defer close(saved)
		for seen := 0; ; {
			events := s.exec.Events(seen, func() bool { return !s.isOver() })
			s.save()
			if len(events) == 0 {
				return
			}
			seen += len(events)
		}
	}()
	go s.run()
	<-s.over
	s.exec.Wake()
	<-saved
	s.mu.Lock()
	s.record.Ended = true
	s.mu.Unlock()
	s.save()
	s.listener.Close()
	s.keeper.Dismiss()
	if s.engine != nil {
		s.engine.Close()
	}
	err := s.lock.Unlock()
	os.Remove(filepath.Dir(s.record.Socket)) // if no other stack has its socket there
	close(s.closed)
	s.clients.Wait()
	return err
}

func (s *steward) isOver() bool {
	select {
	case <-s.over:
		return true
	default:
		return false
	}
}

// run executes the plan, and ends the steward when nothing is left that runs.
func (s *steward) run() {
	err := s.exec.Run(s.ctx)
	done := &Settled{Seconds: time.Since(s.exec.started).Seconds(), Services: s.exec.Results(),
		Failures: s.exec.Failures()}
	switch {
	case s.ctx.Err() != nil:
		done.Outcome = "stopped"
	case err != nil:
		done.Outcome = "failed"
		done.Failures = append(done.Failures, err.Error())
	case s.exec.Good():
		done.Outcome = "answering"
	default:
		done.Outcome = "failed"
	}
	s.save() // before anybody is told, who will look at the record next
	s.settled.Store(done)
	s.exec.Wake()
	go func() {
		select { // even a stack that ends at once is told to the command that launched it
		case <-s.told:
		case <-time.After(leaseTime):
		}
		alive := func() bool { return s.exec.Running() > 0 || s.changing.Load() > 0 }
		for seen := 0; alive() && !s.isOver(); {
			seen += len(s.exec.Events(seen, func() bool { return !s.isOver() && alive() }))
		}
		s.stop()
	}()
}

// stop stops everything, in reverse order, and then the steward.
func (s *steward) stop() {
	s.stopAll.Do(func() {
		s.halt()
		for s.settled.Load() == nil { // nothing is being started any more when it has settled
			s.exec.Events(len(s.exec.Events(0, func() bool { return false })),
				func() bool { return s.settled.Load() == nil })
		}
		s.exec.Stop(nil)
		if s.engine != nil {
			ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
			defer cancel()
			// none is left, unless the engine has made one late; then the networks
			RemoveContainers(ctx, s.engine, s.plan.ID)
		}
		close(s.over)
	})
	<-s.over
}

func (s *steward) accept(leased func()) {
	for {
		c, err := s.listener.Accept()
		if err != nil {
			return
		}
		s.clients.Go(func() {
			defer c.Close()
			s.serve(c, leased)
		})
	}
}

func (s *steward) serve(c net.Conn, leased func()) {
	lines := bufio.NewScanner(c)
	lines.Buffer(nil, maxRequest)
	out := json.NewEncoder(c)
	c.SetReadDeadline(time.Now().Add(10 * time.Second))
	var req Request
	if !lines.Scan() || json.Unmarshal(lines.Bytes(), &req) != nil {
		return
	}
	c.SetReadDeadline(time.Time{})
	switch req.Do {
	case "stop":
		if len(req.Services) == 0 {
			s.stop()
			<-s.closed
		} else {
			s.exec.Stop(req.Services)
			s.save() // whoever asked will look at the record next
		}
		out.Encode(Message{Stopped: true})
	case "restart":
		if req.Plan != nil {
			s.restart(out, &req)
		}
	case "record":
		s.mu.Lock()
		now := s.record
		s.mu.Unlock()
		now.Services = s.exec.records()
		out.Encode(Message{Record: &now})
	case "follow":
		var gone atomic.Bool
		if req.Lease {
			leased()
		}
		go func() {
			for lines.Scan() { // further requests on the same connection
				var more Request
				if json.Unmarshal(lines.Bytes(), &more) != nil {
					continue
				}
				go s.stop()
				if more.Do == "kill" {
					s.exec.Kill()
				}
			}
			gone.Store(true)
			s.exec.Wake()
			if req.Lease {
				s.stop()
			}
		}()
		s.follow(out, &gone)
		c.SetReadDeadline(time.Unix(1, 0))
	}
}

// maxRequest is how long a request may be: a restart brings a plan.
const maxRequest = 64 << 20

// restart restarts services by a new plan, and tells what happens meanwhile.
func (s *steward) restart(out *json.Encoder, req *Request) {
	s.restarting.Lock()
	defer s.restarting.Unlock()
	seen := len(s.exec.Events(0, func() bool { return false }))
	begin := time.Now()
	var err error
	done := make(chan struct{})
	go func() {
		defer close(done)
		s.changing.Add(1)
		defer s.changing.Add(-1)
		err = s.exec.Restart(req.Plan, req.Services)
		s.exec.Wake()
	}()
	going := func() bool {
		select {
		case <-done:
			return false
		default:
			return !s.isOver()
		}
	}
	for {
		events := s.exec.Events(seen, going)
		for i := range events {
			out.Encode(Message{Event: &events[i]})
		}
		if seen += len(events); len(events) == 0 && !going() {
			break
		}
	}
	if err != nil {
		out.Encode(Message{Error: stack.AllFaults(err)[0]})
		return
	}
	result := &Settled{Outcome: "answering", Seconds: time.Since(begin).Seconds(), Services: s.exec.Results(),
		Failures: s.exec.Failures()}
	if !s.exec.GoodOrStopped() {
		result.Outcome = "failed"
	}
	s.mu.Lock()
	s.record.Prints = req.Plan.Prints
	s.mu.Unlock()
	s.save()
	out.Encode(Message{Settled: result})
}

// follow sends all events there are and that come, until everything has stopped or the client is gone.
func (s *steward) follow(out *json.Encoder, gone *atomic.Bool) {
	told := false
	for seen := 0; ; {
		events := s.exec.Events(seen,
			func() bool { return !gone.Load() && !s.isOver() && (told || s.settled.Load() == nil) })
		for i := range events {
			if out.Encode(Message{Event: &events[i]}) != nil {
				return
			}
		}
		seen += len(events)
		if done := s.settled.Load(); done != nil && !told && len(events) == 0 {
			told = true
			s.tell.Do(func() { close(s.told) })
			if out.Encode(Message{Settled: done}) != nil {
				return
			}
			continue
		}
		if len(events) == 0 && (gone.Load() || s.isOver()) {
			if s.isOver() {
				<-s.closed
				out.Encode(Message{Stopped: true})
			}
			return
		}
	}
}
