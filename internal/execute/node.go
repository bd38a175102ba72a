package execute

import (
	"context"
	"sync"
	"time"

	"nimbleharbor/internal/plan"
	"nimbleharbor/internal/record"
	"nimbleharbor/internal/run"
	"nimbleharbor/internal/stack"
)

// node is one step or service while the plan runs. Where it stands is its life, which only move
// changes; whoever waits for a node waits for its life to change.
//
// One goroutine (Executor.node) leads a node from waiting to a state that lasts. For a service two
// more see to its process: one waits for its end and judges it, one waits until it answers. They
// end with the process.
type node struct {
	id   stack.NodeID
	step *plan.Step    // nil for a service
	svc  *plan.Service // nil for a step

	mu      sync.Mutex
	life    life
	changed chan struct{} // closed, and replaced, when life changes
	// ends what is being done before there is a process; nil before the node's turn
	giveUp context.CancelFunc
	image  *image       // of a service in a container
	opened []stack.Port // its ports, if it was seen to open others than expected; nil if not
}

// image is the image of a service while it is being prepared.
type image struct {
	ready chan struct{} // closed when it is there, or err says why not
	err   error
}

// life is where a node stands.
type life struct {
	State      stack.State
	Kind       stack.EventKind
	Text       string
	record.Why               // of a failure
	Since      time.Duration // of the state, since the launch

	// Reached is how far the node has come at best: begun, answering or finished. It never goes
	// back.
	Reached stack.Until
	// Bad is true once it can't come further without being started again.
	Bad bool
	// Over is true when nothing of it runs any more, or ever will. Nothing changes it.
	Over bool

	// Wish is what somebody has asked of it.
	Wish wish

	Process run.Process // nil while there is none
	Begin   time.Time   // when its process was started last
	WasUp   bool        // since then
	Again   int         // how often it was started again since it last stayed up
}

// wish is what somebody has asked of a node.
type wish int

const (
	toRun  wish = iota
	toHalt      // something else failed: it is not started if it has not been
	toStop
)

// change is what happens to a node. Its kind says which of the other fields count.
type change struct {
	kind    kind
	state   stack.State // of ends, settles
	text    string
	why     record.Why
	process run.Process // of begins: the new one; of settles and tells: the one that was looked at
	wish    wish
}

// kind is a kind of change.
type kind int

const (
	waits    kind = iota // for others
	prepares             // something is done for a node that waits
	prepared             // that has come to its end
	runs                 // a step runs
	starts               // a service is about to be started
	begins               // it has a process
	learns               // a running service of which no port was known is seen to answer on one
	tells                // something is to be said of a service that is waited for
	settles              // a look at a process has shown how it stands: answering, running or quiet
	pauses               // the process has ended, and another will be started
	ends                 // nothing of it runs any more
	wishes               // somebody asks something of it
)

// after is the life that comes of a change at a time since the launch. ok is false for a change
// that comes too late, or to a node that it can't happen to; then nothing changes. told is true if
// others are to hear of it.
func (l life) after(c change, now time.Duration) (next life, told, ok bool) {
	next = l
	if l.Over {
		return l, false, false
	}
	set := func(s stack.State) {
		next.State, next.Kind, next.Text, next.Why, next.Since = s, "", c.text, c.why, now
	}
	switch c.kind {
	case waits:
		set(stack.Waiting)
	case prepares, prepared:
		if l.State != stack.Waiting {
			return l, false, false
		}
		set(stack.Waiting)
		if next.Kind = stack.Preparing; c.kind == prepared {
			next.Kind = stack.Prepared
		}
	case runs:
		next.Reached = further(l.Reached, stack.Begun)
		set(stack.Running)
	case starts:
		next.Begin, next.WasUp = time.Now(), false
		set(stack.Starting)
	case begins:
		next.Process = c.process
		next.Reached = further(l.Reached, stack.Begun)
		return next, false, true
	case settles:
		if l.State != stack.Starting || l.Process != c.process || l.Wish == toStop {
			return l, false, false
		}
		set(c.state)
		if c.state == stack.Quiet {
			next.Bad = true
		} else {
			next.WasUp = true
			next.Reached = further(l.Reached, stack.Answering)
		}
	case tells:
		if l.State != stack.Starting || l.Process != c.process || l.Wish == toStop {
			return l, false, false
		}
		next.Text = c.text
	case learns:
		if l.State != stack.Running || l.Process != c.process || l.Wish == toStop {
			return l, false, false
		}
		set(stack.IsUp)
	case pauses:
		next.Process, next.Again = nil, l.tries()+1
		set(stack.Starting)
		next.Kind = stack.StartsAgain
	case ends:
		set(c.state)
		next.Over = true
		if c.state.Good() {
			next.Reached = stack.Finished
		} else {
			next.Bad = true
		}
	case wishes:
		if c.wish <= l.Wish {
			return l, false, false
		}
		next.Wish = c.wish
		return next, false, true
	}
	return next, true, true
}

