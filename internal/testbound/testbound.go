// Package testbound holds tests to bounds of memory and time: what reads a checkout that nobody has
// vouched for must not take more of either than the size of its input explains.
package testbound

import (
	"runtime"
	"runtime/metrics"
	"testing"
	"time"
)

// Within fails the test if f allocates more than that many megabytes in all, or takes longer. Other
// goroutines' memory counts too, so that tests which run in parallel have to allow for each other.
func Within(t testing.TB, megabytes int, limit time.Duration, f func()) {
	t.Helper()
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	begin := time.Now()
	f()
	took := time.Since(begin)
	runtime.ReadMemStats(&after)
	if used := int((after.TotalAlloc - before.TotalAlloc) >> 20); used > megabytes {
		t.Errorf("it allocates %d MB, more than %d", used, megabytes)
	}
	if took > limit {
		t.Errorf("it takes %v, more than %v", took, limit)
	}
}

// Peak runs f and gives the most bytes of heap that were held at once meanwhile, garbage included,
// as far as looking every few milliseconds shows it.
func Peak(f func()) uint64 {
	sample := []metrics.Sample{{Name: "/memory/classes/heap/objects:bytes"}, {
		Name: "/memory/classes/heap/unused:bytes"}}
	done, most := make(chan struct{}), make(chan uint64)
	go func() {
		var high uint64
		for tick := time.NewTicker(5 * time.Millisecond); ; {
			metrics.Read(sample)
			high = max(high, sample[0].Value.Uint64()+sample[1].Value.Uint64())
			select {
			case <-tick.C:
			case <-done:
				tick.Stop()
				most <- high
				return
			}
		}
	}()
	f()
	close(done)
	return <-most
}

// Long is how long a test waits for anything at most: far longer than it takes on a machine that
// others keep busy, and shorter than the time after which go ends the whole suite without a word.
const Long = 2 * time.Minute

// Got waits for a value, or for a channel to be closed. The test ends if it doesn't come; what says
// what was waited for.
func Got[T any](t testing.TB, what string, from <-chan T) T {
	t.Helper()
	select {
	case got := <-from:
		return got
	case <-time.After(Long):
		t.Fatalf("waited for %v in vain: %s", Long, what)
		panic("not reached")
	}
}
