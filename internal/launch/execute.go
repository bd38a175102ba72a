package launch

import (
	"context"
	"fmt"
	"maps"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"nimbleharbor/internal/engine"
	"nimbleharbor/internal/order"
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
	engine  *engine.Engine // nil if nothing runs in containers
	logs    *Logs
	memory  *Memory
	keeper  *Keeper
	started time.Time
	cores   chan struct{}

	nodesMu sync.RWMutex
	current *Plan
	nodes   map[string]*node
	base    context.Context   // of the run: what is started later belongs to it too
	data    map[string]string // by volume: what tells its content from that of one of the same name

	mu     sync.Mutex
	events []stack.Event
	more   *sync.Cond
}

// plan is the plan as it stands: a restart may bring another.
func (x *Executor) plan() *Plan {
	x.nodesMu.RLock()
	defer x.nodesMu.RUnlock()
	return x.current
}

// at is the node of that id as it stands: a restart puts a new one into its place.
func (x *Executor) at(id string) *node {
	x.nodesMu.RLock()
	defer x.nodesMu.RUnlock()
	return x.nodes[id]
}

func (x *Executor) all() []*node {
	x.nodesMu.RLock()
	defer x.nodesMu.RUnlock()
	return slices.Collect(maps.Values(x.nodes))
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
	halted   bool               // something else failed, and the person asked that nothing more be started then
	giveUp   context.CancelFunc // of starting it; nil before its turn
	begin    time.Time          // when it was started last
	wasUp    bool
	again    int // how often it was started again since it last stayed up

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
	x := &Executor{current: plan, engine: e, logs: logs, memory: memory, keeper: keeper, started: time.Now(),
		nodes: map[string]*node{}, cores: make(chan struct{}, max(1, runtime.NumCPU()))}
	x.more = sync.NewCond(&x.mu)
	for _, o := range plan.Order.Nodes {
		x.nodes[o.ID] = newNode(plan, o.ID)
	}
	return x
}

func newNode(plan *Plan, id string) *node {
	n := &node{id: id, begun: make(chan struct{}), up: make(chan struct{}), finished: make(chan struct{}),
		bad: make(chan struct{}), over: make(chan struct{}), imageReady: make(chan struct{})}
	if s, ok := plan.Services[id]; ok {
		n.svc = &s
	} else if s, ok := plan.Steps[id]; ok {
		n.step = &s
	}
	return n
}

// Run starts every node as soon as its own conditions hold, and returns when each has reached a state
// that lasts. Services go on running until Stop. When ctx ends, what has not started never does.
func (x *Executor) Run(ctx context.Context) error {
	x.base = ctx
	if err := x.prepareEngine(ctx); err != nil {
		for _, n := range x.all() {
			x.end(n, stack.Stopped, "not started")
		}
		return err
	}
	var wait sync.WaitGroup
	for _, o := range x.plan().Order.Nodes {
		n := x.at(o.ID)
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
	if n.stopping || n.halted { // before its turn had come
		cancel()
	}
	n.mu.Unlock()
	x.set(n, stack.Waiting, waitingFor(after))
	if n.svc != nil && n.svc.Runs == stack.Container {
		go x.prepareImage(ctx, n)
	}
	for _, e := range after {
		other := x.at(e.ID)
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
			x.end(n, stack.Stopped, n.notStarted())
			return
		}
	}
	if ctx.Err() != nil {
		x.end(n, stack.Stopped, n.notStarted())
		return
	}
	if n.step != nil {
		x.step(ctx, n)
	} else {
		x.service(ctx, n)
	}
}

// notStarted says why a node was never started.
func (n *node) notStarted() string {
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.halted && !n.stopping {
		return "not started, since something else failed"
	}
	return "not started"
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
	if s == stack.Failed && x.plan().Halt {
		x.haltNow()
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

// haltNow ends the starting of all that has not been started.
func (x *Executor) haltNow() {
	for _, n := range x.all() {
		n.mu.Lock()
		n.halted = true
		if !n.stopping && n.proc == nil && n.giveUp != nil && n.state == stack.Waiting {
			n.giveUp()
		}
		n.mu.Unlock()
	}
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

// marked is an environment with the mark of the stack.
func (x *Executor) marked(env []string) []string {
	return append(slices.Clone(env), marker+"="+x.plan().ID)
}

// step runs a step, unless it was done before with the same inputs.
func (x *Executor) step(ctx context.Context, n *node) {
	n.reach(atBegun)
	data := x.dataOf(n)
	if x.memory.Done(n.step, x.memory.Digest(x.plan().Root, n.step, data)) {
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
	text := strings.Join(n.step.Command, " ")
	if last := x.memory.Seconds()[n.id]; last >= 1 {
		text += fmt.Sprintf(" (last time %.0f s)", last)
	}
	x.set(n, stack.Running, text)
	begin := time.Now()
	log, err := x.logs.Open(n.id)
	if err != nil {
		x.end(n, stack.Failed, err.Error())
		return
	}
	defer log.Close()
	env := x.marked(n.step.Env)
	for k, v := range n.step.Step.Env {
		env = append(env, k+"="+v)
	}
	p, err := run.StartNative(run.NativeSpec{Dir: n.step.Dir, Command: n.step.Command, Env: env}, log.Stream)
	if err != nil {
		x.end(n, stack.Failed, startFailure(err))
		return
	}
	x.keeper.Hold(p.PID)
	progress := time.NewTicker(progressEvery)
	defer progress.Stop()
	for ended := false; !ended; {
		select {
		case <-p.Done():
			ended = true
		case <-ctx.Done():
			p.Stop(5 * time.Second)
			ended = true
		case <-progress.C:
			if last := log.Last(); last != "" {
				x.set(n, stack.Running, fmt.Sprintf("for %.0f s; it last said: %s", time.Since(begin).Seconds(), last))
			}
		}
	}
	x.keeper.Release(p.PID)
	switch {
	case ctx.Err() != nil:
		x.end(n, stack.Stopped, "interrupted")
	case !p.Exit().OK():
		x.end(n, stack.Failed, p.Exit().String()+lastLines(log))
	default:
		// A lock file or a database file may have come into being with the step.
		x.memory.Remember(n.step, x.memory.Digest(x.plan().Root, n.step, data), databases(n.step), time.Since(begin))
		x.end(n, stack.Done, fmt.Sprintf("took %.1f s", time.Since(begin).Seconds()))
	}
}

// progressEvery is how often a step that takes long tells what it does.
const progressEvery = 10 * time.Second

func startFailure(err error) string { return "could not be started: " + err.Error() }

// lastLines are the last few lines that a failed step has said.
func lastLines(log *Log) string {
	lines := log.Tail()
	if len(lines) == 0 {
		return ""
	}
	return "; it last said: " + strings.Join(lines, " | ")
}

func lastWords(log *Log) string {
	if last := log.Last(); last != "" {
		return "; it last said: " + last
	}
	return ""
}
