package protocol

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"io"
	"log"
	"math/big"
	"net"
	"net/http"
	"strings"
	"testing"
	"time"

	"nimbleharbor/internal/stack"
	"nimbleharbor/internal/testbound"
)

// certificate is one that a server has signed itself, valid until then.
func certificate(t testing.TB, until time.Time) tls.Certificate {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	c := &x509.Certificate{SerialNumber: big.NewInt(1), NotBefore: until.Add(-1000 * time.Hour),
		NotAfter: until, DNSNames: []string{"localhost"}}
	der, err := x509.CreateCertificate(rand.Reader, c, c, &key.PublicKey, key)
	if err != nil {
		t.Fatal(err)
	}
	return tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}
}

// web serves pages until the test ends, and gives the port.
func serveWeb(t *testing.T, s *http.Server, config *tls.Config) int {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	port := l.Addr().(*net.TCPAddr).Port
	if config != nil {
		l = tls.NewListener(l, config)
	}
	done := make(chan struct{})
	go func() {
		defer close(done)
		s.Serve(l)
	}()
	t.Cleanup(func() {
		s.Close()
		testbound.Got(t, "the server to end", done)
	})
	return port
}

var quiet = log.New(io.Discard, "", 0)

func TestAskThroughTLS(t *testing.T) {
	t.Parallel()
	hello := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/" {
			http.Redirect(w, r, "/counter", http.StatusFound)
			return
		}
		io.WriteString(w, "<title>behind the lock</title>")
	})
	good := tls.Config{Certificates: []tls.Certificate{certificate(t,
		time.Now().Add(1000*time.Hour))}}
	old := tls.Config{Certificates: []tls.Certificate{certificate(t, time.Now().Add(-time.Hour))}}
	asks := tls.Config{Certificates: good.Certificates, ClientAuth: tls.RequireAnyClientCert}
	plain := serveWeb(t, &http.Server{Handler: hello, ErrorLog: quiet}, nil)
	for name, c := range map[string]struct {
		config  *tls.Config
		speaks  string
		want    stack.Verdict
		who     string
		says    string
		titled  bool
		byPlain bool
	}{
		"https":                         {&good, "https", stack.Answers, "https", "", true, false},
		"https where http was expected": {&good, "http", stack.Answers, "https", "", true, false},
		"an old certificate": {&old, "https", stack.Answers, "https", "has expired on",
			true, false},
		"a certificate of ours is asked": {&asks, "https", stack.Errs, TLS, "handshake fails",
			false, false},
		"http where https was expected": {nil, "https", stack.Answers, "http", "", true, true},
		"tls where a store was expected": {&good, "redis", stack.Stranger, "https", "", false,
			false},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			port := plain
			if !c.byPlain {
				port = serveWeb(t, &http.Server{Handler: hello, ErrorLog: quiet}, c.config.Clone())
			}
			got := Ask(t.Context(), port, c.speaks)
			if got.Verdict != c.want || c.who != "" && got.Speaks != c.who ||
				!strings.Contains(got.Cause, c.says) ||
				c.titled != (got.Title == "behind the lock") {
				t.Errorf("got %+v", got)
			}
		})
	}
}

func TestAskOverHTTP2(t *testing.T) {
	t.Parallel()
	health := func(body, status string) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if r.URL.Path == "/" {
				io.WriteString(w, "<title>two</title>")
				return
			}
			w.Header().Set("Content-Type", "application/grpc")
			w.Header().Set("Trailer", "Grpc-Status")
			io.WriteString(w, body)
			w.Header().Set("Grpc-Status", status)
		})
	}
	for name, c := range map[string]struct {
		handler http.Handler
		speaks  string
		want    stack.Verdict
		who     string
		says    string
	}{
		"a healthy service": {health("\x00\x00\x00\x00\x02\x08\x01", "0"), "grpc", stack.Answers,
			"grpc", ""},
		"one that does not serve": {
			health("\x00\x00\x00\x00\x02\x08\x02", "0"), "grpc", stack.Errs, "grpc", "not serving",
		},
		"a service that tells not": {health("", "12"), "grpc", stack.Answers, "grpc",
			"no health service"},
		"a page of HTTP/2 alone": {health("", "12"), "http", stack.Answers, "http",
			"HTTP/2 alone"},
		"what was taken for a store": {health("", "12"), "redis", stack.Stranger, "grpc", ""},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			var only http.Protocols
			only.SetUnencryptedHTTP2(true)
			port := serveWeb(t, &http.Server{Handler: c.handler, Protocols: &only}, nil)
			got := Ask(t.Context(), port, c.speaks)
			if got.Verdict != c.want || got.Speaks != c.who ||
				!strings.Contains(got.Cause, c.says) {
				t.Errorf("got %+v", got)
			}
		})
	}
}

