package sockets

import (
	"fmt"
	"net"
	"os"
	"strings"
	"testing"

	"nimbleharbor/internal/testport"
)

// listen holds a port until the test ends.
func listen(t *testing.T) int {
	t.Helper()
	l, err := net.Listen("tcp4", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	return l.Addr().(*net.TCPAddr).Port
}

func TestOwner(t *testing.T) {
	t.Parallel()
	port := listen(t)
	o := Owner(port)
	if o == nil || o.PID != os.Getpid() || o.Command == "" {
		t.Errorf("the owner is %+v, and this is process %d", o, os.Getpid())
	}
	if o := Owner(testport.Take(t)); o != nil {
		t.Errorf("a free port is owned by %+v", o)
	}
}

func TestFree(t *testing.T) {
	t.Parallel()
	if port := listen(t); Free("", port) || Free("127.0.0.1", port) {
		t.Error("a taken port is called free")
	}
	if port := testport.Take(t); !Free("", port) || !Free("127.0.0.1", port) {
		t.Error("a free port is called taken")
	}
	c, err := net.ListenPacket("udp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	if port := c.LocalAddr().(*net.UDPAddr).Port; !UDPBound(port) {
		t.Error("a bound UDP port is called free")
	}
	c.Close()
}

// TestNoCommandLine makes sure that the owner's arguments, which may hold secrets, are not part of
// the answer.
func TestNoCommandLine(t *testing.T) {
	t.Parallel()
	for _, o := range Owners() {
		if strings.ContainsAny(o.Command, " =") && strings.Contains(o.Command, "--") {
			t.Errorf("the owner %q seems to come with its arguments", o.Command)
		}
	}
}

// TestParse reads the tables of a network in which one listens everywhere, one on the loopback
// alone and one on both.
func TestParse(t *testing.T) {
	t.Parallel()
	const tables = `  sl  local_address rem_address   st tx_queue rx_queue tr tm->when retrnsmt   uid  timeout inode
   0: 0100007F:1F90 00000000:0000 0A 00000000:00000000 00:00000000 00000000     0        0 1 1 0 100 0 0 10 0
   1: 00000000:0050 00000000:0000 0A 00000000:00000000 00:00000000 00000000     0        0 2 1 0 100 0 0 10 0
   2: 0100007F:0BB8 00000000:0000 0A 00000000:00000000 00:00000000 00000000     0        0 3 1 0 100 0 0 10 0
   3: 0100007F:9C40 0100007F:0BB8 01 00000000:00000000 00:00000000 00000000     0        0 4 1 0 100 0 0 10 0
   0: 00000000000000000000000001000000:2328 00000000000000000000000000000000:0000 0A 00000000:00000000 00:0 0 0 0 5
   1: 00000000000000000000000000000000:0BB8 00000000000000000000000000000000:0000 0A 00000000:00000000 00:0 0 0 0 6
`
	want := "[{8080 true} {80 false} {3000 false} {9000 true}]"
	if got := fmt.Sprint(Parse([]byte(tables))); got != want {
		t.Errorf("got %s, want %s", got, want)
	}
	if _, known := Inside(os.Getpid()); known {
		t.Error("our own network is taken for another one")
	}
}
