package steward

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"time"

	"nimbleharbor/internal/diagnose"
	"nimbleharbor/internal/engine"
	"nimbleharbor/internal/engines"
	"nimbleharbor/internal/execute"
	"nimbleharbor/internal/keeper"
	"nimbleharbor/internal/memory"
	"nimbleharbor/internal/plan"
	"nimbleharbor/internal/process"
	"nimbleharbor/internal/reading"
	"nimbleharbor/internal/record"
	"nimbleharbor/internal/run"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/workspace"
)

// Launched is a stack that a steward has begun to launch, as the launching command sees it.
type Launched struct {
	conn  net.Conn
	lines *bufio.Scanner
}

// Start starts a steward for the plan, by running the program with words, and follows it. A plan
// that isn't for the background ends when the connection does.
func Start(plan *plan.Plan, program string, words []string) (*Launched, error) {
	data, err := json.Marshal(plan)
	if err != nil {
		return nil, err
	}
	dir, err := workspace.MakeStateDir(plan.Root)
	if err != nil {
		return nil, &stack.Fault{Kind: stack.Unreadable, Code: stack.CodeStateUnwritable,
			At:     stack.Place{File: plan.Root},
			Text:   "the workspace's state can't be written: " + err.Error(),
			Remedy: "Check the folder's rights and the free space.", Cause: err}
	}
	said, err := reading.OpenToWrite(filepath.Join(dir, "steward.log"), os.O_TRUNC)
	if err != nil {
		return nil, err
	}
	defer said.Close()
	cmd := exec.Command(program, words...)
	cmd.Dir = plan.Root
	cmd.Stdin = bytes.NewReader(data)
	cmd.Stderr = said
	out, w, err := os.Pipe()
	if err != nil {
		return nil, err
	}
	defer out.Close()
	cmd.Stdout = w
	keeper.Detach(cmd)
	err = cmd.Start()
	w.Close()
	if err != nil {
		return nil, err
	}
	go cmd.Wait()
	var m record.Message
	if err := json.NewDecoder(out).Decode(&m); err != nil {
		return nil, fmt.Errorf("the steward ended before it was ready; it may say why in %s",
			said.Name())
	}
	if m.Error != nil {
		return nil, m.Error
	}
	conn, err := net.Dial("unix", m.Ready)
	if err != nil {
		return nil, err
	}
	l := &Launched{conn: conn, lines: bufio.NewScanner(conn)}
	l.lines.Buffer(nil, 16<<20)
	return l, l.send(record.Request{Do: "follow", Lease: !plan.Background})
}

// Follow follows a launched stack from its first event on, without being its owner: letting go of
// it stops nothing.
func Follow(ctx context.Context, r *record.Record) (*Launched, error) {
	conn, err := (&net.Dialer{}).DialContext(ctx, "unix", r.Socket)
	if err != nil {
		return nil, &stack.Fault{Kind: stack.NotSo, Code: stack.CodeNotLaunched,
			Text: "nothing of this workspace is running", Remedy: "Launch it: nharbor " +
				"launch", Cause: err}
	}
	l := &Launched{conn: conn, lines: bufio.NewScanner(conn)}
	l.lines.Buffer(nil, 16<<20)
	return l, l.send(record.Request{Do: "follow"})
}

func (l *Launched) send(r record.Request) error { return json.NewEncoder(l.conn).Encode(r) }

// Next waits for the steward's next message; io.EOF when it is gone.
func (l *Launched) Next() (record.Message, error) {
	var m record.Message
	if !l.lines.Scan() {
		if err := l.lines.Err(); err != nil && !errors.Is(err, net.ErrClosed) {
			return m, err
		}
		return m, io.EOF
	}
	return m, json.Unmarshal(l.lines.Bytes(), &m)
}

// Stop asks the steward to stop everything; Next tells when it has.
func (l *Launched) Stop() error { return l.send(record.Request{Do: "stop"}) }

// Kill asks the steward to end everything at once.
func (l *Launched) Kill() error { return l.send(record.Request{Do: "kill"}) }

// Close lets go of the steward. A stack in the background goes on.
func (l *Launched) Close() error { return l.conn.Close() }

