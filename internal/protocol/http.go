package protocol

import (
	"bufio"
	"bytes"
	"fmt"
	"html"
	"io"
	"net"
	"net/http"
	"net/url"
	"strings"
	"time"

	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/stack"
)

// web is HTTP/1.1 (RFC 9112), HTTP/2 where a server speaks nothing else (RFC 9113), and either
// inside of TLS where it speaks nothing without. Any status below 500 is an answer: a sign-in page,
// a redirection and a page that is not there all come from a server that works.
var web = &Protocol{
	Name:    "http",
	Ports:   []int{80, 3000, 4200, 5000, 5173, 8000, 8080, 8081, 8888, 9000, 15672, 8025},
	Scheme:  "http",
	schemes: expr.New(`^(http|ws)s?$`),
	implied: map[string]int{"https": 443, "wss": 443},
	ask:     (*talk).askWeb,
	banner:  func(b []byte) bool { return bytes.HasPrefix(b, []byte("HTTP/")) },
	hello:   "GET / HTTP/1.0\r\n\r\n",
}

// Limits on what a server may say: the head of its answer and the part of its body that is looked
// at, in bytes; how long the body is waited for once the head is there; how many redirections are
// followed.
const (
	maxHead      = 256 << 10
	maxBody      = 64 << 10
	bodyPatience = time.Second
	maxRedirects = 5
	handshake    = 2 * time.Second
)

var titleTag = expr.New(`(?is)<title[^>]*>(.*?)</title>`)

// refusedName are the words with which servers refuse the name that they were called by.
var refusedName = expr.New(`(?i)invalid host header|host header (is )?(not allowed|invalid)|blocked (host|request)\b|` +
	`disallowedhost|allowed_?hosts|untrusted host|host .{0,80}is not (allowed|permitted|trusted)`)

// askWeb asks for a page in whichever form of HTTP the server speaks.
func (t *talk) askWeb() answer {
	a := t.askPage()
	switch {
	case a.speaks == TLS && a.verdict == stack.Errs: // it has refused us in TLS already
	case a.speaks == TLS || a.verdict == stack.Refuses && a.says == HungUp,
		a.status == http.StatusBadRequest && sentPlain.Match(a.body):
		again := t.again()
		if again.conn == nil {
			return a
		}
		deadline(t.ctx, again.conn, handshake)
		if complaint, err := again.encrypt(t.ctx); err == nil {
			deadline(t.ctx, again.conn, Patience)
			if b := again.askPage(); b.speaks == "http" {
				b.speaks = "https"
				if b.says == "" {
					b.says = complaint
				}
				return b
			}
			return answer{verdict: stack.Stranger, speaks: TLS}
		} else if says, ok := refusal(err); ok {
			return answer{verdict: stack.Errs, speaks: TLS, says: says}
		}
		if a.verdict == stack.Refuses {
			if b := t.again().askPage2(); b.status != 0 {
				return b
			}
		}
	case a.speaks == "grpc":
		if b := t.again().askPage2(); b.speaks != "" {
			return b
		}
	}
	return a
}

// askPage asks for a page by HTTP/1.1, and follows where it leads within the host.
func (t *talk) askPage() answer {
	if t.conn == nil {
		return answer{verdict: stack.Refuses}
	}
	path := t.path
	if path == "" {
		path = "/"
	}
	first := answer{}
	for step := 0; ; step++ {
		a, location := t.page(path)
		if step == 0 {
			first = a
		}
		switch {
		case a.verdict != stack.Answers || location == "":
			return a
		case step == maxRedirects:
			a.says = fmt.Sprintf("it leads on and on, at last to %s", oneLine(location, 80))
			a.verdict = stack.Errs
			return a
		}
		next, ok := t.within(path, location)
		if !ok {
			return a
		}
		again := t.again()
		if again.conn == nil {
			return first
		}
		if t.tls {
			if _, err := again.encrypt(t.ctx); err != nil {
				return first
			}
		}
		t.conn, path = again.conn, next
	}
}

