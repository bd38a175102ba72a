package execute

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"nimbleharbor/internal/logs"
	"nimbleharbor/internal/memory"
	"nimbleharbor/internal/plan"
	"nimbleharbor/internal/record"
	"nimbleharbor/internal/run"
	"nimbleharbor/internal/stack"
)

// service starts a service, and returns when it is up, or failed, or has been stopped. Goroutines
// go on watching it.
func (x serving) service(ctx context.Context, n *node) {
	once := onceWork(n.svc)
	if n.svc.Remembered && n.svc.Kind == stack.Once &&
		x.memory.Done(once, memory.Digest(x.Plan().Root, once, x.stores().dataOf(n.svc.Data))) {
		x.end(n, stack.Ended, "done before; nharbor.toml asks not to do it again")
		return
	}
	log, err := x.logs.Open(n.id)
	if err != nil {
		x.end(n, stack.Failed, err.Error())
		return
	}
	x.process(ctx, n, log)
	n.await(ctx, func(l life) bool {
		return l.Reached.Strength() >= stack.Answering.Strength() || l.Bad || l.Over
	})
}

// process starts a service's process and sees to its end, which may lead to another one.
func (x serving) process(ctx context.Context, n *node, log *logs.Log) {
	begin := time.Now()
	proc, err := x.start(ctx, n, log)
	if err != nil {
		if ctx.Err() != nil {
			x.end(n, stack.Stopped, "interrupted")
		} else {
			text, why := StartFailure(err)
			x.endFor(n, stack.Failed, text, why)
		}
		log.Close()
		return
	}
	x.move(n, change{kind: begins, process: proc})
	if ctx.Err() != nil { // whoever asked to stop it has not seen the process
		x.move(n, change{kind: wishes, wish: toStop})
	}
	if n.now().Wish == toStop {
		go proc.Stop(Grace)
	}
	judged := make(chan struct{})
	go func() {
		<-proc.Done()
		<-judged // so that nothing is remembered of a service any more once it is over
		if native, ok := proc.(*run.Native); ok {
			x.keeper.Release(native.PID)
		}
		x.ended(n, proc.Exit(), log)
	}()
	go func() {
		defer close(judged)
		watch, cancel := context.WithTimeout(x.ctx, Patience)
		defer cancel()
		go func() {
			select {
			case <-proc.Done():
				cancel()
			case <-watch.Done():
			}
		}()
		state, text, why := x.awaitUp(watch, n, proc, log)
		x.judge(n, proc, state, text, why, begin)
	}()
}

// ended judges a service whose process has ended.
func (x serving) ended(n *node, exit run.Exit, log *logs.Log) {
	l := n.now()
	switch {
	case l.Wish == toStop:
		x.end(n, stack.Stopped, "")
	case n.svc.Kind == stack.Once && exit.OK():
		x.memory.Took(n.id, time.Since(l.Begin))
		if n.svc.Remembered {
			once := onceWork(n.svc)
			x.memory.Remember(once, memory.Digest(x.Plan().Root, once,
				x.stores().dataOf(n.svc.Data)), nil)
		}
		x.end(n, stack.Ended, "")
	case exit.OK() && len(n.svc.Ports) == 0 && !n.svc.Restarts.Restart && !l.WasUp:
		// Nothing says that it serves, it has not stayed up, and says itself that all is well: it
		// was a job.
		x.memory.Took(n.id, time.Since(l.Begin))
		x.end(n, stack.Ended, "ended well by itself")
	default:
		words, why := x.said(log)
		if exit.EngineLost { // what the container has said tells nothing of that
			words, why = "", record.Why{Code: "engine-lost",
				Cause:  "the container engine has stopped, or can't be reached any more",
				Remedy: "Start the engine again, then: nharbor launch"}
		}
		text := exit.String() + words
		if exit.Memory && why.Code == "" {
			why = outOfMemory(n.svc)
		}
		if exit.OK() {
			text = "ended by itself, although it should stay up" + words
		}
		if x.startsAgain(n, exit) {
			x.restartLater(n, text, log)
			return
		}
		x.endFor(n, stack.Failed, text, why)
	}
	log.Close()
}

// outOfMemory says what to do for a container that the system has ended.
func outOfMemory(s *plan.Service) record.Why {
	w := record.Why{Code: "memory-full",
		Cause:  "it took more memory than the engine's machine has to give",
		Remedy: "Run fewer things at once, or give the engine's machine more memory."}
	if s.Container != nil && s.Container.Memory > 0 {
		w.Cause = fmt.Sprintf("it took more than the %d MB of memory that its compose file allows",
			s.Container.Memory>>20)
		w.Remedy = "Allow it more: mem_limit, or deploy.resources.limits.memory."
	}
	return w
}