// StopStack stops the services named, and what needs them, or the whole stack, and waits until that
// has happened. It reports whether anything was running. If the steward has died, what it left is
// removed. A record that is not ours is removed too, and what carries the stack's mark is ended
// without it.
func StopStack(ctx context.Context, root string, services []string) (bool, error) {
	r, err := record.Read(root)
	var f *stack.Fault
	if errors.As(err, &f) && f.Code == stack.CodeStateUnreadable && len(services) == 0 {
		err = os.Remove(record.File(root))
	}
	if err != nil {
		return false, err
	}
	if r == nil || r.Ended {
		if len(services) > 0 || !Left(ctx, root) {
			return false, nil
		}
		if r == nil {
			r = &record.Record{ID: workspace.ID(root)}
		}
		return cleanUp(ctx, root, r)
	}
	r.Wake()
	conn, err := (&net.Dialer{}).DialContext(ctx, "unix", r.Socket)
	if err != nil {
		return cleanUp(ctx, root, r)
	}
	defer conn.Close()
	stop := context.AfterFunc(ctx, func() { conn.SetDeadline(time.Unix(1, 0)) })
	defer stop()
	err = json.NewEncoder(conn).Encode(record.Request{Do: "stop", Services: services})
	var m record.Message
	if err == nil {
		err = json.NewDecoder(conn).Decode(&m)
	}
	if ctx.Err() != nil {
		return true, ctx.Err()
	}
	if err != nil || !m.Stopped { // the steward has died meanwhile
		_, err := cleanUp(ctx, root, r)
		return true, err
	}
	if len(m.Left) > 0 {
		return true, stillThere(m.Left)
	}
	if len(services) == 0 {
		io.Copy(io.Discard, conn) // until the steward has gone
	}
	return true, nil
}

// stillThere is the fault of processes that could not be ended.
func stillThere(groups []int) error {
	return &stack.Fault{Kind: stack.NotSo, Code: stack.CodeStillRunning,
		Text: fmt.Sprintf("not everything could be ended: of this stack are left the process "+
			"groups %v", groups),
		Remedy: "They may belong to another user by now; end them by hand."}
}

// Left reports whether something of a workspace's stack is there although no steward owns it:
// processes that carry its mark, or containers that carry its label, also ended ones: an engine
// that ends takes its containers along.
func Left(ctx context.Context, root string) bool {
	id := workspace.ID(root)
	if len(keeper.Marked(id, "")) > 0 {
		return true
	}
	ctx, cancel := context.WithTimeout(ctx, 3*time.Second)
	defer cancel()
	opt := plan.Options{}
	if r, err := record.Read(root); err == nil && r != nil {
		opt = r.Options
	}
	list, _ := engines.All(ctx, opt)
	defer engines.Close(list)
	for _, e := range list {
		if list, err := e.List(ctx, map[string]string{engine.LabelStack: id}); err == nil &&
			len(list) > 0 {
			return true
		}
	}
	return false
}

// Restart asks the steward of a launched stack to restart services by the plan; each event goes to
// event. It gives how all services stand then.
func Restart(ctx context.Context, r *record.Record, plan *plan.Plan, services []string,
	event func(stack.Event)) (*record.Settled, error) {
	conn, err := (&net.Dialer{}).DialContext(ctx, "unix", r.Socket)
	if err != nil {
		return nil, err
	}
	defer conn.Close()
	stop := context.AfterFunc(ctx, func() { conn.SetDeadline(time.Unix(1, 0)) })
	defer stop()
	if err := json.NewEncoder(conn).Encode(record.Request{Do: "restart", Services: services,
		Plan: plan}); err != nil {
		return nil, err
	}
	for in := json.NewDecoder(conn); ; {
		var m record.Message
		if err := in.Decode(&m); err != nil {
			if ctx.Err() != nil {
				return nil, ctx.Err()
			}
			return nil, &stack.Fault{Kind: stack.NotSo, Code: stack.CodeStewardGone,
				Text: "the steward ended while it restarted", Remedy: "Look at nharbor check, " +
					"and launch again.", Cause: err}
		}
		switch {
		case m.Event != nil:
			event(*m.Event)
		case m.Error != nil:
			return nil, m.Error
		case m.Settled != nil:
			return m.Settled, nil
		}
	}
}

// Removed is what a reset has thrown away.
type Removed struct {
	Stopped bool     `json:"stopped"`
	Steps   bool     `json:"steps"`   // what was done is forgotten
	Volumes []string `json:"volumes"` // removed, with all that was in them
	Files   []string `json:"files"`   // database files, relative to the workspace
}

