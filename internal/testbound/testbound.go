// Package testbound holds tests to bounds of memory and time: what reads a checkout that nobody has vouched for must
// not take more of either than the size of its input explains.
package testbound

import (
	"runtime"
	"testing"
	"time"
)

// Within fails the test if f allocates more than that many megabytes in all, or takes longer. Other goroutines' memory
// counts too, so that tests which run in parallel have to allow for each other.
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