// tries is how often a service was started again since it last stayed up.
func (l life) tries() int {
	if l.WasUp && time.Since(l.Begin) > stayedUp {
		return 0
	}
	return l.Again
}

func further(a, b stack.Until) stack.Until {
	if b.Strength() > a.Strength() {
		return b
	}
	return a
}

func newNode(plan *plan.Plan, id stack.NodeID) *node {
	n := &node{id: id, changed: make(chan struct{})}
	if s, ok := plan.Services[id]; ok {
		n.svc = &s
		if s.Runs == stack.Container {
			n.image = &image{ready: make(chan struct{})}
		}
	} else if s, ok := plan.Steps[id]; ok {
		n.step = &s
	}
	return n
}

// now is where the node stands.
func (n *node) now() life {
	n.mu.Lock()
	defer n.mu.Unlock()
	return n.life
}

// await waits until the node's life is as the question asks, and gives it; the error is that of
// ctx.
func (n *node) await(ctx context.Context, is func(life) bool) (life, error) {
	for {
		n.mu.Lock()
		l, changed := n.life, n.changed
		n.mu.Unlock()
		if is(l) {
			return l, nil
		}
		select {
		case <-changed:
		case <-ctx.Done():
			return l, ctx.Err()
		}
	}
}

// over waits until nothing of the node runs any more.
func (n *node) over() {
	n.await(context.Background(), func(l life) bool { return l.Over })
}

// move lets a change happen to a node and tells everybody who follows. It reports whether it has
// happened.
func (x *Executor) move(n *node, c change) bool {
	x.journal.mu.Lock() // events stand in the order in which lives change
	defer x.journal.mu.Unlock()
	n.mu.Lock()
	defer n.mu.Unlock()
	now := time.Since(x.started)
	next, told, ok := n.life.after(c, now)
	if !ok {
		return false
	}
	n.life = next
	close(n.changed)
	n.changed = make(chan struct{})
	if told {
		x.journal.add(stack.Event{T: float64(now.Milliseconds()) / 1000, ID: n.id,
			State: next.State, Kind: next.Kind, Text: next.Text})
	} else {
		x.journal.stir()
	}
	return true
}

// journal holds the events of a launch. more is closed, and replaced, when there is one more or
// when anything else changes.
type journal struct {
	mu     sync.Mutex
	events []stack.Event
	more   chan struct{}
}

func newJournal() *journal { return &journal{more: make(chan struct{})} }

// add appends an event. The journal is locked.
func (j *journal) add(e stack.Event) {
	j.events = append(j.events, e)
	j.stir()
}

func (j *journal) stir() {
	close(j.more)
	j.more = make(chan struct{})
}

// since gives the events from the index on, and a channel that is closed when there may be more.
func (j *journal) since(from int) ([]stack.Event, <-chan struct{}) {
	j.mu.Lock()
	defer j.mu.Unlock()
	return append([]stack.Event(nil), j.events[min(from, len(j.events)):]...), j.more
}

// Events sends the events of the launch from the first on, or with fresh from the next, as they
// come. The channel is closed when ctx has ended and what there was until then is sent.
func (x *Executor) Events(ctx context.Context, fresh bool) <-chan stack.Event {
	out := make(chan stack.Event)
	seen := 0
	if fresh {
		seen = len(x.Past())
	}
	go func() {
		defer close(out)
		for {
			events, more := x.journal.since(seen)
			for _, e := range events {
				out <- e
			}
			seen += len(events)
			if len(events) > 0 {
				continue
			}
			select {
			case <-more:
			case <-ctx.Done():
				if events, _ := x.journal.since(seen); len(events) == 0 {
					return
				}
			}
		}
	}()
	return out
}

// Since gives the events from the index on, and a channel that is closed when there may be more, or
// when anything else of the launch changes.
func (x *Executor) Since(from int) ([]stack.Event, <-chan struct{}) { return x.journal.since(from) }

// Past gives the events so far.
func (x *Executor) Past() []stack.Event {
	events, _ := x.journal.since(0)
	return events
}
