package keeper

import (
	"os"
	"slices"
	"sync"
	"syscall"
	"time"

	"nimbleharbor/internal/process"
	"nimbleharbor/internal/run"
)

// A process that has left its group and its session, and thrown away its variables, carries no mark
// any more. While the steward lives such a process, once its parent has ended, is the steward's
// child (run.Adopt): then it is found by that, told to the keeper, and ended with the stack.

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
	for _, pid := range process.Descendants(os.Getpid(), keeper) {
		if g := process.GroupOf(pid); g > 1 && g != process.GroupOf(os.Getpid()) &&
			!slices.Contains(groups, g) && !isOver(pid) {
			groups = append(groups, g)
		}
	}
	return groups
}

// isOver reports whether a process has ended, and waits for somebody to take note of it.
func isOver(pid int) bool {
	fields := process.StatOf(pid)
	return len(fields) == 0 || fields[0] == "Z"
}

// TakeIn looks after the processes that became this one's children by themselves, until stop: those
// that live are in the keeper's care, those that have ended are taken note of. One that has ended
// is another's to wait for if it was started here; so only one that nobody has waited for since the
// last look is taken.
func TakeIn(k *Keeper, stop <-chan struct{}) {
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
		for _, pid := range process.Children(os.Getpid()) {
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
			if g := process.GroupOf(pid); g > 1 && held[pid] == 0 &&
				g != process.GroupOf(os.Getpid()) {
				held[pid] = g
				k.Hold(g)
			}
		}
		for pid, g := range held {
			if process.GroupOf(pid) == 0 {
				delete(held, pid)
				k.Release(g)
			}
		}
		over = now
	}
}

// NoteSteward says which stack the process that asks owns, so that its own end and its keeper are
// told from strays.
func NoteSteward(id string, keeper *Keeper) {
	owned.Lock()
	defer owned.Unlock()
	owned.id, owned.keeper = id, keeper.cmd.Process.Pid
}
