package engine

import (
	"context"
	"crypto/rand"
	"encoding/binary"
	"io"
	"net"
	"net/http"

	"golang.org/x/net/http2"
	"google.golang.org/protobuf/encoding/protowire"
)

// session lets the engine's newer builder ask for secrets while it builds: HTTP/2 over one
// connection that the engine has taken over, on which it is the client and calls by gRPC. Secrets
// are kept in memory alone.
//
// One goroutine serves the connection; it ends with Close.
type session struct {
	ID   string
	conn net.Conn
}

// Calls that the builder makes, of the open protocols moby.buildkit.secrets.v1 and grpc.health.v1.
const (
	callSecret = "/moby.buildkit.secrets.v1.Secrets/GetSecret"
	callHealth = "/grpc.health.v1.Health/Check"
)

func (e *Engine) openSession(ctx context.Context, secrets map[string][]byte) (*session, error) {
	s := &session{ID: rand.Text()}
	var err error
	s.conn, err = e.cli.DialHijack(ctx, "/session", "h2c", map[string][]string{
		"X-Docker-Expose-Session-Uuid":        {s.ID},
		"X-Docker-Expose-Session-Name":        {"nharbor"},
		"X-Docker-Expose-Session-Grpc-Method": {callSecret, callHealth},
	})
	if err != nil {
		return nil, err
	}
	go (&http2.Server{}).ServeConn(s.conn, &http2.ServeConnOpts{Handler: answering(secrets)})
	return s, nil
}

// Close ends the session.
func (s *session) Close() error { return s.conn.Close() }

// Codes of gRPC.
const (
	grpcOK            = "0"
	grpcNotFound      = "5"
	grpcUnimplemented = "12"
)

// answering gives the secrets by their ids. A message of gRPC has a byte that says whether it is
// compressed, four of its length, and its own.
func answering(secrets map[string][]byte) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/grpc")
		w.Header().Set("Trailer", "Grpc-Status")
		message, err := io.ReadAll(io.LimitReader(r.Body, 1<<16))
		var out []byte
		status := grpcOK
		switch {
		case r.URL.Path == callHealth:
			// SERVING
			out = protowire.AppendVarint(protowire.AppendTag(nil, 1, protowire.VarintType), 1)
		case r.URL.Path == callSecret && err == nil && len(message) >= 5:
			id := ""
			fields(message[5:], func(number protowire.Number, value []byte) {
				if number == 1 {
					id = string(value)
				}
			})
			secret, ok := secrets[id]
			if !ok {
				status = grpcNotFound
			}
			out = protowire.AppendBytes(protowire.AppendTag(nil, 1, protowire.BytesType), secret)
		default:
			status = grpcUnimplemented
		}
		if status == grpcOK {
			w.Write(append(binary.BigEndian.AppendUint32([]byte{0}, uint32(len(out))), out...))
		}
		w.Header().Set("Grpc-Status", status)
	})
}
