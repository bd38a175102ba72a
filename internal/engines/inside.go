package engines

import (
	"context"
	"fmt"
	"os"
	"runtime"
	"strings"
	"time"

	"nimbleharbor/internal/engine"
	"nimbleharbor/internal/sockets"
)

// Listening tells who listens inside of a container: by the kernel's tables of its network,
// where this user may read them, else by what the container's own cat says.
func Listening(ctx context.Context, e *engine.Engine, id string) ([]sockets.Listening, bool) {
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