// Starting again: the first pause, the longest, and after how long of staying up it begins anew. A
// service that was never up is given up after triesAtFirst, so that the launch comes to an end.
const (
	firstPause   = 500 * time.Millisecond
	longestPause = 30 * time.Second
	stayedUp     = time.Minute
	triesAtFirst = 5
)

// startsAgain reports whether a service that has ended is to be started again, as its files
// declare.
func (x serving) startsAgain(n *node, exit run.Exit) bool {
	r := n.svc.Restarts
	if !r.Restart || x.ctx.Err() != nil || r.RestartOnFailure && exit.OK() {
		return false
	}
	l := n.now()
	tried := l.tries()
	up := l.Reached.Strength() >= stack.Answering.Strength()
	return !(r.RestartTimes > 0 && tried >= r.RestartTimes || !up && tried >= triesAtFirst)
}

// restartLater starts a service again after a pause that doubles each time.
func (x serving) restartLater(n *node, why string, log *logs.Log) {
	ctx, cancel := context.WithCancel(x.ctx)
	n.mu.Lock()
	n.giveUp = cancel
	if n.life.Wish == toStop {
		cancel()
	}
	times := n.life.tries() + 1
	n.mu.Unlock()
	pause := min(firstPause<<min(times-1, 10), longestPause)
	x.move(n, change{kind: pauses,
		text: fmt.Sprintf("%s; it starts again in %.1f s, for the %s time", why, pause.Seconds(),
			ordinal(times))})
	select {
	case <-time.After(pause):
		x.process(ctx, n, log)
	case <-ctx.Done():
		x.end(n, stack.Stopped, "")
		log.Close()
	}
}

func ordinal(n int) string {
	switch {
	case n%10 == 1 && n%100 != 11:
		return fmt.Sprintf("%dst", n)
	case n%10 == 2 && n%100 != 12:
		return fmt.Sprintf("%dnd", n)
	case n%10 == 3 && n%100 != 13:
		return fmt.Sprintf("%drd", n)
	}
	return fmt.Sprintf("%dth", n)
}

// onceWork is a service that runs once as work that can be remembered.
func onceWork(s *plan.Service) *memory.Work {
	return &memory.Work{ID: "service:" + s.Name, Role: stack.Seed,
		Command: append([]string{s.Image, s.Build}, s.Command...), Env: s.Environment}
}

// judge records what awaitUp has found, unless the service has ended or is being stopped meanwhile.
func (x *Executor) judge(n *node, proc run.Process, state stack.State, text string, why record.Why,
	begin time.Time) {
	if state == "" || x.ctx.Err() != nil {
		return
	}
	select {
	case <-proc.Done():
		return // its end is being judged
	default:
	}
	if state != stack.Quiet { // first, so that it is remembered by the time that others go on
		x.memory.Took(n.id, time.Since(begin))
		x.stores().keepSeals(n.svc)
	}
	x.move(n, change{kind: settles, state: state, text: text, why: why, process: proc})
}

// awaitUp finds out when the service answers: by its health check, and by every port it publishes.
// The state is empty when the service has ended before.
func (x serving) awaitUp(ctx context.Context, n *node, proc run.Process,
	log *logs.Log) (stack.State, string, record.Why) {
	if n.svc.Kind == stack.Once {
		<-proc.Done() // it has come to its aim when it has ended well
		return "", "", record.Why{}
	}
	asked := false
	var said []string
	if test := x.containers().healthTest(ctx, n.svc, proc); test != nil {
		asked = true
		if quiet, ended := x.awaitHealthy(ctx, n, proc, log, test); ended || quiet != "" {
			if ended {
				return "", "", record.Why{}
			}
			return stack.Quiet, quiet, record.Why{}
		}
		said = append(said, "healthy")
	}
	for i, expected := range n.svc.Ports {
		if expected.Host == 0 || expected.Transport != "tcp" {
			continue
		}
		asked = true
		words, quiet, why := x.portUp(ctx, n, proc, log, i)
		switch {
		case words != "":
			said = append(said, words)
		case quiet != "":
			return stack.Quiet, quiet, why
		default: // it has ended
			return "", "", record.Why{}
		}
	}
	if asked {
		return stack.IsUp, strings.Join(said, ", "), record.Why{}
	}
	select {
	case <-time.After(settling):
		if endsSoon(ctx, proc, log) {
			words, why := x.programEnded(log)
			return stack.Quiet, words, why
		}
		if len(n.svc.Ports) == 0 {
			go x.listening().learn(n, proc)
		}
		return stack.Running, "", record.Why{}
	case <-ctx.Done():
		return "", "", record.Why{}
	}
}

