package standin

import (
	"time"

	"github.com/moby/moby/api/types/container"
	"github.com/shirou/gopsutil/v4/process"
)

// stats are what a container's process takes; zero where it doesn't run.
func (b *box) stats() *container.StatsResponse {
	out := &container.StatsResponse{Read: time.Now()}
	b.mu.Lock()
	defer b.mu.Unlock()
	if !b.alive() {
		return out
	}
	p := &process.Process{Pid: int32(b.command.Process.Pid)}
	if m, err := p.MemoryInfo(); err == nil {
		out.MemoryStats.Usage = m.RSS
	}
	if t, err := p.Times(); err == nil {
		out.CPUStats.CPUUsage.TotalUsage = uint64((t.User + t.System) * float64(time.Second))
	}
	return out
}
