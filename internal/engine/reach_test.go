package engine_test

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"math/big"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"nimbleharbor/internal/diagnose"
	"nimbleharbor/internal/engine"
	"nimbleharbor/internal/engine/standin"
)

// certificates writes a certificate that is its own authority, for both sides, and gives the
// server's.
func certificates(t *testing.T, dir string) tls.Certificate {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	template := &x509.Certificate{SerialNumber: big.NewInt(1), NotAfter: time.Now().Add(time.Hour),
		IsCA:                  true,
		BasicConstraintsValid: true, IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)},
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth, x509.ExtKeyUsageClientAuth}}
	cert, err := x509.CreateCertificate(rand.Reader, template, template, key.Public(), key)
	if err != nil {
		t.Fatal(err)
	}
	secret, err := x509.MarshalECPrivateKey(key)
	if err != nil {
		t.Fatal(err)
	}
	certPEM := pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: cert})
	keyPEM := pem.EncodeToMemory(&pem.Block{Type: "EC PRIVATE KEY", Bytes: secret})
	for name, data := range map[string][]byte{"ca.pem": certPEM, "cert.pem": certPEM,
		"key.pem": keyPEM} {
		if err := os.WriteFile(filepath.Join(dir, name), data, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	pair, err := tls.X509KeyPair(certPEM, keyPEM)
	if err != nil {
		t.Fatal(err)
	}
	return pair
}

// TestReached reaches one engine in every way: over TLS by the environment's certificates and by a
// context's, and through ssh, for which another program stands.
func TestReached(t *testing.T) {
	dir, err := os.MkdirTemp("", "nh")
	if err != nil {
		t.Fatal(err)
	}
	defer os.RemoveAll(dir)
	socket := filepath.Join(dir, "s")
	s, err := standin.Start(socket, filepath.Join(dir, "state"),
		map[string]standin.Image{"tiny:1": {}})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	config := filepath.Join(dir, "config")
	t.Setenv("DOCKER_CONFIG", config)
	t.Setenv("DOCKER_HOST", "")
	t.Setenv("DOCKER_CONTEXT", "")
	sum := sha256.Sum256([]byte("bigger"))
	meta, certs := filepath.Join(config, "contexts", "meta", hex.EncodeToString(sum[:])),
		filepath.Join(config, "contexts", "tls", hex.EncodeToString(sum[:]), "docker")
	for _, folder := range []string{meta, certs, filepath.Join(dir, "bin")} {
		if err := os.MkdirAll(folder, 0o700); err != nil {
			t.Fatal(err)
		}
	}
	pair := certificates(t, certs)
	pool := x509.NewCertPool()
	data, err := os.ReadFile(filepath.Join(certs, "ca.pem"))
	if err != nil {
		t.Fatal(err)
	}
	pool.AppendCertsFromPEM(data)
	l, err := tls.Listen("tcp", "127.0.0.1:0",
		&tls.Config{Certificates: []tls.Certificate{pair}, ClientCAs: pool,
			ClientAuth: tls.RequireAndVerifyClientCert})
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	go proxy(l, socket)
	address := "tcp://" + l.Addr().String()
	kept, err := json.Marshal(map[string]any{"Name": "bigger",
		"Endpoints": map[string]any{"docker": map[string]any{
			"Host": address}}})
	if err == nil {
		err = os.WriteFile(filepath.Join(meta, "meta.json"), kept, 0o600)
	}
	if err != nil {
		t.Fatal(err)
	}
	ssh := exec.Command("go", "build", "-o", filepath.Join(dir, "bin", "ssh"), "./testdata/dial")
	if out, err := ssh.CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	path := filepath.Join(dir, "bin") + string(os.PathListSeparator) + os.Getenv("PATH")

	for name, env := range map[string]map[string]string{
		"the environment's certificates": {"DOCKER_HOST": address, "DOCKER_CERT_PATH": certs,
			"DOCKER_CONFIG": dir},
		"a context": {"DOCKER_CONTEXT": "bigger"},
		"ssh":       {"DOCKER_HOST": "ssh://clerk@quay:2222", "PATH": path, "SOCKET": socket},
	} {
		t.Run(name, func(t *testing.T) {
			for k, v := range env {
				t.Setenv(k, v)
			}
			e, err := engine.Connect(t.Context())
			if err != nil {
				t.Fatal(err)
			}
			defer e.Close()
			if has, err := e.Images().Has(t.Context(), "tiny:1"); !has || err != nil {
				t.Errorf("it has the image: %v, %v", has, err)
			}
			far, err := net.Listen("tcp", "127.0.0.1:0")
			if err != nil {
				t.Fatal(err)
			}
			defer far.Close()
			go func() {
				if c, err := far.Accept(); err == nil {
					io.Copy(c, c)
					c.Close()
				}
			}()
			c, err := e.Dial(t.Context(), far.Addr().(*net.TCPAddr).Port)
			if err != nil {
				t.Fatal(err)
			}
			fmt.Fprint(c, "there and back")
			c.(interface{ CloseWrite() error }).CloseWrite()
			if data, err := io.ReadAll(c); err != nil || string(data) != "there and back" {
				t.Errorf("a port of its machine gives %q, %v", data, err)
			}
			c.Close()
		})
	}

	t.Setenv("PATH", path)
	t.Setenv("SOCKET", "")
	for address, says := range map[string]string{"ssh://clerk@quay": "Permission denied",
		"ssh://-oX=y": "names no machine", "ssh://-l@quay": "names no machine"} {
		t.Setenv("DOCKER_CONFIG", dir)
		_, err := engine.At(t.Context(), address)
		var u *engine.Unavailable
		if !errors.As(err, &u) || !strings.Contains(u.Cause.Error(), says) ||
			says == "Permission denied" && u.Lack != diagnose.NotReached {
			t.Errorf("%s: %v (%+v)", address, err, u)
		}
	}
}

// proxy leads connections to a socket.
func proxy(l net.Listener, socket string) {
	for {
		near, err := l.Accept()
		if err != nil {
			return
		}
		go func() {
			defer near.Close()
			far, err := net.Dial("unix", socket)
			if err != nil {
				return
			}
			defer far.Close()
			go io.Copy(far, near)
			io.Copy(near, far)
		}()
	}
}
