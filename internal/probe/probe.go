// Package probe speaks to ports: it tells whether what listens there answers in the protocol that is
// expected of it, and who it is when it does not.
package probe

import (
	"bufio"
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"html"
	"io"
	"net"
	"net/http"
	"strconv"
	"strings"
	"syscall"
	"time"
	"unicode/utf8"

	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/stack"
)

// Patience is how long one question waits for an answer. The first page of a server may need seconds.
const Patience = 5 * time.Second

// Ask speaks to a TCP port of this machine and gives the verdict; Service, Cause and Remedy are left to
// the caller. The protocol "tcp" asks for nothing but that somebody accepts.
func Ask(ctx context.Context, port int, speaks string) stack.PortCheck {
	return AskAt(ctx, []string{"127.0.0.1", "::1"}, port, speaks)
}

// AskAt is Ask for the given addresses, the first that accepts.
func AskAt(ctx context.Context, hosts []string, port int, speaks string) stack.PortCheck {
	c := stack.PortCheck{Address: net.JoinHostPort(hosts[0], strconv.Itoa(port)), Expected: speaks,
		Verdict: stack.Refuses}
	for _, host := range hosts {
		address := net.JoinHostPort(host, strconv.Itoa(port))
		start := time.Now()
		conn, err := dial(ctx, address)
		if err != nil {
			continue
		}
		c.Address = address
		a := speak(ctx, conn, address, speaks)
		conn.Close()
		c.Verdict, c.Speaks, c.Status, c.Title, c.Cause = a.verdict, a.speaks, a.status, a.title, a.says
		c.LatencyMs = float64(time.Since(start).Microseconds()) / 1000
		if c.Verdict != stack.Refuses {
			break
		}
	}
	return c
}

func dial(ctx context.Context, address string) (net.Conn, error) {
	d := net.Dialer{Timeout: 2 * time.Second}
	return d.DialContext(ctx, "tcp", address)
}

type answer struct {
	verdict stack.Verdict
	speaks  string
	status  int
	title   string
	says    string // what an error answer says
}

func speak(ctx context.Context, conn net.Conn, address, speaks string) answer {
	deadline := time.Now().Add(Patience)
	if d, ok := ctx.Deadline(); ok && d.Before(deadline) {
		deadline = d
	}
	conn.SetDeadline(deadline)
	stop := context.AfterFunc(ctx, func() { conn.SetDeadline(time.Unix(1, 0)) })
	defer stop()
	var a answer
	switch speaks {
	case "http":
		a = askHTTP(conn, address)
	case "postgres":
		a = askPostgres(conn)
	case "redis":
		a = askRedis(conn)
	case "mysql":
		a = readGreeting(conn, "mysql")
	case "smtp":
		a = readGreeting(conn, "smtp")
	default:
		return askTCP(conn)
	}
	if a.verdict == stack.Stranger && a.speaks == "" {
		a.speaks = identify(ctx, address)
	}
	return a
}

// HungUp is the cause when a port that refuses did accept, and hung up without a word.
const HungUp = "it accepts the connection and hangs up without a word"

// hangUp tells apart a peer that closed at once, as an engine's forwarder does when nothing listens
// behind it, from one that said nothing.
func hangUp(err error) answer {
	if errors.Is(err, io.EOF) || errors.Is(err, syscall.ECONNRESET) || errors.Is(err, io.ErrUnexpectedEOF) ||
		errors.Is(err, syscall.EPIPE) {
		return answer{verdict: stack.Refuses, says: HungUp}
	}
	return answer{verdict: stack.Silent}
}

// askTCP accepts anybody who doesn't hang up at once.
func askTCP(conn net.Conn) answer {
	conn.SetReadDeadline(time.Now().Add(80 * time.Millisecond))
	var b [1]byte
	_, err := conn.Read(b[:])
	if err == nil || isTimeout(err) {
		return answer{verdict: stack.Answers, speaks: "tcp"}
	}
	return hangUp(err)
}

func isTimeout(err error) bool {
	var n net.Error
	return errors.As(err, &n) && n.Timeout()
}

var titleTag = expr.New(`(?is)<title[^>]*>(.*?)</title>`)

