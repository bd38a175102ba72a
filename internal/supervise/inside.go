package supervise

import (
	"context"
	"fmt"
	"os"
	"runtime"
	"strings"
	"time"

	"nimbleharbor/internal/diagnose"
	"nimbleharbor/internal/engine"
	"nimbleharbor/internal/protocol"
	"nimbleharbor/internal/sockets"
	"nimbleharbor/internal/stack"
)

// lookInside sees who listens inside of a service's container, where that matters: the engine's
// forwarder accepts before anybody is there.
func (j *judgement) lookInside(ctx context.Context, known *diagnose.Port, c *engine.Listed) {
	accepted := known.Check.Verdict == stack.Answers &&
		(known.Check.Expected == protocol.Plain || known.Gentle)
	if known.Check.Verdict != stack.Refuses && !accepted {
		return
	}
	list, ok := listensInside(ctx, c.On, c.ID)
	if !ok {
		return
	}
	known.Known = true
	listens := false
	for _, l := range list {
		known.Inside = append(known.Inside, diagnose.Listening(l))
		listens = listens || l.Port == known.Target && !l.Loopback
	}
	if accepted && !listens {
		known.Check.Verdict, known.Check.Speaks, known.Check.Cause = stack.Refuses, "", ""
	}
}

// listensInside tells who listens inside of a container: by the kernel's tables of its network,
// where this user may read them, else by what the container's own cat says.
func listensInside(ctx context.Context, e *engine.Engine, id string) ([]sockets.Listening, bool) {
	if e == nil {
		return nil, false
	}
	ctx, cancel := context.WithTimeout(ctx, 3*time.Second)
	defer cancel()
	if runtime.GOOS == "linux" && strings.HasPrefix(e.Address, "unix://") {
		if s, err := e.Inspect(ctx, id); err == nil && s.Running && isOf(s.PID, id) {
			if list, ok := sockets.Inside(s.PID); ok {
				return list, true
			}
		}
	}
	out, code, err := e.Output(ctx, id, []string{"cat", "/proc/net/tcp", "/proc/net/tcp6"})
	if err != nil || len(out) == 0 || code != 0 && !strings.Contains(string(out), "local_address") {
		return nil, false
	}
	return sockets.Parse(out), true
}

// isOf reports whether a process of this machine is in the container.
func isOf(pid int, id string) bool {
	data, err := os.ReadFile(fmt.Sprintf("/proc/%d/cgroup", pid))
	return err == nil && len(id) > 12 && strings.Contains(string(data), id[:12])
}
