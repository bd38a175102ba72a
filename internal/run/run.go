// Package run starts things: a command of this machine, or a container. Both are a Process.
package run

import (
	"fmt"
	"io"
	"os"
	"os/exec"
	"sync"
	"time"
)

// Process is something that was started. It has ended when Done is closed.
type Process interface {
	// Done is closed when the process, and all that it started, has ended.
	Done() <-chan struct{}
	// Exit tells how it ended. It may be called after Done.
	Exit() Exit
	// Stop asks the process to end, waits for at most grace, kills what is left, and returns when
	// it has ended.
	Stop(grace time.Duration)
}

// Exit is how a process ended.
type Exit struct {
	Code   int
	Signal string // what ended it, if a signal did
	Err    error  // why it could not be followed to its end
	// Memory is true where the system has ended it since it took more than it may.
	Memory bool
	// EngineLost is true for a container whose engine has gone.
	EngineLost bool
}

// OK reports whether the process ended as it should.
func (e Exit) OK() bool { return e.Code == 0 && e.Signal == "" && e.Err == nil }

func (e Exit) String() string {
	switch {
	case e.Err != nil:
		return e.Err.Error()
	case e.Signal != "":
		return "ended by " + e.Signal
	}
	return fmt.Sprintf("ended with code %d", e.Code)
}

// NativeSpec is a command of this machine.
type NativeSpec struct {
	Dir     string
	Command []string
	Env     []string // KEY=VALUE, the whole environment

	// HoldInput keeps the standard input open, without a word, for programs that end when theirs
	// does. Else it is empty.
	HoldInput bool
}

// Native is a running command, in a process group of its own.
type Native struct {
	PID  int
	cmd  *exec.Cmd
	done chan struct{}
	exit Exit

	mu    sync.Mutex
	until time.Time // while it is being stopped: when its grace ends
}

// pipeSize is how much a command may write ahead of us, where the system allows to set it.
const pipeSize = 1 << 20

// StartNative starts a command. What it, or a child of it, writes goes to the writer that output
// gives, which is closed at the end.
func StartNative(spec NativeSpec, output func() io.WriteCloser) (*Native, error) {
	if len(spec.Command) == 0 {
		return nil, fmt.Errorf("there is no command")
	}
	path, err := lookPath(spec)
	if err != nil {
		return nil, err
	}
	r, w, err := os.Pipe()
	if err != nil {
		return nil, err
	}
	widen(w)
	cmd := &exec.Cmd{Path: path, Args: spec.Command, Dir: spec.Dir, Env: spec.Env, Stdout: w,
		Stderr: w}
	var held, input *os.File
	if spec.HoldInput {
		if input, held, err = os.Pipe(); err != nil {
			r.Close()
			w.Close()
			return nil, err
		}
		cmd.Stdin = input
	}
	ownGroup(cmd)
	err = cmd.Start()
	w.Close()
	if input != nil {
		input.Close()
	}
	if err != nil {
		r.Close()
		if held != nil {
			held.Close()
		}
		return nil, err
	}
	n := &Native{PID: cmd.Process.Pid, cmd: cmd, done: make(chan struct{})}
	begun.Store(n.PID, true)
	read := make(chan struct{})
	go func() {
		defer close(read)
		out := output()
		buffer := make([]byte, 64<<10)
		io.CopyBuffer(struct{ io.Writer }{out}, struct{ io.Reader }{r}, buffer)
		out.Close()
	}()
	go func() {
		err := cmd.Wait()
		begun.Delete(n.PID)
		n.exit = exitOf(err)
		if held != nil {
			held.Close()
		}
		// What the command left running in its group goes with it, after the grace that a stop
		// gives.
		for groupAlive(n.PID) && time.Now().Before(n.grace()) {
			time.Sleep(2 * time.Millisecond)
		}
		killGroup(n.PID)
		select {
		case <-read:
		// a process outside of the group may hold the pipe open
		case <-time.After(500 * time.Millisecond):
		}
		r.Close()
		<-read
		close(n.done)
	}()
	return n, nil
}

// begun are the processes that were started here and are waited for here.
var begun sync.Map

// Begun reports whether a process was started here by StartNative, and is waited for here.
func Begun(pid int) bool {
	_, ours := begun.Load(pid)
	return ours
}

// Done implements Process.
func (n *Native) Done() <-chan struct{} { return n.done }

// Exit implements Process.
func (n *Native) Exit() Exit { return n.exit }

func (n *Native) grace() time.Time {
	n.mu.Lock()
	defer n.mu.Unlock()
	return n.until
}

// Stop implements Process.
func (n *Native) Stop(grace time.Duration) {
	n.mu.Lock()
	n.until = time.Now().Add(grace)
	n.mu.Unlock()
	terminateGroup(n.PID)
	timer := time.NewTimer(grace)
	defer timer.Stop()
	select {
	case <-n.done:
		return
	case <-timer.C:
	}
	killGroup(n.PID)
	<-n.done
}

// Group is the process group of the command.
func (n *Native) Group() int { return n.PID }
