package demo

import (
	"io"
	"net"
	"path/filepath"
	"strings"
	"testing"

	"nimbleharbor/internal/protocol"
	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/testbound"
)

// between connects a client to a server's function.
func between(t *testing.T, serve func(net.Conn) error) net.Conn {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				serve(c)
			}()
		}
	}()
	c, err := net.Dial("tcp", l.Addr().String())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { c.Close() })
	return c
}

func TestLedger(t *testing.T) {
	t.Parallel()
	s := &ledgerServer{file: filepath.Join(t.TempDir(), "ledger"),
		data: ledgerData{User: "office", Password: "pier", Tables: map[string][]string{}}}
	if _, err := openLedger(between(t, s.serve), "office", "wrong", "ferry"); err == nil ||
		!strings.Contains(err.Error(), "password authentication failed") {
		t.Errorf("with a wrong password: %v", err)
	}
	db, err := openLedger(between(t, s.serve), "office", "pier", "ferry")
	if err != nil {
		t.Fatal(err)
	}
	for _, line := range []string{"07:10 to Gull Island", "it's late"} {
		if err := db.Write("departures", line); err != nil {
			t.Fatal(err)
		}
	}
	if rows, err := db.Read("departures"); err != nil ||
		strings.Join(rows, "|") != "07:10 to Gull Island|it's late" {
		t.Errorf("it holds %q, %v", rows, err)
	}
	if rows, err := db.Read("empty"); err != nil || len(rows) != 0 {
		t.Errorf("an empty table holds %q, %v", rows, err)
	}
	if _, err := db.do("DROP TABLE departures"); err == nil ||
		!strings.Contains(err.Error(), "not understood") {
		t.Errorf("an unknown statement: %v", err)
	}
	if v := protocol.AskConn(t.Context(), between(t, s.serve), "postgres"); v != stack.Answers {
		t.Errorf("asked as postgres it %s", v)
	}
	c := between(t, s.serve)
	io.WriteString(c, "GET / HTTP/1.1\r\n\r\n") // a length of 1195725856
	if n, err := c.Read(make([]byte, 1)); err == nil {
		t.Errorf("to nonsense it answers with %d bytes", n)
	}
}

func TestQueue(t *testing.T) {
	t.Parallel()
	s := newQueue()
	for range 3 {
		if v := protocol.AskConn(t.Context(), between(t, s.serve), "redis"); v != stack.Answers {
			t.Errorf("asked as redis it %s", v)
		}
	}
	push, pop := newQueueClient(between(t, s.serve)), newQueueClient(between(t, s.serve))
	got := make(chan string)
	go func() {
		v, err := pop.Pop("bookings")
		if err != nil {
			v = err.Error()
		}
		got <- v
	}()
	if err := push.Push("other", "x"); err != nil {
		t.Fatal(err)
	}
	if err := push.Push("bookings", "Ida\r\nBrandt"); err != nil {
		t.Fatal(err)
	}
	if v := testbound.Got(t, "what was pushed", got); v != "Ida\r\nBrandt" {
		t.Errorf("popped was %q", v)
	}
	c := between(t, s.serve)
	io.WriteString(c, "*1\r\n$99999999999\r\n")
	if n, err := c.Read(make([]byte, 1)); err == nil {
		t.Errorf("to nonsense it answers with %d bytes", n)
	}
}

func TestActorsAreCalledByName(t *testing.T) {
	t.Parallel()
	for _, args := range [][]string{{"nharbor"}, {"nharbor", "survey"}, {"nharbor", "act"},
		{"nharbor", "act", "nobody"}, {"npm", "ci"}, {"/x/node", "y.js"}} {
		if _, ok := Actor(args); ok {
			t.Errorf("%q was taken for an actor", args)
		}
	}
	for _, part := range []string{"database", "queue", "api", "worker", "timetable", "ask"} {
		if _, ok := Actor([]string{"nharbor", "act", part}); !ok {
			t.Errorf("%s is no actor", part)
		}
	}
}