func isOver(proc run.Process) bool { return isClosed(proc.Done()) }

func isClosed(c <-chan struct{}) bool {
	select {
	case <-c:
		return true
	default:
		return false
	}
}

// awaitHealthy waits for a service's own health check; quiet tells why that does not succeed, ended
// that the service is over.
func (x serving) awaitHealthy(ctx context.Context, n *node, proc run.Process, log *logs.Log,
	test []string) (quiet string, ended bool) {
	done := x.progress(n, proc, log, "its health check does not succeed yet")
	defer done()
	c := proc.(*run.Container)
	var err error
	for _, id := range c.IDs() {
		err = errors.Join(err, awaitHealth(ctx, c.Engine(), id, test))
	}
	switch {
	case err == nil:
		return "", false
	case isOver(proc):
		return "", true
	}
	return "it runs, but its health check does not succeed" +
		x.containers().healthSays(proc, test), false
}

// portUp waits for one of a service's ports: words tell how it answers, quiet why it doesn't. Both
// are empty where the service has ended.
func (x serving) portUp(ctx context.Context, n *node, proc run.Process, log *logs.Log,
	index int) (words, quiet string, why record.Why) {
	waiting, giveUp := context.WithCancel(ctx)
	defer giveUp()
	dead := x.watcherDead(waiting, proc, log)
	go func() {
		select {
		case <-dead:
			giveUp()
		case <-waiting.Done():
		}
	}()
	c, p, elsewhere := x.listening().awaitPort(waiting, n, proc, log, index)
	instead := ""
	if expected := n.svc.Ports[index]; p.Host != expected.Host {
		instead = fmt.Sprintf("; it listens there, not on %d", expected.Host)
	}
	switch {
	case c.Verdict == stack.Answers:
		return fmt.Sprintf("%s on %d%s", c.Expected, p.Host, instead), "", why
	case c.Verdict == stack.Errs:
		return fmt.Sprintf("%s on %d, with an error: %s%s", c.Expected, p.Host, c.Cause, instead),
			"", why
	case isOver(proc):
		return "", "", why
	case isClosed(dead):
		words, why := x.programEnded(log)
		return "", words, why
	case c.Verdict == stack.Stranger:
		return "", fmt.Sprintf("port %d answers, but not in %s", p.Host, p.Speaks), why
	case c.Verdict == stack.Silent:
		last, why := x.said(log)
		return "", fmt.Sprintf("port %d accepts a connection, and says nothing in %s%s", p.Host,
			p.Speaks, last), why
	case elsewhere != "":
		return "", fmt.Sprintf("%s; nothing leads to it from port %d", elsewhere, p.Host),
			record.Why{Code: "elsewhere-inside", Cause: elsewhere, Remedy: fmt.Sprintf("Let it "+
				"listen on 0.0.0.0:%d inside, or correct the port that is published.", p.Target)}
	}
	last, why := x.said(log)
	return "", fmt.Sprintf("it runs, but port %d does not answer%s", p.Host, last), why
}

// progress tells from time to time that a service is waited for, and for what, until it is done.
func (x serving) progress(n *node, proc run.Process, log *logs.Log, what string) (done func()) {
	begin, end := time.Now(), make(chan struct{})
	go func() {
		tick := time.NewTicker(progressEvery)
		defer tick.Stop()
		for {
			select {
			case <-end:
				return
			case <-tick.C:
			}
			text := fmt.Sprintf("for %.0f s, %s", time.Since(begin).Seconds(), what)
			if s := log.Last(); s != "" {
				text += "; it last said: " + s
			}
			x.move(n, change{kind: tells, text: text, process: proc})
		}
	}()
	return func() { close(end) }
}

func (x serving) start(ctx context.Context, n *node, log *logs.Log) (run.Process, error) {
	s := n.svc
	if s.Runs == stack.Native {
		x.move(n, change{kind: starts})
		log.Mark() // what an earlier start has said is not why this one fails
		p, err := run.StartNative(run.NativeSpec{Dir: s.Dir, Command: s.Command,
			Env: x.marked(s.Environment, n.id), HoldInput: s.Watches}, log.Stream)
		if err != nil {
			return nil, err
		}
		x.keeper.Hold(p.PID)
		return p, nil
	}
	<-n.image.ready
	if n.image.err != nil {
		return nil, n.image.err
	}
	if err := linksAsVouched(x.Plan(), s); err != nil {
		return nil, err
	}
	log.Mark() // what was said so far was of its image
	x.move(n, change{kind: starts})
	return x.containers().startContainers(ctx, s, log)
}
