package protocol

import (
	"bufio"
	"crypto/rand"
	"encoding/base64"
	"io"
	"net/http"

	"nimbleharbor/internal/stack"
)

// websocket is RFC 6455, asked to change over from HTTP. A server that answers in HTTP and does not
// change over on this path answers all the same: where it would is its own business.
var websocket = &Protocol{
	Name:     "websocket",
	Ports:    []int{6001},
	Scheme:   "ws",
	ask:      askWebsocket,
	byUse:    true,
	relative: "http",
}

func askWebsocket(t *talk) answer {
	path := t.path
	if path == "" {
		path = "/"
	}
	req, err := http.NewRequest(http.MethodGet, "http://"+t.hostHeader()+path, nil)
	if err != nil {
		return answer{verdict: stack.Silent}
	}
	key := make([]byte, 16)
	rand.Read(key)
	req.Header.Set("Connection", "Upgrade")
	req.Header.Set("Upgrade", "websocket")
	req.Header.Set("Sec-WebSocket-Version", "13")
	req.Header.Set("Sec-WebSocket-Key", base64.StdEncoding.EncodeToString(key))
	if err := req.Write(t.conn); err != nil {
		return hangUp(err)
	}
	r := bufio.NewReader(io.LimitReader(t.conn, maxHead))
	start, err := r.Peek(5)
	if len(start) == 0 {
		return hangUp(err)
	}
	resp, err := http.ReadResponse(r, req)
	if err != nil {
		return answer{verdict: stack.Stranger, speaks: bannerOf(start)}
	}
	switch {
	case resp.StatusCode == http.StatusSwitchingProtocols:
		return answer{verdict: stack.Answers, speaks: "websocket"}
	case resp.StatusCode >= 500:
		return judgePage(resp, nil)
	}
	a := answer{verdict: stack.Answers, speaks: "http", status: resp.StatusCode}
	a.says = "it speaks HTTP, and does not change over to websocket on " + path
	return a
}
