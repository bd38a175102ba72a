// Package steward is the process in the background that owns a launched stack. A steward holds the
// executor of the plan and answers commands on a socket of its own; a keeper beside it ends
// everything if it dies. The record.Record in the workspace's state tells other commands of all
// that; here is also how they start one, follow, restart, stop and reset its stack.
//
// Faults have the codes already-launched, state-unwritable, state-unreadable and steward-gone.
package steward

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"os"
	"os/signal"
	"path/filepath"
	"sync"
	"syscall"
	"time"

	"github.com/gofrs/flock"

	"nimbleharbor/internal/engine"
	"nimbleharbor/internal/engines"
	"nimbleharbor/internal/execute"
	"nimbleharbor/internal/keeper"
	"nimbleharbor/internal/logs"
	"nimbleharbor/internal/memory"
	"nimbleharbor/internal/plan"
	"nimbleharbor/internal/reading"
	"nimbleharbor/internal/record"
	"nimbleharbor/internal/run"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/workspace"
)

// leaseTime is how long a steward in the foreground waits for its command to connect.
const leaseTime = 15 * time.Second

// RunSteward is the work of the steward process: it reads the plan, executes it, and answers on its
// socket until everything has been stopped. It tells over out that it is ready, or why it can't be.
func RunSteward(in io.Reader, out io.Writer, keeperWords []string) error {
	var plan plan.Plan
	if err := json.NewDecoder(in).Decode(&plan); err != nil {
		return fmt.Errorf("reading the plan: %w", err)
	}
	s, err := newSteward(&plan, keeperWords)
	if err != nil {
		json.NewEncoder(out).Encode(record.Message{Error: stack.AllFaults(err)[0]})
		return err
	}
	if err := json.NewEncoder(out).Encode(record.Message{Ready: s.record.Socket}); err != nil {
		s.halt()
	}
	return s.work()
}

// steward owns one launched stack, from its plan until everything has been stopped.
//
// Its life: run executes the plan and closes settled; stop, by whomever it is called first, ends
// the starting, stops all and ends over; then work writes the last record, closes closed, and
// returns when every client has been answered.
type steward struct {
	plan     *plan.Plan
	exec     *execute.Executor
	since    func(from int) (events []stack.Event, more <-chan struct{}) // what has happened
	engine   *engine.Engine
	others   map[string]*engine.Engine // by their contexts
	keeper   *keeper.Keeper
	lock     *flock.Flock
	listener net.Listener
	halt     context.CancelFunc // of starting things
	starting context.Context    // ends with halt

	settled chan struct{} // closed when the launch has settled; done tells how
	done    record.Settled
	over    context.Context // ends when everything has been stopped
	ended   context.CancelFunc
	closed  chan struct{} // and the record of it is written: nothing touches the workspace any more
	told    chan struct{} // somebody knows how the launch has gone
	tell    sync.Once
	leased  chan struct{} // the command that holds the lease has connected
	lease   sync.Once
	clients sync.WaitGroup
	stopAll sync.Once
	left    []int // process groups that could not be ended; known once over has ended

	restarting sync.Mutex // held by a restart: nothing may run for a moment

	last map[stack.NodeID]float64 // the seconds that nodes took before this launch

	mu     sync.Mutex
	record record.Record
}

func newSteward(plan *plan.Plan, keeperWords []string) (*steward, error) {
	dir, err := workspace.MakeStateDir(plan.Root)
	if err != nil {
		return nil, &stack.Fault{Kind: stack.Unreadable, Code: stack.CodeStateUnwritable,
			At:     stack.Place{File: plan.Root},
			Text:   "the workspace's state can't be written: " + err.Error(),
			Remedy: "Check the folder's rights and the free space.", Cause: err}
	}
	s := &steward{
		plan:    plan,
		settled: make(chan struct{}),
		closed:  make(chan struct{}),
		told:    make(chan struct{}),
		leased:  make(chan struct{}),
		lock: flock.New(filepath.Join(dir, "steward.lock"),
			flock.SetFlag(os.O_CREATE|os.O_RDWR|reading.NoFollow)),
	}
	s.over, s.ended = context.WithCancel(context.Background())
	if got, err := s.lock.TryLock(); err != nil || !got {
		return nil, &stack.Fault{Kind: stack.NotSo, Code: stack.CodeAlreadyLaunched,
			Text: "this workspace's stack is launched already",
			Remedy: "See how it stands with nharbor check, or stop it first: nharbor " +
				"stop", Cause: err}
	}
	folder, err := logs.Begin(plan.Root, plan.Secrets)
	if err != nil {
		return nil, err
	}
	addresses, err := s.reach(plan)
	if err != nil {
		return nil, err
	}
	self, err := os.Executable()
	if err != nil {
		return nil, err
	}
	if s.keeper, err = keeper.Start(self, keeperWords, addresses, plan.ID); err != nil {
		return nil, err
	}
	run.Adopt()
	keeper.NoteSteward(plan.ID, s.keeper)
	socket, err := record.SocketPath(plan.ID)
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
	s.starting, s.halt = context.WithCancel(context.Background())
	remembers := memory.Recall(plan.Root)
	s.last = remembers.Seconds()
	s.exec = execute.New(s.starting, plan, execute.Machines{Here: s.engine, Others: s.others},
		folder, remembers, s.keeper)
	s.since = s.exec.Since
	s.record = record.Record{
		PID:     os.Getpid(),
		ID:      plan.ID,
		Root:    plan.Root,
		Socket:  socket,
		Started: time.Now(),
		Shift:   plan.Shift,
		Options: plan.Options,
		Prints:  plan.Prints,
	}
	s.save()
	s.saveLaunch()
	return s, nil
}

