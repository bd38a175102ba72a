// Package execute does what a plan says: an Executor starts every node of the order as soon as what
// it needs has come far enough, watches it and stops it. Each node is one explicit state, whose
// life is in node.go; what has happened is a row of events (Since).
//
// Faults have the codes engine-unavailable and restart-not-possible.
package execute

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"nimbleharbor/internal/diagnose"
	"nimbleharbor/internal/engine"
	"nimbleharbor/internal/keeper"
	"nimbleharbor/internal/logs"
	"nimbleharbor/internal/memory"
	"nimbleharbor/internal/order"
	"nimbleharbor/internal/plan"
	"nimbleharbor/internal/process"
	"nimbleharbor/internal/record"
	"nimbleharbor/internal/run"
	"nimbleharbor/internal/stack"
)

// Patience is how long a service may take until it answers; then it is called quiet.
const Patience = 2 * time.Minute

// settling is how long a service without a port must stay up to be called running, and how long a
// port may answer with errors before that counts as its answer.
const (
	settling = time.Second
	erring   = 3 * time.Second
)

// Executor runs a plan. Make one with New, call Run once, then Stop. Restart brings a part
// of it into line with another plan meanwhile. All but Run may be called from several goroutines.
type Executor struct {
	ctx      context.Context // of everything that is started, now or later
	machines Machines
	logs     *logs.Folder
	memory   *memory.Memory
	keeper   *keeper.Keeper
	started  time.Time
	cores    chan struct{} // a place for each step and build that may run at once
	journal  *journal

	mu      sync.RWMutex
	current *plan.Plan
	nodes   map[stack.NodeID]*node
	// by volume: what tells its content from that of one of the same name
	data map[string]string
	// services that are being started again since their files have changed
	renewing atomic.Int32
	watchers map[stack.NodeID]*watcher
	makings  map[string]*making // images that are built, or were, by the sum of what they come of
}

// Plan is the plan as it stands: a restart may bring another.
func (x *Executor) Plan() *plan.Plan {
	x.mu.RLock()
	defer x.mu.RUnlock()
	return x.current
}

// Started is when the launch began.
func (x *Executor) Started() time.Time { return x.started }

// Masked is a text with everything hidden in it that the logs hide.
func (x *Executor) Masked(text string) string { return x.logs.Masked(text) }

// at is the node of that id as it stands, or nil: a restart puts a new one into its place.
func (x *Executor) at(id stack.NodeID) *node {
	x.mu.RLock()
	defer x.mu.RUnlock()
	return x.nodes[id]
}

func (x *Executor) all() []*node {
	x.mu.RLock()
	defer x.mu.RUnlock()
	return slices.Collect(maps.Values(x.nodes))
}

// New prepares a plan. When ctx ends, what has not been started never is. The keeper may be nil.
func New(ctx context.Context, plan *plan.Plan, machines Machines, logs *logs.Folder,
	memory *memory.Memory, keeper *keeper.Keeper) *Executor {
	x := &Executor{ctx: ctx, current: plan, machines: machines, logs: logs, memory: memory,
		keeper: keeper, started: time.Now(),
		journal: newJournal(), nodes: map[stack.NodeID]*node{}, makings: map[string]*making{},
		watchers: map[stack.NodeID]*watcher{}, cores: make(chan struct{}, max(1, runtime.NumCPU()))}
	for _, o := range plan.Order.Nodes {
		x.nodes[o.ID] = newNode(plan, o.ID)
	}
	return x
}

// Run starts every node as soon as its own conditions hold, and returns when each has reached a
// state that lasts. Services go on running until Stop.
func (x *Executor) Run() error {
	if err := x.containers().prepareEngine(x.ctx); err != nil {
		for _, n := range x.all() {
			x.end(n, stack.Stopped, "not started")
		}
		return err
	}
	x.watching().watchAll()
	var wait sync.WaitGroup
	for _, o := range x.Plan().Order.Nodes {
		n := x.at(o.ID)
		wait.Go(func() { x.node(n, o.After) })
	}
	wait.Wait()
	return nil
}

// node waits for what one node needs, then runs it until it has reached a lasting state.
func (x *Executor) node(n *node, after []order.Edge) {
	ctx, cancel := context.WithCancel(x.ctx)
	defer cancel()
	n.mu.Lock()
	n.giveUp = cancel
	if n.life.Wish != toRun { // before its turn had come
		cancel()
	}
	n.mu.Unlock()
	x.move(n, change{kind: waits, text: waitingFor(after)})
	if n.image != nil {
		go x.images().prepareImage(ctx, n)
	}
	for _, e := range after {
		l, err := x.at(e.ID).await(ctx, func(l life) bool {
			return l.Reached.Strength() >= e.Until.Strength() || l.Bad
		})
		switch {
		// what it waits for may have ended by the same interruption: that is no failure
		case err != nil, ctx.Err() != nil:
			x.end(n, stack.Stopped, n.notStarted())
			return
		case l.Reached.Strength() < e.Until.Strength():
			x.end(n, stack.Skipped, e.ID.Title()+" failed")
			return
		}
	}
	if ctx.Err() != nil { // nothing was waited for
		x.end(n, stack.Stopped, n.notStarted())
		return
	}
	if n.step != nil {
		x.preparing().step(ctx, n)
	} else {
		x.serving().service(ctx, n)
	}
}

