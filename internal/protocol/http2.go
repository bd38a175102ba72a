package protocol

import (
	"bytes"
	"context"
	"io"
	"net"
	"net/http"
	"strings"

	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/stack"
)

// grpc is gRPC over HTTP/2 without TLS, asked for its health (the health checking protocol,
// grpc.health.v1). A server without that service answers too, and says so.
var grpc = &Protocol{
	Name:    "grpc",
	Ports:   []int{50051},
	Scheme:  "grpc",
	schemes: expr.New(`^grpcs?$`),
	ask:     (*talk).askHealth,
	hello:   "PRI * HTTP/2.0\r\n\r\nSM\r\n\r\n\x00\x00\x00\x04\x00\x00\x00\x00\x00",
	// A server's settings come first (RFC 9113, section 3.4): a frame of type 4 on stream 0.
	banner: func(b []byte) bool {
		return len(b) >= 9 && b[0] == 0 && int(b[2])%6 == 0 && b[3] == 4 &&
			bytes.Equal(b[5:9], make([]byte, 4))
	},
}

// over2 asks one thing over HTTP/2 with prior knowledge.
func (t *talk) over2(req *http.Request) (*http.Response, []byte, error) {
	var only http.Protocols
	only.SetUnencryptedHTTP2(true)
	tr := &http.Transport{Protocols: &only, DisableCompression: true,
		DialContext: func(context.Context, string, string) (net.Conn, error) { return t.conn, nil }}
	defer tr.CloseIdleConnections()
	ctx, cancel := context.WithTimeout(t.ctx, Patience)
	defer cancel()
	resp, err := tr.RoundTrip(req.WithContext(ctx))
	if err != nil {
		return nil, nil, err
	}
	defer resp.Body.Close()
	body, err := io.ReadAll(io.LimitReader(resp.Body, maxBody))
	return resp, body, err
}

// askPage2 asks for a page by HTTP/2.
func (t *talk) askPage2() answer {
	if t.conn == nil {
		return answer{}
	}
	req, err := http.NewRequest(http.MethodGet, "http://"+t.hostHeader()+"/", nil)
	if err != nil {
		return answer{}
	}
	resp, body, err := t.over2(req)
	if resp == nil {
		return answer{verdict: stack.Stranger, speaks: "grpc", says: errorText(err)}
	}
	if isGRPC(resp) {
		return answer{verdict: stack.Stranger, speaks: "grpc"}
	}
	a := judgePage(resp, body)
	if a.says == "" {
		a.says = "it speaks HTTP/2 alone"
	}
	return a
}

func isGRPC(resp *http.Response) bool {
	return strings.HasPrefix(resp.Header.Get("Content-Type"), "application/grpc")
}

func errorText(err error) string {
	if err == nil {
		return ""
	}
	return oneLine(err.Error(), 120)
}

func (t *talk) askHealth() answer {
	// A message of no bytes asks for the server as a whole.
	req, err := http.NewRequest(http.MethodPost,
		"http://"+t.hostHeader()+"/grpc.health.v1.Health/Check", bytes.NewReader(make([]byte, 5)))
	if err != nil {
		return answer{verdict: stack.Silent}
	}
	req.Header.Set("Content-Type", "application/grpc")
	req.Header.Set("Te", "trailers")
	resp, body, err := t.over2(req)
	switch {
	case resp == nil && isTimeout(err):
		return answer{verdict: stack.Silent}
	case resp == nil:
		return hangUpOr(err, answer{verdict: stack.Stranger})
	case !isGRPC(resp):
		return answer{verdict: stack.Stranger, speaks: "http", status: resp.StatusCode}
	}
	status := resp.Trailer.Get("Grpc-Status")
	if status == "" {
		status = resp.Header.Get("Grpc-Status")
	}
	const serving = "\x08\x01" // field 1, status SERVING
	a := answer{verdict: stack.Answers, speaks: "grpc"}
	switch {
	case status == "0" && len(body) >= 5 && string(body[5:]) != serving:
		a.verdict, a.says = stack.Errs, "its health service says that it is not serving"
	case status == "12":
		a.says = "it has no health service to be asked"
	case status == "14" || status == "13" || status == "2":
		a.verdict, a.says = stack.Errs, "its health service fails with gRPC status "+status
	}
	return a
}
