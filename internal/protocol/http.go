package protocol

import (
	"bufio"
	"bytes"
	"fmt"
	"html"
	"io"
	"net"
	"net/http"

	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/stack"
)

// web is HTTP/1.1 (RFC 9112). Any status below 500 is an answer: a sign-in page, a redirection and a page that is not
// there all come from a server that works.
var web = &Protocol{
	Name:    "http",
	Ports:   []int{80, 3000, 4200, 5000, 5173, 8000, 8080, 8081, 8888, 9000, 15672, 8025},
	Scheme:  "http",
	schemes: expr.New(`^(http|ws)s?$`),
	implied: map[string]int{"https": 443, "wss": 443},
	ask:     askHTTP,
	banner:  func(b []byte) bool { return bytes.HasPrefix(b, []byte("HTTP/")) },
	hello:   "GET / HTTP/1.0\r\n\r\n",
}

var titleTag = expr.New(`(?is)<title[^>]*>(.*?)</title>`)

func askHTTP(t *talk) answer {
	req, err := http.NewRequest(http.MethodGet, "http://"+localName(t.address)+"/", nil)
	if err != nil {
		return answer{verdict: stack.Silent}
	}
	req.Header.Set("Accept", "text/html, application/json, */*")
	req.Header.Set("User-Agent", "nharbor")
	req.Close = true
	if err := req.Write(t.conn); err != nil {
		return hangUp(err)
	}
	r := bufio.NewReader(t.conn)
	first, err := r.Peek(5)
	if len(first) == 0 {
		return hangUp(err)
	}
	if string(first) != "HTTP/" {
		return answer{verdict: stack.Stranger, speaks: bannerOf(first)}
	}
	resp, err := http.ReadResponse(r, req)
	if err != nil {
		return answer{verdict: stack.Stranger, speaks: Plain}
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