// Reset stops the stack and forgets what was set up, so that the next launch does it again. With
// data it removes the volumes that were made for this stack, and the database files that its steps
// have made; never anything else.
func Reset(ctx context.Context, root string, data bool) (*Removed, error) {
	out := &Removed{Steps: true, Volumes: []string{}, Files: []string{}}
	var err error
	if out.Stopped, err = StopStack(ctx, root, nil); err != nil {
		return nil, err
	}
	files := memory.Recall(root).Forget()
	if !data {
		return out, nil
	}
	r, err := record.Read(root)
	if err != nil {
		return nil, err
	}
	if err := out.removeFiles(root, files); err != nil {
		return out, err
	}
	opt := plan.Options{}
	if r != nil {
		opt = r.Options
	}
	list, err := engines.All(ctx, opt)
	defer engines.Close(list)
	if err != nil && len(list) == 0 {
		var u *engine.Unavailable
		if errors.As(err, &u) && (u.Lack == diagnose.NotInstalled ||
			r != nil && !r.InContainers()) {
			return out, nil // then there are no volumes either
		}
		return out, err
	}
	labels := map[string]string{engine.LabelStack: workspace.ID(root)}
	for _, e := range list {
		if err := keeper.RemoveContainers(ctx, e, workspace.ID(root)); err != nil {
			return out, err
		}
		removed, err := e.RemoveVolumes(ctx, labels)
		if out.Volumes = append(out.Volumes, removed...); err != nil {
			return out, err
		}
	}
	return out, nil
}

// removeFiles removes those of the workspace among files; nothing goes through a link that leaves
// it.
func (out *Removed) removeFiles(root string, files []string) error {
	inside, err := os.OpenRoot(root)
	if err != nil {
		return err
	}
	defer inside.Close()
	for _, f := range files {
		rel, err := filepath.Rel(root, f)
		if err != nil || !filepath.IsLocal(rel) {
			continue
		}
		if err := inside.Remove(rel); err == nil {
			out.Files = append(out.Files, filepath.ToSlash(rel))
		} else if !errors.Is(err, os.ErrNotExist) {
			return err
		}
	}
	return nil
}

// cleanUp ends what a dead steward has left. Its keeper has most likely done so already.
func cleanUp(ctx context.Context, root string, r *record.Record) (bool, error) {
	found, containers := false, false
	for _, s := range r.Services {
		containers = containers || s.Runs == stack.Container
		if s.PID > 1 && process.GroupOf(s.PID) == s.PID && isOurs(s.PID, root) {
			run.KillGroup(s.PID)
			found = true
		}
	}
	found = len(keeper.Marked(workspace.ID(root), "")) > 0 || found
	left := keeper.AskMarked(workspace.ID(root), "", execute.Grace)
	if containers || len(r.Services) == 0 {
		there, err := cleanEngines(ctx, root, r, containers)
		if found = found || there; err != nil {
			return found, err
		}
	}
	if len(left) > 0 {
		return found, stillThere(left)
	}
	r.Ended = true
	data, err := json.MarshalIndent(r, "", " ")
	if err != nil {
		return found, err
	}
	return found, workspace.WriteState(root, record.Name, data)
}

// cleanEngines removes a stack's containers, and tells whether there were any. Where nothing says
// that there are, an engine that can't be asked is no error.
func cleanEngines(ctx context.Context, root string, r *record.Record, certain bool) (bool, error) {
	list, err := engines.All(ctx, r.Options)
	defer engines.Close(list)
	switch {
	case err != nil && !certain:
		return false, nil
	case err != nil && len(list) == 0:
		return false, err
	}
	found := false
	for _, e := range list {
		there, err := e.List(ctx, map[string]string{engine.LabelStack: workspace.ID(root)})
		if err != nil {
			return found, err
		}
		found = found || len(there) > 0
		if err := keeper.RemoveContainers(ctx, e, workspace.ID(root)); err != nil {
			return found, err
		}
	}
	return found, nil
}

// isOurs reports whether a process is one that the workspace's stack has started: its number may be
// another's by now. On Linux it carries our mark; where that can't be seen, it works in the
// workspace.
func isOurs(pid int, root string) bool {
	if mark := process.MarkOf(pid); mark != "" || runtime.GOOS == "linux" {
		return mark == workspace.ID(root)
	}
	dir, err := os.Readlink(fmt.Sprintf("/proc/%d/cwd", pid))
	if err != nil {
		return false
	}
	if real, err := filepath.EvalSymlinks(root); err == nil {
		root = real
	}
	rel, err := filepath.Rel(root, dir)
	return err == nil && filepath.IsLocal(rel)
}
