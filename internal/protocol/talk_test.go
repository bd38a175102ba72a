package protocol

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"sync"
	"testing"
	"time"

	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/testport"
)

// serve answers connections on a port of its own until the test ends, and gives the port.
func serve(t *testing.T, network string, answer func(net.Conn)) int {
	t.Helper()
	address := "127.0.0.1:0"
	if network == "tcp6" {
		address = "[::1]:0"
	}
	l, err := net.Listen(network, address)
	if err != nil {
		t.Skipf("this machine has no %s loopback: %v", network, err)
	}
	var open sync.WaitGroup
	var mu sync.Mutex
	var conns []net.Conn
	open.Go(func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			mu.Lock()
			conns = append(conns, c)
			mu.Unlock()
			open.Go(func() {
				defer c.Close()
				answer(c)
			})
		}
	})
	t.Cleanup(func() {
		l.Close()
		mu.Lock()
		for _, c := range conns {
			c.Close()
		}
		mu.Unlock()
		open.Wait()
	})
	return l.Addr().(*net.TCPAddr).Port
}

// says answers the first bytes that it reads with a text.
func says(text string) func(net.Conn) {
	return func(c net.Conn) {
		if _, err := c.Read(make([]byte, 512)); err == nil {
			io.WriteString(c, text)
		}
	}
}

// greets speaks first, and then keeps the connection.
func greets(text string) func(net.Conn) {
	return func(c net.Conn) {
		io.WriteString(c, text)
		io.Copy(io.Discard, c)
	}
}

func silent(c net.Conn) { io.Copy(io.Discard, c) }

func hangsUp(net.Conn) {}

func page(status, headers, body string) func(net.Conn) {
	return says(fmt.Sprintf("HTTP/1.1 %s\r\nContent-Length: %d\r\n%s\r\n%s", status, len(body), headers, body))
}

func pgError(code, text string) string {
	body := "SFATAL\x00C" + code + "\x00M" + text + "\x00\x00"
	return "E" + string([]byte{0, 0, 0, byte(len(body) + 4)}) + body
}

func TestAsk(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		name, speaks string
		server       func(net.Conn)
		want         stack.Verdict
		who, cause   string
		status       int
		title        string
	}{
		{"a page", "http", page("200 OK", "", "<html><title> The &amp;\n harbour </title>"), stack.Answers, "http", "",
			200, "The & harbour"},
		{"a sign-in", "http", page("401 Unauthorized", "", ""), stack.Answers, "http", "", 401, ""},
		{"a redirection", "http", page("302 Found", "Location: /login\r\n", ""), stack.Answers, "http", "", 302, ""},
		{"not found", "http", page("404 Not Found", "", ""), stack.Answers, "http", "", 404, ""},
		{"a server error", "http", page("500 Internal Server Error", "", "trace"), stack.Errs, "http", "status 500",
			500, ""},
		{"a refused host", "http", page("400 Bad Request", "", "Invalid Host header"), stack.Errs, "http", "host name",
			400, ""},
		{"a page from redis", "http", says("-ERR unknown command 'GET'\r\n"), stack.Stranger, "redis", "", 0, ""},
		{"a page from nobody", "http", silent, stack.Silent, "", "", 0, ""},
		{"a page that is hung up on", "http", hangsUp, stack.Refuses, "", HungUp, 0, ""},
		{"postgres asks for a password", "postgres", says("R\x00\x00\x00\x08\x00\x00\x00\x0a"), stack.Answers,
			"postgres", "", 0, ""},
		{"postgres knows no such user", "postgres", says(pgError("28000", "no pg_hba.conf entry")), stack.Answers,
			"postgres", "", 0, ""},
		{"postgres starts up", "postgres", says(pgError("57P03", "the database system is starting up")), stack.Errs,
			"postgres", "starting up", 0, ""},
		{"postgres is a web server", "postgres", says("HTTP/1.1 400 Bad Request\r\n\r\n"), stack.Stranger, "http", "",
			0, ""},
		{"redis", "redis", says("+PONG\r\n"), stack.Answers, "redis", "", 0, ""},
		{"redis wants a password", "redis", says("-NOAUTH Authentication required.\r\n"), stack.Answers, "redis", "", 0,
			""},
		{"redis loads", "redis", says("-LOADING Redis is loading the dataset in memory\r\n"), stack.Errs, "redis",
			"loading", 0, ""},
		{"redis is a web server", "redis", says("HTTP/1.1 400 Bad Request\r\n\r\n"), stack.Stranger, "http", "", 0, ""},
		{"redis is secure shell", "redis", greets("SSH-2.0-x\r\n"), stack.Stranger, "ssh", "", 0, ""},
		{"mail", "smtp", greets("220 mail.example\r\n"), stack.Answers, "smtp", "", 0, ""},
		{"mysql", "mysql", greets("\x4a\x00\x00\x00\x0a8.0\x00"), stack.Answers, "mysql", "", 0, ""},
		{"mysql is mail", "mysql", greets("220 mail.example\r\n"), stack.Stranger, "smtp", "", 0, ""},
		{"anything that accepts", "tcp", silent, stack.Answers, "tcp", "", 0, ""},
		{"anything that greets", "tcp", greets("hello"), stack.Answers, "tcp", "", 0, ""},
		{"anything that hangs up", "tcp", hangsUp, stack.Refuses, "", HungUp, 0, ""},
		{"a protocol that is not known", "amqp", silent, stack.Answers, "tcp", "", 0, ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			port := serve(t, "tcp4", c.server)
			ctx := t.Context()
			if c.want == stack.Silent {
				short, cancel := context.WithTimeout(ctx, 100*time.Millisecond)
				defer cancel()
				ctx = short
			}
			got := Ask(ctx, port, c.speaks)
			if got.Verdict != c.want || got.Speaks != c.who || got.Status != c.status || got.Title != c.title ||
				!strings.Contains(got.Cause, c.cause) || c.cause == "" && got.Cause != "" {
				t.Errorf("got %+v", got)
			}
			if got.Address != fmt.Sprintf("127.0.0.1:%d", port) || got.Expected != c.speaks {
				t.Errorf("asked was %s for %s", got.Address, got.Expected)
			}
		})
	}
}

