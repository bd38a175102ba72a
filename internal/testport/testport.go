// Package testport hands out TCP ports to tests that run at the same time in several processes.
package testport

import (
	"fmt"
	"net"
	"os"
	"path/filepath"
	"sync/atomic"
	"testing"

	"github.com/gofrs/flock"
)

// Width is how many consecutive ports belong to a test from the one that Take gives it.
const Width = 8

// The ports lie below 32768: from there on the system takes ports of its own for outgoing
// connections, so that one that was free a moment ago may not be when a server asks for it.
const first, blocks = 20000, 1500

var taken atomic.Int32

// Take gives the first of Width ports on which nothing listens. They are this test's until it ends:
// a locked file keeps the tests of every other package from them.
func Take(t testing.TB) int {
	t.Helper()
	folder := filepath.Join(os.TempDir(), fmt.Sprintf("nharbor-test-ports-%d", os.Getuid()))
	if err := os.MkdirAll(folder, 0o700); err != nil {
		t.Fatal(err)
	}
	start := os.Getpid()
	for range blocks {
		port := first + (start+int(taken.Add(1)))%blocks*Width
		lock := flock.New(filepath.Join(folder, fmt.Sprint(port)))
		if ok, err := lock.TryLock(); err != nil || !ok {
			continue
		}
		if !free(port) {
			lock.Unlock()
			continue
		}
		t.Cleanup(func() { lock.Unlock() })
		return port
	}
	t.Fatal("no port is free on this machine")
	return 0
}

func free(port int) bool {
	for p := port; p < port+Width; p++ {
		l, err := net.Listen("tcp", fmt.Sprintf(":%d", p))
		if err != nil {
			return false
		}
		l.Close()
	}
	return true
}
