package engine

import (
	"context"
	"encoding/json"
	"time"

	"github.com/moby/moby/api/types/container"
	"github.com/moby/moby/client"
)

// Usage tells how much of the processors' time a container has used since it was started, and how
// many bytes of memory it has now, without what the system keeps of files for it.
func (e *Engine) Usage(ctx context.Context,
	id string) (cpu time.Duration, memory uint64, err error) {
	result, err := e.cli.ContainerStats(ctx, id, client.ContainerStatsOptions{})
	if err != nil {
		return 0, 0, err
	}
	defer result.Body.Close()
	var s container.StatsResponse
	if err := json.NewDecoder(result.Body).Decode(&s); err != nil {
		return 0, 0, err
	}
	memory = s.MemoryStats.Usage
	for _, key := range []string{"inactive_file", "total_inactive_file"} { // cgroup v2, v1
		if kept := s.MemoryStats.Stats[key]; kept > 0 && kept <= memory {
			return time.Duration(s.CPUStats.CPUUsage.TotalUsage), memory - kept, nil
		}
	}
	return time.Duration(s.CPUStats.CPUUsage.TotalUsage), memory, nil
}
