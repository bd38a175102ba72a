// Package beside runs functions side by side. One that panics does not end the program with a trace
// that nobody can read: the panic goes on in the goroutine that waits, which knows what it was
// about.
package beside

import "sync"

// Group runs functions until Wait. The zero value is ready; it may not be copied.
type Group struct {
	wait sync.WaitGroup

	mu  sync.Mutex
	why any // of the first panic
}

// Go runs a function in a goroutine of its own, which Wait waits for.
func (g *Group) Go(f func()) {
	g.wait.Go(func() {
		defer func() {
			if why := recover(); why != nil {
				g.mu.Lock()
				defer g.mu.Unlock()
				if g.why == nil {
					g.why = why
				}
			}
		}()
		f()
	})
}

// Wait waits for all functions, and panics if one of them has.
func (g *Group) Wait() {
	g.wait.Wait()
	if g.why != nil {
		panic(g.why)
	}
}