func TestAskOverUDP(t *testing.T) {
	t.Parallel()
	c, err := net.ListenPacket("udp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	go func() {
		buf := make([]byte, 512)
		for {
			n, from, err := c.ReadFrom(buf)
			if err != nil {
				return
			}
			buf[2] |= 0x80
			c.WriteTo(buf[:n], from)
		}
	}()
	q := Question{Port: c.LocalAddr().(*net.UDPAddr).Port, UDP: true, Speaks: "dns"}
	if got := q.Put(t.Context()); got.Verdict != stack.Answers || got.Speaks != "dns" {
		t.Errorf("got %+v", got)
	}
	nobody, _ := net.ListenPacket("udp", "127.0.0.1:0")
	q.Port = nobody.LocalAddr().(*net.UDPAddr).Port
	nobody.Close()
	if got := q.Put(t.Context()); got.Verdict != stack.Refuses {
		t.Errorf("of nobody: %+v", got)
	}
}

// TestAskByName asks a server that answers to one name alone.
func TestAskByName(t *testing.T) {
	t.Parallel()
	port := serveWeb(t, &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter,
		r *http.Request) {
		if !strings.HasPrefix(r.Host, "tickets.localhost:") || r.URL.Path != "/sell" {
			http.NotFound(w, r)
		}
	})}, nil)
	q := Question{Port: port, Speaks: "http"}
	if got := q.Put(t.Context()); got.Status != 404 {
		t.Errorf("got %+v", got)
	}
	q.Name, q.Path = "tickets.localhost", "/sell"
	if got := q.Put(t.Context()); got.Status != 200 {
		t.Errorf("by its name: %+v", got)
	}
}

// FuzzReplies lets a peer say anything to every question: each must end, with a verdict.
func FuzzReplies(f *testing.F) {
	f.Add(byte(0), []byte("HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\nfffffffffff\r\n"))
	f.Add(byte(3), []byte("\x00\x00\x06\x04\x00\x00\x00\x00\x00\x00\x03\x00\x00\x00\x64"))
	f.Add(byte(4), []byte("E\xff\xff\xff\xff"))
	f.Add(byte(15), []byte("\x30\x0c\x02\x01\x01\x61"))
	f.Add(byte(21), []byte("\x00\x02nh"))
	f.Fuzz(func(t *testing.T, which byte, reply []byte) {
		p := All[int(which)%len(All)]
		ours, theirs := net.Pipe()
		ctx, cancel := context.WithTimeout(t.Context(), time.Second)
		defer cancel()
		go func() {
			defer theirs.Close()
			go io.Copy(io.Discard, theirs)
			theirs.Write(reply)
		}()
		if v := AskConn(ctx, ours, p.Name); v == "" {
			t.Errorf("%s gives no verdict", p.Name)
		}
	})
}

// BenchmarkAskMany asks 1,000 ports at once, 100 of which say nothing. What is asked is the
// time-out and 300 ms.
func BenchmarkAskMany(b *testing.B) {
	var ports []int
	for i := range 1000 {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			b.Fatal(err)
		}
		defer l.Close()
		ports = append(ports, l.Addr().(*net.TCPAddr).Port)
		go func() {
			for {
				c, err := l.Accept()
				if err != nil {
					return
				}
				go func() {
					defer c.Close()
					if i%10 == 0 {
						io.Copy(io.Discard, c)
						return
					}
					c.Read(make([]byte, 512))
					io.WriteString(c, "HTTP/1.1 200 OK\r\nContent-Length: 0\r\n\r\n")
				}()
			}
		}()
	}
	for b.Loop() {
		verdicts := make(chan stack.Verdict)
		for _, port := range ports {
			go func() { verdicts <- Ask(b.Context(), port, "http").Verdict }()
		}
		count := map[stack.Verdict]int{}
		for range ports {
			count[<-verdicts]++
		}
		if count[stack.Silent] != 100 || count[stack.Answers] != 900 {
			b.Fatalf("got %v", count)
		}
	}
	b.ReportMetric(float64(b.Elapsed().Milliseconds())/float64(b.N)-float64(Patience.Milliseconds()), "ms-over/op")
}