func TestNothingListens(t *testing.T) {
	t.Parallel()
	if c := Ask(t.Context(), testport.Take(t), "http"); c.Verdict != stack.Refuses || c.Cause != "" ||
		c.LatencyMs != 0 {
		t.Errorf("got %+v", c)
	}
}

func TestTheOtherLoopbackOnIPv6(t *testing.T) {
	t.Parallel()
	port := serve(t, "tcp6", page("200 OK", "", ""))
	if c := Ask(t.Context(), port, "http"); c.Verdict != stack.Answers || c.Address != fmt.Sprintf("[::1]:%d", port) {
		t.Errorf("got %+v", c)
	}
}

func TestAwait(t *testing.T) {
	t.Parallel()
	var mu sync.Mutex
	calls := 0
	port := serve(t, "tcp4", func(c net.Conn) {
		mu.Lock()
		calls++
		n := calls
		mu.Unlock()
		switch {
		case n < 3: // hangs up, as a forwarder does
		case n < 5:
			page("503 Service Unavailable", "", "")(c)
		default:
			page("200 OK", "", "")(c)
		}
	})
	if c := Await(t.Context(), port, "http", time.Minute); c.Verdict != stack.Answers {
		t.Errorf("got %+v", c)
	}
	bad := serve(t, "tcp4", page("500 Internal Server Error", "", ""))
	if c := Await(t.Context(), bad, "http", 10*time.Millisecond); c.Verdict != stack.Errs {
		t.Errorf("of a server that errs: %+v", c)
	}
	ctx, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer cancel()
	if c := Await(ctx, testport.Take(t), "http", time.Minute); c.Verdict != stack.Refuses {
		t.Errorf("of nothing: %+v", c)
	}
}

func BenchmarkAskHTTP(b *testing.B) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		b.Fatal(err)
	}
	defer l.Close()
	go http.Serve(l, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { bufio.NewWriter(w).Flush() }))
	port := l.Addr().(*net.TCPAddr).Port
	for b.Loop() {
		if c := Ask(b.Context(), port, "http"); c.Verdict != stack.Answers {
			b.Fatalf("%+v", c)
		}
	}
}
