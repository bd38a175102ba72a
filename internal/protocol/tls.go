package protocol

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"net"
	"strings"
	"time"

	"nimbleharbor/internal/expr"
	"nimbleharbor/internal/stack"
)

// TLS is the name for a server that speaks TLS, where what lies inside was not asked for.
const TLS = "tls"

// encrypt makes the conversation one inside of TLS (RFC 8446). Whoever signed the certificate is
// believed: on one's own machine it is mostly the server itself. It also tells what a browser would
// complain of.
func (t *talk) encrypt(ctx context.Context) (complaint string, err error) {
	name := t.name
	if name == "" {
		name = "localhost"
	}
	conn := tls.Client(t.conn, &tls.Config{InsecureSkipVerify: true, ServerName: name,
		MinVersion: tls.VersionTLS10})
	if err := conn.HandshakeContext(ctx); err != nil {
		return "", err
	}
	t.conn, t.tls = conn, true
	return ofCertificate(conn.ConnectionState().PeerCertificates, time.Now()), nil
}

// ofCertificate tells what is wrong with a certificate's time; a server's own signature is fine.
func ofCertificate(chain []*x509.Certificate, now time.Time) string {
	if len(chain) == 0 {
		return ""
	}
	switch c := chain[0]; {
	case now.After(c.NotAfter):
		return "its certificate has expired on " + c.NotAfter.UTC().Format(time.DateOnly)
	case now.Before(c.NotBefore):
		return "its certificate is not valid before " + c.NotBefore.UTC().Format(time.DateOnly)
	case c.NotAfter.Sub(now) < 7*24*time.Hour:
		return "its certificate expires on " + c.NotAfter.UTC().Format(time.DateOnly)
	}
	return ""
}

// refusal tells an answer in TLS that refuses us from no TLS at all: a server that wants a
// certificate of ours, or another version, speaks TLS.
func refusal(err error) (string, bool) {
	var alert tls.AlertError
	if errors.As(err, &alert) {
		return "the TLS handshake fails: " + alert.Error(), true
	}
	var record tls.RecordHeaderError
	if errors.As(err, &record) {
		return "", false
	}
	if strings.Contains(err.Error(), "tls: ") {
		return "the TLS handshake fails: " + oneLine(err.Error(), 120), true
	}
	return "", false
}

// isAlert recognises a TLS record that says no: the answer of a server that heard something else
// than TLS.
func isAlert(b []byte) bool { return len(b) >= 3 && b[0] == 0x15 && b[1] == 3 && b[2] <= 4 }

// speaksTLS reports whether a handshake gets anywhere with who listens there.
func speaksTLS(ctx context.Context, dial dialer) bool {
	conn, err := dial(ctx)
	if err != nil {
		return false
	}
	defer conn.Close()
	deadline(ctx, conn, handshake)
	if _, err = (&talk{conn: conn}).encrypt(ctx); err == nil {
		return true
	}
	_, refused := refusal(err)
	return refused
}

// webTLS is HTTP inside of TLS (RFC 9110, section 4.2.2).
var webTLS = &Protocol{
	Name:     "https",
	Ports:    []int{443, 8443},
	Scheme:   "https",
	ask:      (*talk).askTLS,
	relative: "http",
}

// askTLS asks for a page inside of TLS. Who speaks plain HTTP where TLS was only supposed answers
// too, and it is said.
func (t *talk) askTLS() answer {
	complaint, err := t.encrypt(t.ctx)
	if err != nil {
		if says, ok := refusal(err); ok {
			return answer{verdict: stack.Errs, speaks: TLS, says: says}
		}
		if a := t.again().askPage(); a.speaks == "http" {
			return a
		}
		return hangUpOr(err, answer{verdict: stack.Stranger})
	}
	a := t.askPage()
	if a.speaks == "http" {
		a.speaks = "https"
	}
	if a.says == "" {
		a.says = complaint
	}
	return a
}

// sentPlain are the words with which a TLS server refuses plain HTTP, in HTTP.
var sentPlain = expr.New(`(?i)plain HTTP request was sent to HTTPS|HTTP request to an HTTPS server|` +
	`requires? (TLS|SSL|HTTPS)|use HTTPS|speaking plain HTTP to an SSL`)

func hangUpOr(err error, other answer) answer {
	if a := hangUp(err); a.verdict == stack.Refuses || isTimeout(err) {
		return a
	}
	return other
}

// deadline gives a connection until then, or until the context ends.
func deadline(ctx context.Context, conn net.Conn, patience time.Duration) {
	at := time.Now().Add(patience)
	if d, ok := ctx.Deadline(); ok && d.Before(at) {
		at = d
	}
	conn.SetDeadline(at)
}
