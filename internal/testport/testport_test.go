package testport

import (
	"fmt"
	"net"
	"testing"
)

func TestTake(t *testing.T) {
	t.Parallel()
	seen := map[int]bool{}
	for range 40 {
		port := Take(t)
		for p := port; p < port+Width; p++ {
			if seen[p] || p >= 32768 {
				t.Fatalf("port %d was given twice, or is the system's", p)
			}
			seen[p] = true
		}
		l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port))
		if err != nil {
			t.Fatalf("somebody listens on it: %v", err)
		}
		l.Close()
	}
}

// TestGivenBack takes more ports than there are, one test after another.
func TestGivenBack(t *testing.T) {
	for range 2 {
		t.Run("", func(t *testing.T) {
			for range blocks / 4 {
				Take(t)
			}
		})
	}
}
