package execute

import (
	"context"
	"slices"
	"time"

	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/logs"
	"nimbleharbor/internal/process"
	"nimbleharbor/internal/record"
	"nimbleharbor/internal/run"
)

// A watcher starts a program again when files change. It stays where its program has ended, so that
// its own life proves nothing; but it says that it waits, in words of its own.

// watcherWaits are those words, of the watchers of all languages: that the program has ended, and
// that a change is waited for.
var watcherWaits = expr.New(`(?i)app crashed|failed running '|waiting for (?:a |` +
	`the )?(?:file )?change|waiting for (?:a file|changes) to|` +
	`watching for (?:file )?changes before|exited with error code [1-9]|` +
	`finished running\. exit status: [1-9]|^\W*(?:the )?process exited with code:? [1-9]|` +
	`clean exit - waiting for changes`)

// watcherStarts are the words with which they start it, or start it again.
var watcherStarts = expr.New(`(?i)^\W*(?:\w+\W+)?(?:re)?starting\b|restarting\b|change detected|` +
	`due to changes`)

// waitsForChange reports whether the last of its words say that a watcher waits, and that what it
// watches has ended.
func waitsForChange(log *logs.Log) bool {
	for _, line := range slices.Backward(log.Tail()) {
		switch {
		case watcherWaits.MatchString(line):
			return true
		case watcherStarts.MatchString(line):
			return false
		}
	}
	return false
}

// watchLine are the command lines of programs that start others again when files change.
var watchLine = expr.New(`\bnodemon\b|--watch(?:=\S*)?(?:\s|$)|\bwatch(?:exec|medo)?\s|` +
	`\bts-node-dev\b|\bair\b|\breflex\b|\bentr\b|--reload\b|\brerun\b`)

// patienceWatching is how long a service without a port may take, beyond its settling, until its
// watcher says that its program has ended.
const patienceWatching = 1500 * time.Millisecond

// endsSoon reports whether a watcher says, in the time that it may take for that, that its program
// has ended. Of what is no watcher nobody waits.
func endsSoon(ctx context.Context, proc run.Process, log *logs.Log) bool {
	native, ok := proc.(*run.Native)
	isWatcher := func(pid int) bool { return watchLine.MatchString(process.Line(pid)) }
	if !ok || !isWatcher(native.PID) &&
		!slices.ContainsFunc(process.Descendants(native.PID), isWatcher) {
		return waitsForChange(log)
	}
	ctx, cancel := context.WithTimeout(ctx, patienceWatching)
	defer cancel()
	look := time.NewTicker(lookAgain / 4)
	defer look.Stop()
	for !waitsForChange(log) {
		select {
		case <-ctx.Done():
			return false
		case <-proc.Done():
			return false
		case <-look.C:
		}
	}
	return true
}

// watcherDead is closed once a watcher of a service says that its program has ended, and has not
// started it again by the next look: that is within 2 s; or once the program that it had started is
// gone for 2 s, and has said why. No child alone proves nothing: what is still being compiled has
// none. The look ends with the context.
func (x serving) watcherDead(ctx context.Context, proc run.Process,
	log *logs.Log) <-chan struct{} {
	dead := make(chan struct{})
	native, ok := proc.(*run.Native)
	if !ok {
		return dead // of a container the engine tells more
	}
	go func() {
		look := time.NewTicker(lookAgain)
		defer look.Stop()
		had := false // a program that a watcher had started
		for looks, said, gone := 0, 0, 0; said < 2 && gone < 4; looks++ {
			select {
			case <-ctx.Done():
				return
			case <-proc.Done():
				return
			case <-look.C:
			}
			if said++; !waitsForChange(log) {
				said = 0
			}
			if !had && looks >= firstLooks && looks%seldom != 0 {
				continue
			}
			has := watches(native.PID)
			if had = had || has; !had || has {
				gone = 0
			} else if gone++; gone == 4 && !x.decides(log) {
				gone, had = 0, false
			}
		}
		close(dead)
	}()
	return dead
}

// Until a watcher has been found, all that the process has started is listed at the first looks,
// and then seldom: most services have none, and one that compiles first starts its program late.
const firstLooks, seldom = 6, 8

// watches reports whether a watcher among the processes of a service has started a program that is
// still there.
func watches(pid int) bool {
	return slices.ContainsFunc(append([]int{pid}, process.Descendants(pid)...), func(p int) bool {
		return watchLine.MatchString(process.Line(p)) && len(process.Children(p)) > 0
	})
}

// decides reports whether a log has words that tell why something has ended.
func (x serving) decides(log *logs.Log) bool {
	r := x.readLog(log)
	return r != nil && r.Decisive != nil
}

// programEnded is what is told of a watcher whose program has ended.
func (x serving) programEnded(log *logs.Log) (string, record.Why) {
	words, why := x.said(log)
	return "it watches files, but its program has ended" + words, why
}
