package protocol

import (
	"cmp"
	"context"
	"errors"
	"io"
	"net"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"
	"unicode/utf8"

	"nimbleharbor/internal/stack"
)

// Patience is how long one question waits for an answer. The first page of a server may need
// seconds.
const Patience = 5 * time.Second

// Question is what a port is asked.
type Question struct {
	Hosts  []string // addresses of this machine, the first that accepts; nil for its loopback
	Port   int
	UDP    bool
	Speaks string // the protocol that is expected; Plain asks for nothing but that somebody accepts
	// Name is by which host name a web server is called, and Path which page is asked for; empty
	// for localhost and /.
	Name, Path string

	hasty bool // it is put again soon
}

// Ask speaks to a TCP port of this machine and gives the verdict; Service, Cause and Remedy are
// left to the caller. The protocol "tcp" asks for nothing but that somebody accepts.
func Ask(ctx context.Context, port int, speaks string) stack.PortCheck {
	return Question{Port: port, Speaks: speaks}.Put(ctx)
}

// Put puts the question.
func (q Question) Put(ctx context.Context) stack.PortCheck {
	hosts := q.Hosts
	if hosts == nil {
		hosts = []string{"127.0.0.1", "::1"}
	}
	c := stack.PortCheck{Address: net.JoinHostPort(hosts[0], strconv.Itoa(q.Port)),
		Expected: q.Speaks, Verdict: stack.Refuses}
	network := "tcp"
	if q.UDP {
		network = "udp"
	}
	for _, host := range hosts {
		address := net.JoinHostPort(host, strconv.Itoa(q.Port))
		dial := func(ctx context.Context) (net.Conn, error) {
			return (&net.Dialer{Timeout: 2 * time.Second}).DialContext(ctx, network, address)
		}
		start := time.Now()
		conn, err := dial(ctx)
		if err != nil {
			continue
		}
		c.Address = address
		a := (&talk{ctx: ctx, conn: conn, address: address, name: q.Name, path: q.Path, dial: dial,
			hasty: q.hasty}).speak(q.Speaks)
		c.Verdict, c.Speaks, c.Status, c.Title, c.Cause = a.verdict, a.speaks, a.status, a.title, a.says
		c.Said = a.said()
		c.LatencyMs = float64(time.Since(start).Microseconds()) / 1000
		if c.Verdict != stack.Refuses {
			break
		}
	}
	return c
}

// dialer opens one more connection to who is asked.
type dialer func(context.Context) (net.Conn, error)

// talk is one conversation with who is asked, on a connection at a time. speak closes all that it
// opens.
type talk struct {
	ctx        context.Context
	conn       net.Conn // nil where one more could not be had
	tls        bool     // it is inside of TLS
	address    string
	name, path string // of a web server, see Question
	dial       dialer
	hasty      bool // it is asked again soon: who else it may be does not matter

	opened *connections // all connections of the conversation
}

// connections are those that a conversation has opened. They end together.
type connections struct {
	mu    sync.Mutex
	list  []net.Conn
	ended bool
}

func (c *connections) add(conn net.Conn) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.list = append(c.list, conn)
	if c.ended {
		conn.Close()
	}
}

func (c *connections) end() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.ended = true
	for _, conn := range c.list {
		conn.Close()
	}
}

// again is the same conversation on a connection of its own; that is nil if none can be had.
func (t *talk) again() *talk {
	next := *t
	next.conn, next.tls = nil, false
	if t.dial == nil {
		return &next
	}
	conn, err := t.dial(t.ctx)
	if err != nil {
		return &next
	}
	deadline(t.ctx, conn, Patience)
	t.opened.add(conn)
	next.conn = conn
	return &next
}

// answer is what a question has shown; speaks is empty where the peer was not recognised.
type answer struct {
	verdict stack.Verdict
	speaks  string
	status  int
	title   string
	says    string // what an error answer says, or what is worth a word of a good one
	body    []byte // of a page, as far as it was read
	header  http.Header
	mail    bool // its greeting speaks of mail
}

// said is the text of an error page, for who looks for its reason.
func (a *answer) said() string {
	if a.status < 400 {
		return ""
	}
	return string(a.body)
}

// speak asks whether the peer speaks the protocol, and closes all connections.
func (t *talk) speak(speaks string) answer {
	t.opened = &connections{}
	t.opened.add(t.conn)
	defer t.opened.end()
	stop := context.AfterFunc(t.ctx, t.opened.end)
	defer stop()
	deadline(t.ctx, t.conn, Patience)
	p := Named(speaks)
	if p == nil || p.ask == nil {
		return askPlain(t.conn)
	}
	finds := !t.hasty && t.dial != nil && p.hello != web.hello
	if finds { // what is left is for finding out who it is
		deadline(t.ctx, t.conn, Patience-identifying)
	}
	a := p.ask(t)
	if t.ctx.Err() != nil && a.verdict == stack.Refuses {
		a = answer{verdict: stack.Silent} // it is we who have hung up
	}
	switch {
	case a.speaks != "":
	case a.verdict == stack.Stranger:
		a.speaks = identify(t.ctx, t.dial)
	case finds && (a.verdict == stack.Silent || a.verdict == stack.Refuses),
		!t.hasty && a.says == HungUp: // a page's silence is its own, it may be warming up
		// Who says nothing to what it does not understand is somebody else; or there is nobody
		// behind a forwarder.
		if who := identify(t.ctx, t.dial); who != Plain && who != p.Name {
			a = answer{verdict: stack.Stranger, speaks: who}
		}
	}
	if p.relative != "" && a.verdict == stack.Stranger && a.speaks == p.relative {
		a.verdict = stack.Answers
	}
	return a
}

