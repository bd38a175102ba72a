// Package keeper sees to it that nothing of a stack is left behind: a small process that outlives a
// steward by a moment, and finds what carries the stack's mark.
package keeper

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"nimbleharbor/internal/engine"
	"nimbleharbor/internal/process"
	"nimbleharbor/internal/run"
)

// Keeper is a small process beside the steward that outlives it by a moment: when the steward dies
// without having stopped its stack, the keeper ends the processes and the containers.
type Keeper struct {
	mu    sync.Mutex
	stdin io.WriteCloser
	cmd   *exec.Cmd
}

// Start starts a keeper by running the program with the words; it knows the engine by its
// address (empty for none) and the stack by its id.
func Start(program string, words, engines []string, stackID string) (*Keeper, error) {
	cmd := exec.Command(program, words...)
	stdin, err := cmd.StdinPipe()
	if err != nil {
		return nil, err
	}
	Detach(cmd)
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	k := &Keeper{stdin: stdin, cmd: cmd}
	k.tell("stack %s", stackID)
	for _, address := range engines {
		k.tell("engine %s %s", address, stackID)
	}
	return k, nil
}

func (k *Keeper) tell(format string, args ...any) {
	if k == nil {
		return
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	fmt.Fprintf(k.stdin, format+"\n", args...)
}

// Hold gives a process group into the keeper's care; Release takes it back.
func (k *Keeper) Hold(pid int)    { k.tell("hold %d", pid) }
func (k *Keeper) Release(pid int) { k.tell("release %d", pid) }

// Dismiss ends the keeper. What it still held is left alone.
func (k *Keeper) Dismiss() {
	if k == nil {
		return
	}
	k.tell("dismiss")
	k.stdin.Close()
	process.GoOn(k.cmd.Process.Pid) // it may have been stopped by a signal, and would never end
	k.cmd.Wait()
}

// Keep is the keeper's own work: it reads what it is told until the steward is gone.
func Keep(stdin io.Reader) {
	held := map[int]bool{}
	var addresses []string
	id := ""
	for lines := bufio.NewScanner(stdin); lines.Scan(); {
		words := strings.Fields(lines.Text())
		switch {
		case len(words) == 1 && words[0] == "dismiss":
			return
		case len(words) == 2 && words[0] == "stack":
			id = words[1]
		case len(words) == 2:
			pid, err := strconv.Atoi(words[1])
			if err != nil || pid < 2 {
				continue
			}
			if words[0] == "hold" {
				held[pid] = true
			} else {
				delete(held, pid)
			}
		case len(words) == 3 && words[0] == "engine":
			addresses, id = append(addresses, words[1]), words[2]
		}
	}
	for pid := range held {
		run.KillGroup(pid)
	}
	// The steward may have died before it could tell of a process that it had just started.
	EndMarked(id)
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	for _, address := range addresses {
		if e, err := engine.At(ctx, address); err == nil {
			RemoveContainers(ctx, e, id)
			e.Close()
		}
	}
}

// Marked lists the process groups that carry a stack's mark, of one service or of all for "", but
// for our own. It knows them on Linux alone.
func Marked(id, service string) []int {
	if id == "" {
		return nil
	}
	var out []int
	all, _ := filepath.Glob("/proc/[0-9]*")
	for _, file := range all {
		pid, err := strconv.Atoi(filepath.Base(file))
		if err != nil || pid == os.Getpid() {
			continue
		}
		stack, of := process.MarksOf(pid)
		group := process.GroupOf(pid)
		if stack == id && (service == "" || of == service) && group > 1 &&
			group != process.GroupOf(os.Getpid()) && !slices.Contains(out, group) {
			out = append(out, group)
		}
	}
	if service == "" {
		for _, group := range strays(id) {
			if !slices.Contains(out, group) {
				out = append(out, group)
			}
		}
	}
	return out
}

// EndMarked ends the process groups of all processes that carry a stack's mark, and tells how many
// there were.
func EndMarked(id string) int {
	groups := Marked(id, "")
	for _, g := range groups {
		run.KillGroup(g)
	}
	return len(groups)
}

// AskMarked asks the groups that carry a stack's mark, of one service or of all, to end, kills
// those that do not within the time, and gives those that are there all the same. It is for what
// has left the group that it was started in.
func AskMarked(id, service string, patience time.Duration) []int {
	groups := Marked(id, service)
	for _, g := range groups {
		run.EndGroup(g)
	}
	for end := time.Now().Add(patience); len(groups) > 0; time.Sleep(20 * time.Millisecond) {
		if groups = Marked(id, service); time.Now().After(end) {
			break
		}
	}
	for _, g := range groups {
		run.KillGroup(g)
	}
	for range 50 { // until the system has cleared them away
		if groups = Marked(id, service); len(groups) == 0 {
			break
		}
		time.Sleep(20 * time.Millisecond)
	}
	return groups
}

// RemoveContainers removes all containers and networks of a stack.
func RemoveContainers(ctx context.Context, e *engine.Engine, id string) error {
	labels := map[string]string{engine.LabelStack: id}
	list, err := e.List(ctx, labels)
	if err != nil {
		return err
	}
	var wait sync.WaitGroup
	for _, c := range list {
		wait.Go(func() {
			e.Stop(ctx, c.ID, 10*time.Second)
			e.Remove(ctx, c.ID)
		})
	}
	wait.Wait()
	return e.RemoveNetworks(ctx, labels)
}
