package beside

import (
	"sync/atomic"
	"testing"
)

// TestPanicsWhereItIsWaited holds that all functions run to their ends, and that a panic is that of
// whoever waits.
func TestPanicsWhereItIsWaited(t *testing.T) {
	t.Parallel()
	var g Group
	var done atomic.Int64
	for i := range 9 {
		g.Go(func() {
			if i == 4 {
				panic("unforeseen")
			}
			done.Add(1)
		})
	}
	defer func() {
		if why := recover(); why != "unforeseen" || done.Load() != 8 {
			t.Errorf("it ends with %v, and %d are done", why, done.Load())
		}
	}()
	g.Wait()
}