// HungUp is the cause when a port that refuses did accept, and hung up without a word.
const HungUp = "it accepts the connection and hangs up without a word"

// hangUp tells apart a peer that closed at once, as an engine's forwarder does when nothing listens
// behind it, from one that said nothing.
func hangUp(err error) answer {
	if errors.Is(err, io.EOF) || errors.Is(err, syscall.ECONNRESET) ||
		errors.Is(err, io.ErrUnexpectedEOF) ||
		errors.Is(err, syscall.EPIPE) || errors.Is(err, syscall.ECONNREFUSED) {
		return answer{verdict: stack.Refuses, says: HungUp}
	}
	return answer{verdict: stack.Silent}
}

// identifying is how long it may take to find out who listens.
const identifying = 2200 * time.Millisecond

// knock is how long somebody who accepts has to hang up again, to be no answer.
const knock = 80 * time.Millisecond

// askPlain accepts anybody who doesn't hang up at once.
func askPlain(conn net.Conn) answer {
	conn.SetReadDeadline(time.Now().Add(knock))
	b := make([]byte, 512)
	n, err := conn.Read(b)
	if n > 0 {
		if who := bannerOf(b[:n]); who != "" {
			return answer{verdict: stack.Answers, speaks: who}
		}
	}
	if err == nil || isTimeout(err) {
		return answer{verdict: stack.Answers, speaks: Plain}
	}
	return hangUp(err)
}

func isTimeout(err error) bool {
	var n net.Error
	return errors.As(err, &n) && n.Timeout() || errors.Is(err, context.DeadlineExceeded)
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
		return greeted(buf[:n], want)
	}
}

// greeted judges a server by its greeting. Where the greeting of another protocol begins alike, it
// may be either.
func greeted(b []byte, want string) answer {
	if p := Named(want); p.complains != nil {
		if says := p.complains(b); says != "" {
			return answer{verdict: stack.Errs, speaks: want, says: says}
		}
	}
	if got := bannerOf(b); got != want && !Named(want).banner(b) {
		return answer{verdict: stack.Stranger, speaks: got, mail: mailWord.Match(b)}
	}
	return answer{verdict: stack.Answers, speaks: want}
}

// exchange makes the question for a protocol in which the client speaks first, and one reply tells.
func exchange(say string, judge func(reply []byte) (answer, bool)) func(*talk) answer {
	return func(t *talk) answer {
		if _, err := io.WriteString(t.conn, say); err != nil {
			return hangUp(err)
		}
		buf := make([]byte, 4096)
		n, err := t.conn.Read(buf)
		if n == 0 {
			return hangUp(err)
		}
		if a, ok := judge(buf[:n]); ok {
			return a
		}
		return answer{verdict: stack.Stranger, speaks: bannerOf(buf[:n])}
	}
}

// bannerOf recognises a protocol by the first bytes that a server sends; empty if none fits.
func bannerOf(b []byte) string {
	for _, p := range All {
		if p.banner != nil && p.banner(b) {
			return p.Name
		}
	}
	if isAlert(b) {
		return TLS
	}
	return ""
}

// identify finds out who listens, by connections of its own: first by listening, then by what each
// protocol says first, the web's word before all others and those at once.
func identify(ctx context.Context, dial dialer) string {
	if dial == nil {
		return Plain
	}
	if who := bannerOf(dial.try(ctx, "", 150*time.Millisecond)); who != "" {
		return who
	}
	reply := dial.try(ctx, web.hello, time.Second)
	if sentPlain.Match(reply) {
		return webTLS.Name
	}
	if who := bannerOf(reply); who != "" {
		return who
	}
	found := make([]string, len(All)+1)
	var wait sync.WaitGroup
	for i, p := range All {
		if p.hello == "" || p == web {
			continue
		}
		wait.Go(func() {
			got := dial.try(ctx, p.hello, time.Second)
			if p.hears != nil && p.hears(got) {
				found[i] = p.Name
			} else if len(got) > 0 {
				found[i] = bannerOf(got)
			}
		})
	}
	wait.Go(func() {
		if speaksTLS(ctx, dial) {
			found[len(All)] = TLS
		}
	})
	wait.Wait()
	return cmp.Or(append(found, Plain)...)
}

// try says something on a connection of its own, or nothing, and gives the beginning of what comes
// back within the time.
func (dial dialer) try(ctx context.Context, send string, patience time.Duration) []byte {
	conn, err := dial(ctx)
	if err != nil {
		return nil
	}
	defer conn.Close()
	deadline(ctx, conn, patience)
	if send != "" {
		if _, err := io.WriteString(conn, send); err != nil {
			return nil
		}
	}
	buf := make([]byte, 512)
	n, _ := conn.Read(buf)
	return buf[:n]
}

// Await asks until the port gives a verdict that is good enough, or ctx ends, and returns the last
// verdict. An answer with an error is accepted after settle, since a server may need to warm up.
func Await(ctx context.Context, port int, speaks string, settle time.Duration) stack.PortCheck {
	return Question{Port: port, Speaks: speaks}.Await(ctx, settle)
}

// Await puts the question again and again, as the function of that name does.
func (q Question) Await(ctx context.Context, settle time.Duration) stack.PortCheck {
	q.hasty = true
	var erring time.Time
	for pause := 2 * time.Millisecond; ; pause = min(pause*5/4+time.Millisecond,
		15*time.Millisecond) {
		c := q.Put(ctx)
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
	t := &talk{ctx: ctx, conn: conn, address: conn.RemoteAddr().String()}
	return t.speak(speaks).verdict
}
