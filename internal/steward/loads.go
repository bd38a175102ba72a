package steward

import (
	"context"
	"sync"
	"time"

	"nimbleharbor/internal/engine"
	"nimbleharbor/internal/engines"
	"nimbleharbor/internal/record"
	"nimbleharbor/internal/stack"
)

// Load is what a service takes of its machine: with all the processes that it has started, or its
// container.
type Load struct {
	Memory    uint64  // bytes
	Cores     float64 // used since the look before; negative where there was none
	Processes int     // zero for a container
}

// Loads looks at what the services of a stack take, again and again. It is for one goroutine.
type Loads struct {
	engines []*engine.Engine
	before  map[string]spent
}

// spent is the time of processors that a service has used up to a moment.
type spent struct {
	at  time.Time
	cpu time.Duration
}

// NewLoads connects to the engines that the record's stack runs on, where there are any; Close lets
// go of them.
func NewLoads(ctx context.Context, r *record.Record) *Loads {
	l := &Loads{before: map[string]spent{}}
	if r.InContainers() {
		l.engines, _ = engines.All(ctx, r.Options) // of what can't be reached nothing is told
	}
	return l
}

// Close lets go of the engines.
func (l *Loads) Close() { engines.Close(l.engines) }

// Look tells what each running service takes, by its name. What can't be seen is absent.
func (l *Loads) Look(ctx context.Context, r *record.Record) map[string]Load {
	out := map[string]Load{}
	groups := map[int]string{}
	for _, s := range r.Services {
		if s.Runs == stack.Native && s.PID > 1 && s.Running() {
			groups[s.PID] = s.Name
		}
	}
	now := time.Now()
	for name, taken := range takenBy(groups) {
		out[name] = l.since(name, now, taken.cpu,
			Load{Memory: taken.memory, Processes: taken.processes})
	}
	var mu sync.Mutex
	var wait sync.WaitGroup
	for _, e := range l.engines {
		list, err := e.List(ctx, map[string]string{engine.LabelStack: r.ID})
		if err != nil {
			continue
		}
		for _, c := range list {
			if !c.Running || c.Service == "" {
				continue
			}
			wait.Go(func() {
				cpu, memory, err := e.Usage(ctx, c.ID)
				if err != nil {
					return
				}
				mu.Lock()
				defer mu.Unlock()
				out[c.Service] = l.since(c.Service, time.Now(), cpu, Load{Memory: memory})
			})
		}
	}
	wait.Wait()
	return out
}

// since completes a load with what was used since the look before.
func (l *Loads) since(name string, now time.Time, cpu time.Duration, load Load) Load {
	before, known := l.before[name]
	l.before[name] = spent{now, cpu}
	load.Cores = -1
	if gone := now.Sub(before.at); known && cpu >= before.cpu && gone > 0 {
		load.Cores = float64(cpu-before.cpu) / float64(gone)
	}
	return load
}

// taken is what the processes of a group have.
type taken struct {
	cpu       time.Duration
	memory    uint64
	processes int
}
