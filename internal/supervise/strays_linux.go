package supervise

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"nimbleharbor/internal/run"
)

// A process that has left its group and its session, and thrown away its variables, carries no mark
// any more. While the steward lives such a process, once its parent has ended, is the steward's
// child (run.Adopt): then it is found by that, told to the keeper, and ended with the stack.

// childrenOf lists the children of a process.
func childrenOf(pid int) (out []int) {
	lists, _ := filepath.Glob(fmt.Sprintf("/proc/%d/task/*/children", pid))
	for _, list := range lists {
		data, err := os.ReadFile(list)
		if err != nil {
			continue
		}
		for word := range strings.FieldsSeq(string(data)) {
			if child, err := strconv.Atoi(word); err == nil {
				out = append(out, child)
			}
		}
	}
	return out
}

// descendants lists all processes below one, but for those below the ones left out.
func descendants(pid int, but ...int) (out []int) {
	for open := []int{pid}; len(open) > 0 && len(out) < 100_000; open = open[1:] {
		for _, child := range childrenOf(open[0]) {
			if !slices.Contains(but, child) {
				out, open = append(out, child), append(open, child)
			}
		}
	}
	return out
}

// statOf are what the system tells of a process behind its name: its state, its parent, and so on;
// empty if it is not there. A process can give itself any name, also one with brackets and blanks
// in it.
func statOf(pid int) []string {
	data, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return nil
	}
	return strings.Fields(string(data[bytes.LastIndexByte(data, ')')+1:]))
}

// isBelow reports whether a process descends from another one.
func isBelow(pid, from int) bool {
	for range 1000 {
		fields := statOf(pid)
		if len(fields) < 2 {
			return false
		}
		var err error
		if pid, err = strconv.Atoi(fields[1]); err != nil || pid < 2 {
			return false
		}
		if pid == from {
			return true
		}
	}
	return false
}

// owned is the stack that this process is the steward of, and its keeper; empty in all other
// processes.
var owned struct {
	sync.Mutex
	id     string
	keeper int // its process
}

// strays are the groups of all that this process has started for the stack that it owns, whatever
// they carry.
func strays(id string) (groups []int) {
	owned.Lock()
	own, keeper := owned.id == id && id != "", owned.keeper
	owned.Unlock()
	if !own {
		return nil
	}
	for _, pid := range descendants(os.Getpid(), keeper) {
		if g := groupOf(pid); g > 1 && g != groupOf(os.Getpid()) && !slices.Contains(groups, g) &&
			!isOver(pid) {
			groups = append(groups, g)
		}
	}
	return groups
}

// isOver reports whether a process has ended, and waits for somebody to take note of it.
func isOver(pid int) bool {
	fields := statOf(pid)
	return len(fields) == 0 || fields[0] == "Z"
}

// takeIn looks after the processes that became this one's children by themselves, until stop: those
// that live are in the keeper's care, those that have ended are taken note of. One that has ended
// is another's to wait for if it was started here; so only one that nobody has waited for since the
// last look is taken.
func takeIn(k *Keeper, stop <-chan struct{}) {
	held, over := map[int]int{}, map[int]bool{}
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for {
		select {
		case <-stop:
			return
		case <-tick.C:
		}
		now := map[int]bool{}
		for _, pid := range childrenOf(os.Getpid()) {
			if run.Begun(pid) || pid == k.cmd.Process.Pid {
				continue
			}
			if isOver(pid) {
				if now[pid] = true; over[pid] {
					var status syscall.WaitStatus
					syscall.Wait4(pid, &status, syscall.WNOHANG, nil)
				}
				continue
			}
			if g := groupOf(pid); g > 1 && held[pid] == 0 && g != groupOf(os.Getpid()) {
				held[pid] = g
				k.Hold(g)
			}
		}
		for pid, g := range held {
			if groupOf(pid) == 0 {
				delete(held, pid)
				k.Release(g)
			}
		}
		over = now
	}
}

func noteSteward(id string, keeper *exec.Cmd) {
	owned.Lock()
	defer owned.Unlock()
	owned.id, owned.keeper = id, keeper.Process.Pid
}