func askHTTP(conn net.Conn, address string) answer {
	req, err := http.NewRequest(http.MethodGet, "http://"+localName(address)+"/", nil)
	if err != nil {
		return answer{verdict: stack.Silent}
	}
	req.Header.Set("Accept", "text/html, application/json, */*")
	req.Header.Set("User-Agent", "nharbor")
	req.Close = true
	if err := req.Write(conn); err != nil {
		return hangUp(err)
	}
	r := bufio.NewReader(conn)
	first, err := r.Peek(5)
	if len(first) == 0 {
		return hangUp(err)
	}
	if string(first) != "HTTP/" {
		return answer{verdict: stack.Stranger, speaks: bannerOf(first)}
	}
	resp, err := http.ReadResponse(r, req)
	if err != nil {
		return answer{verdict: stack.Stranger, speaks: "tcp"}
	}
	defer resp.Body.Close()
	a := answer{verdict: stack.Answers, speaks: "http", status: resp.StatusCode}
	body, _ := io.ReadAll(io.LimitReader(resp.Body, 64<<10))
	if m := titleTag.FindSubmatch(body); m != nil {
		a.title = oneLine(html.UnescapeString(string(m[1])), 80)
	}
	switch {
	case resp.StatusCode >= 500:
		a.verdict, a.says = stack.Errs, fmt.Sprintf("it answers with status %d", resp.StatusCode)
	case resp.StatusCode == http.StatusBadRequest && bytes.Contains(bytes.ToLower(body), []byte("host header")):
		a.verdict, a.says = stack.Errs, "it refuses the host name it was called by"
	}
	return a
}

// localName is the address as a browser would write it.
func localName(address string) string {
	_, port, _ := net.SplitHostPort(address)
	return "localhost:" + port
}

func oneLine(s string, limit int) string {
	s = strings.Join(strings.Fields(strings.ToValidUTF8(s, "")), " ")
	if utf8.RuneCountInString(s) > limit {
		s = string([]rune(s)[:limit-1]) + "…"
	}
	return s
}

// askPostgres sends a start-up message of protocol 3.0 and reads the first answer: a request to
// authenticate is as good as one can get without a password.
func askPostgres(conn net.Conn) answer {
	var body []byte
	body = binary.BigEndian.AppendUint32(body, 3<<16)
	body = append(body, "user\x00nharbor\x00database\x00nharbor\x00\x00"...)
	msg := binary.BigEndian.AppendUint32(nil, uint32(len(body)+4))
	if _, err := conn.Write(append(msg, body...)); err != nil {
		return hangUp(err)
	}
	head := make([]byte, 5)
	if n, err := io.ReadFull(conn, head); err != nil {
		if n > 0 {
			return answer{verdict: stack.Stranger, speaks: bannerOf(head[:n])}
		}
		return hangUp(err)
	}
	size := binary.BigEndian.Uint32(head[1:])
	switch {
	case head[0] == 'R' && size >= 8 && size < 1<<16:
		return answer{verdict: stack.Answers, speaks: "postgres"}
	case head[0] == 'E' && size >= 4 && size < 1<<16:
		fields := make([]byte, size-4)
		io.ReadFull(conn, fields)
		code, text := "", ""
		for _, f := range bytes.Split(fields, []byte{0}) {
			if len(f) > 1 && f[0] == 'C' {
				code = string(f[1:])
			} else if len(f) > 1 && f[0] == 'M' {
				text = string(f[1:])
			}
		}
		// Class 28 refuses the user, 3D knows no such database: both come from a server that works.
		if strings.HasPrefix(code, "28") || strings.HasPrefix(code, "3D") {
			return answer{verdict: stack.Answers, speaks: "postgres"}
		}
		return answer{verdict: stack.Errs, speaks: "postgres", says: "it says: " + oneLine(text, 120)}
	}
	return answer{verdict: stack.Stranger, speaks: bannerOf(head)}
}

func askRedis(conn net.Conn) answer {
	if _, err := conn.Write([]byte("PING\r\n")); err != nil {
		return hangUp(err)
	}
	line, err := bufio.NewReader(conn).ReadString('\n')
	line = strings.TrimSpace(line)
	switch {
	case line == "" && err != nil:
		return hangUp(err)
	case line == "+PONG", strings.HasPrefix(line, "-NOAUTH"), strings.HasPrefix(line, "-DENIED"):
		return answer{verdict: stack.Answers, speaks: "redis"}
	case strings.HasPrefix(line, "-LOADING"), strings.HasPrefix(line, "-MASTERDOWN"), strings.HasPrefix(line, "-BUSY"):
		return answer{verdict: stack.Errs, speaks: "redis", says: "it says: " + oneLine(line[1:], 120)}
	}
	return answer{verdict: stack.Stranger, speaks: bannerOf([]byte(line))}
}