// reach connects to the engines that the plan's containers run on, and tells their addresses.
func (s *steward) reach(plan *plan.Plan) (addresses []string, err error) {
	s.others = map[string]*engine.Engine{}
	for _, svc := range plan.Services {
		name := plan.Options.On[svc.Name]
		if svc.Runs != stack.Container || name == "" && s.engine != nil || s.others[name] != nil {
			continue
		}
		e, err := engines.On(context.Background(), name)
		if err != nil {
			return nil, err
		}
		if addresses = append(addresses, e.Address); name == "" {
			s.engine = e
		} else {
			s.others[name] = e
		}
	}
	return addresses, nil
}

// save writes the record as it stands.
func (s *steward) save() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.record.Services, s.record.Steps = s.exec.State().Services(), s.exec.State().Steps()
	if data, err := json.MarshalIndent(s.record, "", " "); err == nil {
		workspace.WriteState(s.plan.Root, record.Name, data)
	}
}

// work is the steward's life.
func (s *steward) work() error {
	signals := make(chan os.Signal, 4)
	signal.Notify(signals, os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
	go func() {
		for range signals {
			go s.stop()
		}
	}()
	go s.accept()
	go keeper.TakeIn(s.keeper, s.over.Done())
	if !s.plan.Background {
		go func() {
			select {
			case <-s.leased:
			case <-time.After(leaseTime):
				s.stop()
			}
		}()
	}
	saved := make(chan struct{})
	go func() { // the record follows the events
		defer close(saved)
		s.keepRecord()
	}()
	go s.run()
	<-s.over.Done()
	<-saved
	s.mu.Lock()
	s.record.Ended = true
	s.mu.Unlock()
	s.save()
	s.listener.Close()
	s.keeper.Dismiss()
	for _, e := range s.exec.Engines() {
		e.Close()
	}
	err := s.lock.Unlock()
	os.Remove(filepath.Dir(s.record.Socket)) // if no other stack has its socket there
	close(s.closed)
	s.clients.Wait()
	return err
}

// keepRecord writes the record whenever something has changed, until everything has been stopped.
// Changes that come at once are written once.
func (s *steward) keepRecord() {
	for seen := 0; ; {
		events, more := s.since(seen)
		if seen += len(events); len(events) > 0 {
			s.save()
			continue
		}
		select {
		case <-more:
		case <-s.over.Done():
			s.save()
			s.saveLaunch()
			return
		}
	}
}

// run executes the plan, and ends the steward when nothing is left that runs.
func (s *steward) run() {
	err := s.exec.Run()
	done := record.Settled{Seconds: time.Since(s.exec.Started()).Seconds(),
		Services: s.exec.State().Results(), Failures: s.exec.State().Failures()}
	switch {
	case s.starting.Err() != nil:
		done.Outcome = stack.WasStopped
	case err != nil:
		done.Outcome = stack.SomeFailed
		done.Failures = append(done.Failures, stack.Failure{State: stack.Failed, Text: err.Error()})
	case s.exec.State().Good():
		done.Outcome = stack.AllAnswer
	default:
		done.Outcome = stack.SomeFailed
	}
	done.Running = s.exec.State().Running()
	s.save() // before anybody is told, who will look at the record next
	s.done = done
	close(s.settled)
	s.saveLaunch()
	go func() {
		select { // even a stack that ends at once is told to the command that launched it
		case <-s.told:
		case <-time.After(leaseTime):
		}
		for s.over.Err() == nil {
			s.exec.Idle(s.over)
			s.restarting.Lock() // a restart under way may start something again
			running := s.exec.State().Running()
			s.restarting.Unlock()
			if running == 0 {
				break
			}
		}
		s.stop()
	}()
}

// stop stops everything, in reverse order, and then the steward.
func (s *steward) stop() {
	s.stopAll.Do(func() {
		s.halt()
		<-s.settled // nothing is being started any more then
		s.exec.Stop(nil)
		s.left = keeper.AskMarked(s.plan.ID, "", execute.Grace) // what steps have started, too
		for _, e := range s.exec.Engines() {
			ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
			// none is left, unless the engine has made one late; then the networks
			keeper.RemoveContainers(ctx, e, s.plan.ID)
			cancel()
		}
		s.ended()
	})
	<-s.over.Done()
}

func (s *steward) accept() {
	for {
		c, err := s.listener.Accept()
		if err != nil {
			return
		}
		s.clients.Go(func() {
			defer c.Close()
			served := make(chan struct{})
			defer close(served)
			go letGo(c, s.closed, served, deafFor)
			s.serve(c)
		})
	}
}

// deafFor is how long a command that doesn't hear what it is told is waited for, once everything is
// over.
const deafFor = 5 * time.Second

// letGo ends a connection that is still served so long after everything is over: a command that was
// stopped by a signal, or whose terminal takes nothing, holds nobody back. It ends once the command
// is served.
func letGo(c net.Conn, closed, served <-chan struct{}, after time.Duration) {
	select {
	case <-closed:
	case <-served:
		return
	}
	select {
	case <-time.After(after):
		c.SetDeadline(time.Unix(1, 0))
	case <-served:
	}
}

// serve answers one command, which sends one request, and with follow more on the same connection.
func (s *steward) serve(c net.Conn) {
	lines := bufio.NewScanner(c)
	lines.Buffer(nil, maxRequest)
	out := json.NewEncoder(c)
	c.SetReadDeadline(time.Now().Add(10 * time.Second))
	var req record.Request
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
		out.Encode(record.Message{Stopped: true, Left: s.left})
	case "restart":
		if req.Plan != nil {
			s.restart(out, &req)
		}
	case "record":
		s.mu.Lock()
		now := s.record
		s.mu.Unlock()
		now.Services, now.Steps = s.exec.State().Services(), s.exec.State().Steps()
		out.Encode(record.Message{Record: &now})
	case "launch":
		out.Encode(record.Message{Launch: s.launchNow()})
	case "mask":
		for i, text := range req.Texts {
			req.Texts[i] = s.exec.Masked(text)
		}
		out.Encode(record.Message{Texts: req.Texts})
	case "follow":
		here, gone := context.WithCancel(s.over)
		defer gone()
		if req.Lease {
			s.lease.Do(func() { close(s.leased) })
		}
		go func() {
			s.hear(lines)
			gone()
			if req.Lease {
				s.stop()
			}
		}()
		s.follow(here, out)
		c.SetReadDeadline(time.Unix(1, 0))
	}
}

