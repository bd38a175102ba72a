package sockets

import (
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

// TestNoCommandLine makes sure that the owner's arguments, which may hold secrets, are not part of the answer.
func TestNoCommandLine(t *testing.T) {
	t.Parallel()
	for _, o := range Owners() {
		if strings.ContainsAny(o.Command, " =") && strings.Contains(o.Command, "--") {
			t.Errorf("the owner %q seems to come with its arguments", o.Command)
		}
	}
}