// within is where a redirection leads, if that is the same server by the same protocol.
func (t *talk) within(from, location string) (string, bool) {
	base, err := url.Parse("http://" + t.hostHeader() + from)
	if err != nil {
		return "", false
	}
	to, err := base.Parse(location)
	if err != nil || to.Scheme == "https" && !t.tls || to.Scheme != "https" && to.Scheme != "http" {
		return "", false
	}
	if to.Port() != base.Port() || to.Hostname() != base.Hostname() &&
		to.Hostname() != "127.0.0.1" {
		return "", false
	}
	if to.RequestURI() == from {
		return "", false
	}
	return to.RequestURI(), true
}

// page asks for one page. The location is where it leads instead, if it does.
func (t *talk) page(path string) (answer, string) {
	req, err := http.NewRequest(http.MethodGet, "http://"+t.hostHeader()+path, nil)
	if err != nil {
		return answer{verdict: stack.Silent}, ""
	}
	req.Header.Set("Accept", "text/html, application/json, */*")
	req.Header.Set("User-Agent", "nharbor")
	req.Close = true
	if err := req.Write(t.conn); err != nil {
		return hangUp(err), ""
	}
	r := bufio.NewReader(io.LimitReader(t.conn, maxHead+maxBody))
	start, err := r.Peek(5)
	if len(start) == 0 {
		if says, ok := refusal(err); ok && t.tls {
			return answer{verdict: stack.Errs, speaks: TLS, says: says}, ""
		}
		return hangUp(err), ""
	}
	if string(start) != "HTTP/" {
		if isAlert(start) {
			return answer{verdict: stack.Stranger, speaks: TLS}, ""
		}
		rest, _ := r.Peek(r.Buffered())
		return answer{verdict: stack.Stranger, speaks: bannerOf(rest)}, ""
	}
	resp, err := http.ReadResponse(r, req)
	if err != nil {
		return answer{verdict: stack.Stranger, speaks: Plain,
			says: "it begins like HTTP and goes on otherwise"}, ""
	}
	defer resp.Body.Close()
	deadline(t.ctx, t.conn, bodyPatience)
	body, _ := io.ReadAll(io.LimitReader(resp.Body, maxBody))
	return judgePage(resp, body), leads(resp)
}

func leads(resp *http.Response) string {
	if resp.StatusCode >= 300 && resp.StatusCode < 400 {
		return resp.Header.Get("Location")
	}
	return ""
}

// judgePage is what a page shows of its server.
func judgePage(resp *http.Response, body []byte) answer {
	a := answer{verdict: stack.Answers, speaks: "http", status: resp.StatusCode, body: body,
		header: resp.Header}
	if m := titleTag.FindSubmatch(body); m != nil {
		a.title = oneLine(html.UnescapeString(string(m[1])), 80)
	}
	switch refused := resp.StatusCode == 400 || resp.StatusCode == 403 || resp.StatusCode == 421; {
	case resp.StatusCode >= 500:
		a.verdict, a.says = stack.Errs, fmt.Sprintf("it answers with status %d", resp.StatusCode)
	case refused && refusedName.Match(body[:min(len(body), 8<<10)]):
		a.verdict, a.says = stack.Errs, "it refuses the host name it was called by"
	}
	return a
}

// hostHeader is the address as a browser would write it.
func (t *talk) hostHeader() string {
	name := t.name
	if name == "" {
		name = "localhost"
	}
	_, port, err := net.SplitHostPort(t.address)
	if err != nil || strings.Contains(name, ":") {
		return name
	}
	return net.JoinHostPort(name, port)
}

// askNamed asks for a page, and whether it is that of the protocol.
func (t *talk) askNamed(name string, is func(*answer) bool) answer {
	a := t.askWeb()
	if a.status == 0 || a.verdict == stack.Stranger {
		return a
	}
	if is(&a) {
		if a.speaks == "https" && a.says == "" {
			a.says = "inside of TLS: its address begins with https://"
		}
		a.speaks = name
		return a
	}
	if a.verdict == stack.Errs { // whose error page this is can't be told
		return a
	}
	return answer{verdict: stack.Stranger, speaks: "http", status: a.status, title: a.title}
}
