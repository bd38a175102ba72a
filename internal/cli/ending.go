package cli

import (
	"context"
	"os"
	"sync"
	"time"

	"golang.org/x/term"

	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/workspace"
)

// ending is how a command ends that somebody interrupts, whatever it is in the middle of: a read, a
// walk, a look at a log, a question to an engine. One that owns nothing is over within a second.
// One that owns something, such as a launched stack, has said by then what it is still doing, and
// has the time for it that it has named.
type ending struct {
	leave func(code int) // ends the program; nil where somebody else does

	mu   sync.Mutex
	does string        // what an interrupted command still does; empty for nothing
	most time.Duration // that it takes; negative for as long as it says
}

const (
	// soon is how long a command may take to end by itself when it is interrupted: less than the
	// second that is promised.
	soon = 800 * time.Millisecond
	// written is how long a file that is being written is waited for.
	written = 2 * time.Second
)

// still tells what the command does when it is interrupted, and how long at most. Empty words take
// that back.
func (e *ending) still(does string, most time.Duration) {
	e.mu.Lock()
	defer e.mu.Unlock()
	e.does, e.most = does, most
}

// watched ends the program when ctx does and the command doesn't. The function that it gives is
// called at the end of the command.
func (a *app) watched(ctx context.Context) (over func()) {
	if a.ending.leave == nil {
		return func() {}
	}
	var before *term.State
	in, isFile := a.in.(*os.File)
	if isFile && term.IsTerminal(int(in.Fd())) {
		before, _ = term.GetState(int(in.Fd()))
	}
	done := make(chan struct{})
	stop := context.AfterFunc(ctx, func() {
		wait := func(d time.Duration) bool {
			select {
			case <-done:
				return true
			case <-time.After(d):
				return false
			}
		}
		if wait(soon) {
			return
		}
		a.ending.mu.Lock()
		does, most := a.ending.does, a.ending.most
		a.ending.mu.Unlock()
		if does != "" {
			if most < 0 {
				return // it says so itself, and sees to its own end
			}
			a.complain(&stack.Fault{Code: stack.CodeInterrupted, Text: "interrupted", Remedy: does})
			if wait(most) {
				return
			}
		}
		workspace.Settle(written)
		if before != nil {
			term.Restore(int(in.Fd()), before)
		}
		a.fail(stack.Faults{{Kind: stack.Interrupted, Code: stack.CodeInterrupted,
			Text: "interrupted"}})
		a.ending.leave(int(stack.Interrupted))
	})
	return func() {
		close(done)
		stop()
	}
}