// readGreeting is for protocols in which the server speaks first.
func readGreeting(conn net.Conn, want string) answer {
	buf := make([]byte, 512)
	n, err := conn.Read(buf)
	if n == 0 {
		return hangUp(err)
	}
	if got := bannerOf(buf[:n]); got != want {
		return answer{verdict: stack.Stranger, speaks: got}
	}
	return answer{verdict: stack.Answers, speaks: want}
}

// bannerOf recognises a protocol by the first bytes that a server sends.
func bannerOf(b []byte) string {
	switch {
	case bytes.HasPrefix(b, []byte("HTTP/")):
		return "http"
	case bytes.HasPrefix(b, []byte("SSH-")):
		return "ssh"
	case bytes.HasPrefix(b, []byte("220")):
		return "smtp"
	case bytes.HasPrefix(b, []byte("AMQP")):
		return "amqp"
	case len(b) > 4 && b[3] == 0 && (b[4] == 10 || b[4] == 0xff):
		return "mysql"
	case bytes.HasPrefix(b, []byte("-ERR")), bytes.HasPrefix(b, []byte("-NOAUTH")), bytes.HasPrefix(b, []byte("+PONG")):
		return "redis"
	}
	return ""
}

// identify finds out who listens, by connections of its own: first by listening, then by asking.
func identify(ctx context.Context, address string) string {
	try := func(send string, patience time.Duration) []byte {
		conn, err := dial(ctx, address)
		if err != nil {
			return nil
		}
		defer conn.Close()
		conn.SetDeadline(time.Now().Add(patience))
		if send != "" {
			if _, err := io.WriteString(conn, send); err != nil {
				return nil
			}
		}
		buf := make([]byte, 512)
		n, _ := conn.Read(buf)
		return buf[:n]
	}
	if who := bannerOf(try("", 150*time.Millisecond)); who != "" {
		return who
	}
	if who := bannerOf(try("GET / HTTP/1.0\r\n\r\n", time.Second)); who != "" {
		return who
	}
	// A PostgreSQL server answers the request for TLS with one letter.
	if got := try("\x00\x00\x00\x08\x04\xd2\x16\x2f", time.Second); len(got) == 1 && (got[0] == 'S' || got[0] == 'N') {
		return "postgres"
	}
	return "tcp"
}

// Await asks until the port gives a verdict that is good enough, or ctx ends, and returns the last
// verdict. An answer with an error is accepted after settle, since a server may need to warm up.
func Await(ctx context.Context, port int, speaks string, settle time.Duration) stack.PortCheck {
	var erring time.Time
	for pause := 2 * time.Millisecond; ; pause = min(pause*5/4+time.Millisecond, 15*time.Millisecond) {
		c := Ask(ctx, port, speaks)
		switch c.Verdict {
		case stack.Answers, stack.Stranger:
			return c
		case stack.Errs:
			if erring.IsZero() {
				erring = time.Now()
			} else if time.Since(erring) > settle {
				return c
			}
			pause = max(pause, 50*time.Millisecond)
		}
		select {
		case <-ctx.Done():
			return c
		case <-time.After(pause):
		}
	}
}

// UDPBound reports whether some program holds the UDP port.
func UDPBound(port int) bool {
	c, err := net.ListenPacket("udp", net.JoinHostPort("127.0.0.1", strconv.Itoa(port)))
	if err != nil {
		return true
	}
	c.Close()
	return false
}

// Free reports whether a program of ours could listen on the TCP port, on every address of this machine
// or, where host is not empty, on that one.
func Free(host string, port int) bool {
	hosts := []string{host}
	if host == "" {
		hosts = []string{"127.0.0.1", ""}
	}
	for _, h := range hosts {
		l, err := net.Listen("tcp", net.JoinHostPort(h, strconv.Itoa(port)))
		if err != nil {
			return !errors.Is(err, syscall.EADDRINUSE)
		}
		l.Close()
	}
	return true
}

// AskConn speaks to a connection that is open already, and closes it.
func AskConn(ctx context.Context, conn net.Conn, speaks string) stack.Verdict {
	defer conn.Close()
	return speak(ctx, conn, conn.RemoteAddr().String(), speaks).verdict
}
