package protocol

import (
	"context"
	"errors"
	"io"
	"net"
	"strconv"
	"strings"
	"syscall"
	"time"
	"unicode/utf8"

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

// talk is one connection that is being asked.
type talk struct {
	conn    net.Conn
	address string
}

// answer is what a question has shown; speaks is empty where the peer was not recognised.
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
	p := Named(speaks)
	if p == nil || p.ask == nil {
		return askPlain(conn)
	}
	a := p.ask(&talk{conn: conn, address: address})
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

// askPlain accepts anybody who doesn't hang up at once.
func askPlain(conn net.Conn) answer {
	conn.SetReadDeadline(time.Now().Add(80 * time.Millisecond))
	var b [1]byte
	_, err := conn.Read(b[:])
	if err == nil || isTimeout(err) {
		return answer{verdict: stack.Answers, speaks: Plain}
	}
	return hangUp(err)
}

func isTimeout(err error) bool {
	var n net.Error
	return errors.As(err, &n) && n.Timeout()
}

func oneLine(s string, limit int) string {
	s = strings.Join(strings.Fields(strings.ToValidUTF8(s, "")), " ")
	if utf8.RuneCountInString(s) > limit {
		s = string([]rune(s)[:limit-1]) + "…"
	}
	return s
}

// greeting makes the question for a protocol in which the server speaks first.
func greeting(want string) func(*talk) answer {
	return func(t *talk) answer {
		buf := make([]byte, 512)
		n, err := t.conn.Read(buf)
		if n == 0 {
			return hangUp(err)
		}
		if got := bannerOf(buf[:n]); got != want {
			return answer{verdict: stack.Stranger, speaks: got}
		}
		return answer{verdict: stack.Answers, speaks: want}
	}
}

// bannerOf recognises a protocol by the first bytes that a server sends; empty if none fits.
func bannerOf(b []byte) string {
	for _, p := range All {
		if p.banner != nil && p.banner(b) {
			return p.Name
		}
	}
	return ""
}

// identify finds out who listens, by connections of its own: first by listening, then by what each protocol says first.
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
	for _, p := range All {
		if p.hello == "" {
			continue
		}
		got := try(p.hello, time.Second)
		if who := bannerOf(got); who != "" {
			return who
		}
		if p.hears != nil && p.hears(got) {
			return p.Name
		}
	}
	return Plain
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

// AskConn speaks to a connection that is open already, and closes it.
func AskConn(ctx context.Context, conn net.Conn, speaks string) stack.Verdict {
	defer conn.Close()
	return speak(ctx, conn, conn.RemoteAddr().String(), speaks).verdict
}
