package launch

import (
	"context"
	"fmt"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"nimbleharbor/internal/engine"
	"nimbleharbor/internal/order"
	"nimbleharbor/internal/probe"
	"nimbleharbor/internal/run"
	"nimbleharbor/internal/stack"
)

// Patience is how long a service may take until it answers; then it is called quiet.
const Patience = 2 * time.Minute

// settling is how long a service without a port must stay up to be called running, and how long a port
// may answer with errors before that counts as its answer.
const (
	settling = time.Second
	erring   = 3 * time.Second
)

// Executor runs a plan. Make one with NewExecutor, call Run once, then Stop.
type Executor struct {
	plan    *Plan
	engine  *engine.Engine // nil if nothing runs in containers
	logs    *Logs
	memory  *Memory
	keeper  *Keeper
	started time.Time
	nodes   map[string]*node
	cores   chan struct{}

	mu     sync.Mutex
	events []stack.Event
	more   *sync.Cond
}

// node is one step or service while the plan runs. The channels close once: begun, up and finished when
// that is reached, bad when it can't be any more.
type node struct {
	id   string
	step *Step
	svc  *Service

	mu       sync.Mutex
	state    stack.State
	text     string
	since    time.Duration // of the state
	proc     run.Process
	stopping bool
	giveUp   context.CancelFunc // of starting it; nil before its turn

	imageReady chan struct{} // closed when the image is there, or imageErr says why not
	imageErr   error

	begun, up, finished, bad, over chan struct{}
	once                           [5]sync.Once
}

const (
	atBegun = iota
	atUp
	atFinished
	atBad
	atOver // nothing of it runs any more, or ever will
)

func (n *node) reach(what int) {
	ch := []chan struct{}{n.begun, n.up, n.finished, n.bad, n.over}[what]
	n.once[what].Do(func() { close(ch) })
}

func (n *node) reached(until stack.Until) <-chan struct{} {
	switch until {
	case stack.Begun:
		return n.begun
	case stack.Finished:
		return n.finished
	}
	return n.up
}

// NewExecutor prepares a plan. The engine may be nil when no service runs in a container.
func NewExecutor(plan *Plan, e *engine.Engine, logs *Logs, memory *Memory, keeper *Keeper) *Executor {
	x := &Executor{plan: plan, engine: e, logs: logs, memory: memory, keeper: keeper, started: time.Now(), nodes: map[string]*node{}, cores: make(chan struct{}, max(1, runtime.NumCPU()))}
	x.more = sync.NewCond(&x.mu)
	for _, o := range plan.Order.Nodes {
		n := &node{id: o.ID, begun: make(chan struct{}), up: make(chan struct{}), finished: make(chan struct{}), bad: make(chan struct{}), over: make(chan struct{}), imageReady: make(chan struct{})}
		if s, ok := plan.Services[o.ID]; ok {
			n.svc = &s
		} else if s, ok := plan.Steps[o.ID]; ok {
			n.step = &s
		}
		x.nodes[o.ID] = n
	}
	return x
}

// Run starts every node as soon as its own conditions hold, and returns when each has reached a state
// that lasts. Services go on running until Stop. When ctx ends, what has not started never does.
func (x *Executor) Run(ctx context.Context) error {
	if err := x.prepareEngine(ctx); err != nil {
		for _, n := range x.nodes {
			x.end(n, stack.Stopped, "not started")
		}
		return err
	}
	var wait sync.WaitGroup
	for _, o := range x.plan.Order.Nodes {
		n := x.nodes[o.ID]
		wait.Go(func() { x.node(ctx, n, o.After) })
	}
	wait.Wait()
	return nil
}

// node waits for what one node needs, then runs it until it has reached a lasting state.
func (x *Executor) node(ctx context.Context, n *node, after []order.Edge) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	n.mu.Lock()
	n.giveUp = cancel
	if n.stopping { // before its turn had come
		cancel()
	}
	n.mu.Unlock()
	x.set(n, stack.Waiting, waitingFor(after))
	if n.svc != nil && n.svc.Runs == stack.Container {
		go x.prepareImage(ctx, n)
	}
	for _, e := range after {
		other := x.nodes[e.ID]
		select {
		case <-other.reached(e.Until):
			continue
		default:
		}
		select {
		case <-other.reached(e.Until):
		case <-other.bad:
			x.end(n, stack.Skipped, order.Title(e.ID)+" failed")
			return
		case <-ctx.Done():
			x.end(n, stack.Stopped, "not started")
			return
		}
	}
	if ctx.Err() != nil {
		x.end(n, stack.Stopped, "not started")
		return
	}
	if n.step != nil {
		x.step(ctx, n)
	} else {
		x.service(ctx, n)
	}
}