// notStarted says why a node was never started.
func (n *node) notStarted() string {
	if n.now().Wish == toHalt {
		return "not started, since something else failed"
	}
	return "not started"
}

func waitingFor(after []order.Edge) string {
	var names []string
	for _, e := range after {
		names = append(names, e.ID.Title())
	}
	if len(names) == 0 {
		return ""
	}
	return "for " + strings.Join(names, ", ")
}

// end puts a node into a state in which it does not run, and never will.
func (x *Executor) end(n *node, s stack.State, text string) { x.endFor(n, s, text, record.Why{}) }

// endFor is end with what is known of why.
func (x *Executor) endFor(n *node, s stack.State, text string, why record.Why) {
	if x.move(n, change{kind: ends, state: s, text: text, why: why}) && s == stack.Failed &&
		x.Plan().Halt {
		x.haltNow()
	}
}

// haltNow ends the starting of all that has not been started.
func (x *Executor) haltNow() {
	for _, n := range x.all() {
		x.move(n, change{kind: wishes, wish: toHalt})
		n.mu.Lock()
		if n.life.Wish == toHalt && n.life.Process == nil && n.giveUp != nil &&
			n.life.State == stack.Waiting {
			n.giveUp()
		}
		n.mu.Unlock()
	}
}

// marked is an environment with the mark of the stack, and of who gets it.
func (x *Executor) marked(env []string, node stack.NodeID) []string {
	return append(slices.Clone(env), process.Marker+"="+x.Plan().ID,
		process.ServiceMarker+"="+string(node))
}

// step runs a step, unless it was done before with the same inputs.
func (x preparing) step(ctx context.Context, n *node) {
	data := x.stores().dataOf(n.step.Data)
	if x.memory.Done(&n.step.Work, memory.Digest(x.Plan().Root, &n.step.Work, data)) {
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
	x.move(n, change{kind: runs, text: text})
	begin := time.Now()
	log, err := x.logs.Open(n.id)
	if err != nil {
		x.end(n, stack.Failed, err.Error())
		return
	}
	defer log.Close()
	env := x.marked(n.step.Env, n.id)
	for k, v := range n.step.Set {
		env = append(env, k+"="+v)
	}
	p, err := run.StartNative(run.NativeSpec{Dir: n.step.Dir, Command: n.step.Command, Env: env},
		log.Stream)
	if err != nil {
		text, why := StartFailure(err)
		x.endFor(n, stack.Failed, text, why)
		return
	}
	x.keeper.Hold(p.PID)
	x.followStep(ctx, n, p, log, begin)
	x.keeper.Release(p.PID)
	switch took := time.Since(begin); {
	case ctx.Err() != nil:
		x.end(n, stack.Stopped, "interrupted")
	case !p.Exit().OK():
		text, why := x.said(log)
		if n.step.Role == stack.Migrate {
			text += x.atMigration(log)
		}
		x.endFor(n, stack.Failed, p.Exit().String()+text, why)
	default:
		// A lock file or a database file may have come into being with the step.
		x.memory.Remember(&n.step.Work, memory.Digest(x.Plan().Root, &n.step.Work, data),
			databases(n.step))
		x.memory.Took(n.id, took)
		x.end(n, stack.Done, fmt.Sprintf("took %.1f s", took.Seconds()))
	}
}

// followStep waits until a step's process has ended, and tells from time to time what it does.
func (x preparing) followStep(ctx context.Context, n *node, p *run.Native, log *logs.Log,
	begin time.Time) {
	progress := time.NewTicker(progressEvery)
	defer progress.Stop()
	for {
		select {
		case <-p.Done():
			return
		case <-ctx.Done():
			p.Stop(5 * time.Second)
			return
		case <-progress.C:
			if last := log.Last(); last != "" {
				x.move(n, change{kind: runs, text: fmt.Sprintf("for %.0f s; it last said: %s",
					time.Since(begin).Seconds(), last)})
			}
		}
	}
}

// progressEvery is how often a step that takes long tells what it does.
const progressEvery = 10 * time.Second

// StartFailure says that something could not be started, and what is known of why: by the log of
// its image's build, or by the words of who refused.
func StartFailure(err error) (string, record.Why) {
	var b *buildFailure
	if errors.As(err, &b) {
		return "could not be started: " + err.Error(), b.why
	}
	var p *engine.PullError
	if errors.As(err, &p) {
		return "could not be started: " + err.Error() + "; the engine said: " + p.Cause.Error(),
			record.Why{Code: p.Finding.Code, Cause: p.Finding.Cause, Remedy: p.Finding.Remedy}
	}
	if r, _ := diagnose.ReadLog(strings.NewReader(err.Error())); len(r.Causes) > 0 {
		c := r.Causes[0]
		return "could not be started: " + c.Cause + "; it said: " +
			err.Error(), record.Why{Code: c.Code, Cause: c.Cause, Remedy: c.Remedy, Of: c.Of}
	}
	return "could not be started: " + err.Error(), record.Why{}
}
