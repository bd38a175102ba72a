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
	"sync/atomic"
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
	return says(fmt.Sprintf("HTTP/1.1 %s\r\nContent-Length: %d\r\n%s\r\n%s", status, len(body),
		headers, body))
}

// leadsOn is a server whose every page leads to another.
func leadsOn() func(net.Conn) {
	var page atomic.Int32
	return func(c net.Conn) {
		if _, err := c.Read(make([]byte, 512)); err == nil {
			fmt.Fprintf(c, "HTTP/1.1 302 Found\r\nLocation: /%d\r\nContent-Length: 0\r\n\r\n",
				page.Add(1))
		}
	}
}

// endless says a thing, and then another again and again until it is hung up on.
func endless(first, again string) func(net.Conn) {
	return func(c net.Conn) {
		c.Read(make([]byte, 512))
		io.WriteString(c, first)
		for err := error(nil); err == nil; {
			_, err = io.WriteString(c, again)
		}
	}
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
		{"a page", "http", page("200 OK", "", "<html><title> The &amp;\n harbour </title>"),
			stack.Answers, "http", "", 200, "The & harbour"},
		{"a sign-in", "http", page("401 Unauthorized", "", ""), stack.Answers, "http", "", 401, ""},
		{"a redirection elsewhere", "http",
			page("302 Found", "Location: https://quay.example/login\r\n", ""),
			stack.Answers, "http", "", 302, ""},
		{"redirections without end", "http", leadsOn(), stack.Errs, "http", "on and on", 302, ""},
		{"not found", "http", page("404 Not Found", "", ""), stack.Answers, "http", "", 404, ""},
		{"a server error", "http", page("500 Internal Server Error", "", "trace"), stack.Errs,
			"http", "status 500", 500, ""},
		{"a refused host", "http", page("400 Bad Request", "", "Invalid Host header"), stack.Errs,
			"http", "host name", 400, ""},
		{"a page from redis", "http", says("-ERR unknown command 'GET'\r\n"), stack.Stranger,
			"redis", "", 0, ""},
		{"a page from nobody", "http", silent, stack.Silent, "", "", 0, ""},
		{"a page that is hung up on", "http", hangsUp, stack.Refuses, "", HungUp, 0, ""},
		{"postgres asks for a password", "postgres", says("R\x00\x00\x00\x08\x00\x00\x00\x0a"),
			stack.Answers, "postgres", "", 0, ""},
		{"postgres knows no such user", "postgres", says(pgError("28000", "no pg_hba.conf entry")),
			stack.Answers, "postgres", "", 0, ""},
		{"postgres starts up", "postgres",
			says(pgError("57P03", "the database system is starting up")), stack.Errs,
			"postgres", "starting up", 0, ""},
		{"postgres is a web server", "postgres", says("HTTP/1.1 400 Bad Request\r\n\r\n"),
			stack.Stranger, "http", "", 0, ""},
		{"redis", "redis", says("+PONG\r\n"), stack.Answers, "redis", "", 0, ""},
		{"redis wants a password", "redis", says("-NOAUTH Authentication required.\r\n"),
			stack.Answers, "redis", "", 0, ""},
		{"redis loads", "redis", says("-LOADING Redis is loading the dataset in memory\r\n"),
			stack.Errs, "redis", "loading", 0, ""},
		{"redis is a web server", "redis", says("HTTP/1.1 400 Bad Request\r\n\r\n"),
			stack.Stranger, "http", "", 0, ""},
		{"redis is secure shell", "redis", greets("SSH-2.0-x\r\n"), stack.Stranger, "ssh", "", 0,
			""},
		{"mail", "smtp", greets("220 mail.example\r\n"), stack.Answers, "smtp", "", 0, ""},
		{"mysql", "mysql", greets("\x4a\x00\x00\x00\x0a8.0\x00"), stack.Answers, "mysql", "", 0,
			""},
		{"mysql is mail", "mysql", greets("220 mail.example\r\n"), stack.Stranger, "smtp", "", 0,
			""},
		{"anything that accepts", "tcp", silent, stack.Answers, "tcp", "", 0, ""},
		{"anything that greets", "tcp", greets("hello"), stack.Answers, "tcp", "", 0, ""},
		{"anything that hangs up", "tcp", hangsUp, stack.Refuses, "", HungUp, 0, ""},
		{"tcp that is known", "tcp", greets("SSH-2.0-x\r\n"), stack.Answers, "ssh", "", 0, ""},
		{"a page of a strict server", "http", page("403 Forbidden", "", "Blocked host: localhost"),
			stack.Errs, "http", "host name", 403, ""},
		{"a head without end", "http", endless("HTTP/1.1 200 OK\r\n", "X-Tide: high\r\n"),
			stack.Stranger, "tcp", "goes on otherwise", 0, ""},
		{"a body without end", "http",
			endless("HTTP/1.1 200 OK\r\n\r\n<title>long</title>", "tide "), stack.Answers,
			"http", "", 200, "long"},
		{"garbage", "http", says("\x00\xff\x01\x02 garbage"), stack.Stranger, "tcp", "", 0, ""},
		{"http alone where tls was supposed", "https", page("200 OK", "", ""), stack.Answers,
			"http", "", 200, ""},
		{"no websocket here", "websocket", page("404 Not Found", "", ""), stack.Answers, "http",
			"does not change over", 404, ""},
		{"a websocket", "websocket",
			says("HTTP/1.1 101 Switching Protocols\r\nUpgrade: websocket\r\n\r\n"),
			stack.Answers, "websocket", "", 0, ""},
		{"mongodb", "mongodb", says("\x16\x00\x00\x00\x02\x00\x00\x00\x01\x00\x00\x00\xdd\x07\x00\x00\x00\x00\x00\x00" +
			"\x00\x01"), stack.Answers, "mongodb", "", 0, ""},
		{"amqp", "amqp", says("\x01\x00\x00\x00\x00\x00\x04\x00\x0a\x00\x0a\xce"), stack.Answers,
			"amqp", "", 0, ""},
		{"amqp of another version", "amqp", says("AMQP\x00\x01\x00\x00"), stack.Answers, "amqp",
			"another version", 0, ""},
		{"amqp is kept waiting", "amqp", silent, stack.Silent, "", "", 0, ""},
		{"kafka", "kafka", says("\x00\x00\x00\x0anhar\x00\x00\x00\x00\x00\x00"), stack.Answers,
			"kafka", "", 0, ""},
		{"nats", "nats", greets("INFO {\"server_id\":\"quay\"}\r\n"), stack.Answers, "nats", "", 0,
			""},
		{"mqtt", "mqtt", says("\x20\x02\x00\x00"), stack.Answers, "mqtt", "", 0, ""},
		{"mqtt that asks for a sign-in", "mqtt", says("\x20\x02\x00\x05"), stack.Answers, "mqtt",
			"", 0, ""},
		{"mqtt that can't", "mqtt", says("\x20\x02\x00\x03"), stack.Errs, "mqtt", "not available",
			0, ""},
		{"memcached", "memcached", says("VERSION 1.6.21\r\n"), stack.Answers, "memcached", "", 0,
			""},
		{"sql server", "sqlserver", says("\x04\x01\x00\x0b\x00\x00\x01\x00\x00\x00\x0b"),
			stack.Answers, "sqlserver", "", 0, ""},
		{"ldap", "ldap", says("\x30\x0c\x02\x01\x01\x61\x07\x0a\x01\x00\x04\x00\x04\x00"),
			stack.Answers, "ldap", "", 0, ""},
		{"ldap that is busy", "ldap",
			says("\x30\x0c\x02\x01\x01\x61\x07\x0a\x01\x33\x04\x00\x04\x00"), stack.Errs,
			"ldap", "busy", 0, ""},
		{"imap", "imap", greets("* OK quay ready\r\n"), stack.Answers, "imap", "", 0, ""},
		{"imap that leaves", "imap", greets("* BYE overloaded\r\n"), stack.Errs, "imap",
			"overloaded", 0, ""},
		{"ftp", "ftp", greets("220 (vsFTPd 3.0.3)\r\n"), stack.Answers, "ftp", "", 0, ""},
		{"ftp without a name", "ftp", greets("220 welcome\r\n"), stack.Answers, "ftp", "", 0, ""},
		{"ftp is mail", "ftp", greets("220 quay ESMTP\r\n"), stack.Stranger, "smtp", "", 0, ""},
		{"mail is ftp", "smtp", greets("220 ftp.example FTP ready\r\n"), stack.Answers, "smtp", "",
			0, ""},
		{"mail that has no room", "smtp", greets("421 too many\r\n"), stack.Errs, "smtp",
			"too many", 0, ""},
		{"mysql with no room", "mysql", greets("\x17\x00\x00\x00\xff\x10\x04Too many connections"),
			stack.Errs, "mysql", "Too many connections", 0, ""},
		{"search", "elasticsearch", page("200 OK", "", `{"cluster_name":"quay","tagline":"x"}`),
			stack.Answers, "elasticsearch", "", 200, ""},
		{"search is a page", "elasticsearch", page("200 OK", "", "<title>x</title>"),
			stack.Stranger, "http", "", 200, "x"},
		{"objects", "s3", page("403 Forbidden", "", "<Error><Code>AccessDenied</Code></Error>"),
			stack.Answers, "s3", "", 403, ""},
		{"dns over tcp", "dns", says("\x00\x0cnh\x81\x80\x00\x01\x00\x00\x00\x00\x00\x00"),
			stack.Answers, "dns", "", 0, ""},
		{"jdwp", "jdwp", says("JDWP-Handshake"), stack.Answers, "jdwp", "", 0, ""},
		{"inspector", "inspector", page("200 OK", "",
			`{"Browser":"node.js/v20","Protocol-Version":"1.1"}`),
			stack.Answers, "inspector", "", 0, "node.js/v20"},
		{"debugpy", "debugpy", greets("Content-Length: 90\r\n\r\n{}"), stack.Answers, "debugpy",
			"", 0, ""},
		{"delve", "delve", says(`{"id":1,"result":{"DelveVersion":"1"}}`), stack.Answers, "delve",
			"", 0, ""},
		{"a protocol that is not known", "quayside", silent, stack.Answers, "tcp", "", 0, ""},
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
			if got.Verdict != c.want || got.Speaks != c.who || got.Status != c.status ||
				got.Title != c.title ||
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
	if c := Ask(t.Context(), testport.Take(t), "http"); c.Verdict != stack.Refuses ||
		c.Cause != "" || c.LatencyMs != 0 {
		t.Errorf("got %+v", c)
	}
}

func TestTheOtherLoopbackOnIPv6(t *testing.T) {
	t.Parallel()
	port := serve(t, "tcp6", page("200 OK", "", ""))
	if c := Ask(t.Context(), port, "http"); c.Verdict != stack.Answers ||
		c.Address != fmt.Sprintf("[::1]:%d", port) {
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
	go http.Serve(l, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		bufio.NewWriter(w).Flush()
	}))
	port := l.Addr().(*net.TCPAddr).Port
	for b.Loop() {
		if c := Ask(b.Context(), port, "http"); c.Verdict != stack.Answers {
			b.Fatalf("%+v", c)
		}
	}
}