func waitingFor(after []order.Edge) string {
	var names []string
	for _, e := range after {
		names = append(names, order.Title(e.ID))
	}
	if len(names) == 0 {
		return ""
	}
	return "for " + strings.Join(names, ", ")
}

// end puts a node into a state in which it does not run, and never will.
func (x *Executor) end(n *node, s stack.State, text string) {
	x.set(n, s, text)
	if s.Good() {
		n.reach(atBegun)
		n.reach(atUp)
		n.reach(atFinished)
	} else {
		n.reach(atBad)
	}
	n.reach(atOver)
}

// set records a node's state and tells everybody who follows.
func (x *Executor) set(n *node, s stack.State, text string) {
	x.mu.Lock()
	defer x.mu.Unlock()
	now := time.Since(x.started)
	n.mu.Lock()
	n.state, n.text, n.since = s, text, now
	n.mu.Unlock()
	x.events = append(x.events, stack.Event{T: float64(now.Milliseconds()) / 1000, ID: n.id, State: s, Text: text})
	x.more.Broadcast()
}

// Wake lets everybody who waits in Events look again.
func (x *Executor) Wake() {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.more.Broadcast()
}

// Events gives the events from the index on; it waits for one as long as going says so.
func (x *Executor) Events(from int, going func() bool) []stack.Event {
	x.mu.Lock()
	defer x.mu.Unlock()
	for from >= len(x.events) && going() {
		x.more.Wait()
	}
	return slices.Clone(x.events[min(from, len(x.events)):])
}

func (n *node) is() (stack.State, string) {
	n.mu.Lock()
	defer n.mu.Unlock()
	return n.state, n.text
}

// step runs a step, unless it was done before with the same inputs.
func (x *Executor) step(ctx context.Context, n *node) {
	n.reach(atBegun)
	digest := x.memory.Digest(x.plan.Root, n.step)
	if x.memory.Done(n.step, digest) {
		x.end(n, stack.Unchanged, "done before, and nothing it depends on has changed")
		return
	}
	select {
	case x.cores <- struct{}{}:
		defer func() { <-x.cores }()
	case <-ctx.Done():
		x.end(n, stack.Stopped, "not started")
		return
	}
	x.set(n, stack.Running, strings.Join(n.step.Command, " "))
	begin := time.Now()
	log, err := x.logs.Open(n.id)
	if err != nil {
		x.end(n, stack.Failed, err.Error())
		return
	}
	defer log.Close()
	env := slices.Clone(n.step.Env)
	for k, v := range n.step.Step.Env {
		env = append(env, k+"="+v)
	}
	p, err := run.StartNative(run.NativeSpec{Dir: n.step.Dir, Command: n.step.Command, Env: env}, log.Line)
	if err != nil {
		x.end(n, stack.Failed, startFailure(err))
		return
	}
	x.keeper.Hold(p.PID)
	select {
	case <-p.Done():
	case <-ctx.Done():
		p.Stop(5 * time.Second)
	}
	x.keeper.Release(p.PID)
	switch {
	case ctx.Err() != nil:
		x.end(n, stack.Stopped, "interrupted")
	case !p.Exit().OK():
		x.end(n, stack.Failed, p.Exit().String()+lastWords(log))
	default:
		// A lock file may have come into being with the step.
		x.memory.Remember(n.step, x.memory.Digest(x.plan.Root, n.step), time.Since(begin))
		x.end(n, stack.Done, fmt.Sprintf("took %.1f s", time.Since(begin).Seconds()))
	}
}

func startFailure(err error) string { return "could not be started: " + err.Error() }

func lastWords(log *Log) string {
	if last := log.Last(); last != "" {
		return "; it last said: " + last
	}
	return ""
}