// hear takes further requests of somebody who follows, until the connection ends: to stop, and to
// kill.
func (s *steward) hear(lines *bufio.Scanner) {
	for lines.Scan() {
		var more record.Request
		if json.Unmarshal(lines.Bytes(), &more) != nil {
			continue
		}
		go s.stop()
		if more.Do == "kill" {
			s.exec.Kill()
		}
	}
}

// maxRequest is how long a request may be, in bytes: a restart brings a plan.
const maxRequest = 64 << 20

// restart restarts services by a new plan, and tells what happens meanwhile.
func (s *steward) restart(out *json.Encoder, req *record.Request) {
	s.restarting.Lock()
	defer s.restarting.Unlock()
	begin := time.Now()
	working, worked := context.WithCancel(s.over)
	defer worked()
	events := s.exec.Events(working, true)
	var err error
	go func() {
		defer worked()
		err = s.exec.Restart(req.Plan, req.Services)
	}()
	for e := range events {
		out.Encode(record.Message{Event: &e})
	}
	if s.over.Err() != nil {
		return
	}
	if err != nil {
		out.Encode(record.Message{Error: stack.AllFaults(err)[0]})
		return
	}
	result := &record.Settled{Outcome: stack.AllAnswer, Seconds: time.Since(begin).Seconds(),
		Services: s.exec.State().Results(),
		Failures: s.exec.State().Failures(), Running: s.exec.State().Running()}
	if !s.exec.State().GoodOrStopped() {
		result.Outcome = stack.SomeFailed
	}
	s.mu.Lock()
	s.record.Prints = req.Plan.Prints
	s.mu.Unlock()
	s.save()
	out.Encode(record.Message{Settled: result})
}

// follow sends all events there are and that come, and once how the launch has gone, until
// everything has stopped or the client is gone, which ends here.
func (s *steward) follow(here context.Context, out *json.Encoder) {
	settled, due := s.settled, false
	for seen := 0; ; {
		events, more := s.since(seen)
		for i := range events {
			// a client that is gone ends here by itself
			out.Encode(record.Message{Event: &events[i]})
		}
		if seen += len(events); len(events) > 0 {
			continue
		}
		if due {
			due = false
			s.tell.Do(func() { close(s.told) })
			out.Encode(record.Message{Settled: &s.done})
			continue
		}
		select {
		case <-settled:
			settled, due = nil, true
			continue
		default:
		}
		select {
		case <-more:
		case <-settled:
			settled, due = nil, true
		case <-here.Done():
			if events, _ := s.since(seen); len(events) > 0 {
				continue
			}
			select {
			case <-settled: // both at once
				settled, due = nil, true
				continue
			default:
			}
			if s.over.Err() != nil {
				<-s.closed
				out.Encode(record.Message{Stopped: true})
			}
			return
		}
	}
}