// service starts a service and watches it until it is up; a goroutine goes on watching for its end.
func (x *Executor) service(ctx context.Context, n *node) {
	log, err := x.logs.Open(n.id)
	if err != nil {
		x.end(n, stack.Failed, err.Error())
		return
	}
	begin := time.Now()
	proc, err := x.start(ctx, n, log)
	if err != nil {
		log.Close()
		if ctx.Err() != nil {
			x.end(n, stack.Stopped, "interrupted")
		} else {
			x.end(n, stack.Failed, startFailure(err))
		}
		return
	}
	n.mu.Lock()
	n.proc = proc
	if ctx.Err() != nil { // whoever asked to stop it has not seen the process
		n.stopping = true
		go proc.Stop(grace)
	}
	n.mu.Unlock()
	n.reach(atBegun)
	ready := make(chan struct{})
	go func() {
		<-proc.Done()
		if native, ok := proc.(*run.Native); ok {
			x.keeper.Release(native.PID)
		}
		x.ended(n, proc.Exit(), log)
		log.Close()
	}()
	go func() {
		defer close(ready)
		watch, cancel := context.WithTimeout(ctx, Patience)
		defer cancel()
		go func() {
			select {
			case <-proc.Done():
				cancel()
			case <-watch.Done():
			}
		}()
		state, text := x.awaitUp(watch, n, proc)
		x.judge(ctx, n, state, text, begin)
	}()
	select {
	case <-ready:
	case <-n.over:
		return
	}
	select {
	case <-proc.Done():
		<-n.over // its end is being judged
	default:
	}
}

// ended judges a service whose process has ended.
func (x *Executor) ended(n *node, exit run.Exit, log *Log) {
	n.mu.Lock()
	stopping := n.stopping
	n.mu.Unlock()
	switch {
	case stopping:
		x.end(n, stack.Stopped, "")
	case n.svc.Kind == stack.Once && exit.OK():
		x.end(n, stack.Ended, "")
	default:
		text := exit.String() + lastWords(log)
		if exit.OK() {
			text = "ended by itself, although it should stay up" + lastWords(log)
		}
		x.end(n, stack.Failed, text)
	}
}

// judge records what awaitUp has found, unless the service has ended or is being stopped meanwhile.
func (x *Executor) judge(ctx context.Context, n *node, state stack.State, text string, begin time.Time) {
	n.mu.Lock()
	past := n.stopping || n.state != stack.Starting
	n.mu.Unlock()
	if past || state == "" || ctx.Err() != nil {
		return
	}
	x.set(n, state, text)
	if state == stack.Quiet {
		n.reach(atBad)
		return
	}
	x.memory.Took(n.id, time.Since(begin))
	n.reach(atUp)
}

// awaitUp finds out when the service answers: by its health check, and by every port it publishes. The
// state is empty when the service has ended before.
func (x *Executor) awaitUp(ctx context.Context, n *node, proc run.Process) (stack.State, string) {
	ended := func() bool {
		select {
		case <-proc.Done():
			return true
		default:
			return false
		}
	}
	if n.svc.Kind == stack.Once {
		<-proc.Done() // it has come to its aim when it has ended well
		return "", ""
	}
	asked := false
	var said []string
	if test := healthTest(n.svc); test != nil {
		asked = true
		if err := x.awaitHealth(ctx, proc.(*run.Container).ID, test); err != nil {
			if ended() {
				return "", ""
			}
			return stack.Quiet, "it runs, but its health check does not succeed"
		}
		said = append(said, "healthy")
	}
	for _, p := range n.svc.Ports {
		if p.Host == 0 || p.Transport != "tcp" {
			continue
		}
		asked = true
		c := probe.Await(ctx, p.Host, p.Speaks, erring)
		switch {
		case c.Verdict == stack.Answers:
			said = append(said, fmt.Sprintf("%s on %d", c.Expected, p.Host))
		case c.Verdict == stack.Errs:
			said = append(said, fmt.Sprintf("%s on %d, with an error: %s", c.Expected, p.Host, c.Cause))
		case ended():
			return "", ""
		case c.Verdict == stack.Stranger:
			return stack.Quiet, fmt.Sprintf("port %d answers, but not in %s", p.Host, p.Speaks)
		default:
			return stack.Quiet, fmt.Sprintf("it runs, but port %d does not answer", p.Host)
		}
	}
	if asked {
		return stack.IsUp, strings.Join(said, ", ")
	}
	select {
	case <-time.After(settling):
		return stack.Running, ""
	case <-ctx.Done():
		return "", ""
	}
}

func (x *Executor) start(ctx context.Context, n *node, log *Log) (run.Process, error) {
	s := n.svc
	if s.Runs == stack.Native {
		x.set(n, stack.Starting, "")
		p, err := run.StartNative(run.NativeSpec{Dir: s.Dir, Command: s.Command, Env: s.Environment}, log.Line)
		if err != nil {
			return nil, err
		}
		x.keeper.Hold(p.PID)
		return p, nil
	}
	<-n.imageReady
	if n.imageErr != nil {
		return nil, n.imageErr
	}
	x.set(n, stack.Starting, "")
	return run.StartContainer(ctx, x.engine, x.container(s), log.Line)
}
