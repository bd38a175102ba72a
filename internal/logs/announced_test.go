package logs

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"strings"
	"testing"
)

// TestAnnouncedIn knows where servers say that they listen, and takes no other address for that.
func TestAnnouncedIn(t *testing.T) {
	t.Parallel()
	for text, want := range map[string]int{
		"  ➜  Local:   http://localhost:5173/":            5173,
		"\x1b[32mListening on http://0.0.0.0:8095\x1b[0m": 8095,
		"Server running at http://127.0.0.1:3000/":        3000,
		"listening on :8081":                              8081,
		"Listening on port 4000":                          4000,
		"server started on port: 9090":                    9090,
		"* Listening on http://[::1]:3000":                3000,
		"2026-11-20 INFO Started HTTP server on *:8080":   8080,
		"Ready on http://counter.localhost:4600":          4600,
		"connected to http://localhost:9200":              0,
		"Error: connect ECONNREFUSED 127.0.0.1:5432":      0,
		"GET http://localhost:3000/fares 200":             0,
		"proxy /api to http://localhost:8081":             0,
		"port 8080 is in use, trying another one":         0,
		"allowed origin http://localhost:3000":            0,
		"started in 3021 ms":                              0,
		"listening on /run/quay.sock":                     0,
		"see http://localhost:8080/docs for help":         0,
		"Server listening on http://localhost:99999":      0,
		"running at 12:30":                                0,
	} {
		if got := AnnouncedIn(text); got != want {
			t.Errorf("%q announces %d, want %d", text, got, want)
		}
	}
}

// TestAnnounced reads the beginning of a log, however long it is.
func TestAnnounced(t *testing.T) {
	t.Parallel()
	root, l := begin(t, logLimit)
	log, err := l.Open("service:web")
	if err != nil {
		t.Fatal(err)
	}
	defer log.Close()
	log.Line(strings.Repeat("x", 3*maxLine))
	log.Line("listening on port 4801")
	log.Line("again: listening on port 4801")
	log.Line("Local: http://localhost:4802")
	for range early {
		log.Line("handled a request")
	}
	log.Line("listening on port 4803")
	if got := fmt.Sprint(Announced(root, "web")); got != "[4801 4802]" {
		t.Errorf("announced are %s", got)
	}
	if got := Announced(root, "nobody"); got != nil {
		t.Errorf("of a service without a log: %v", got)
	}
}

// TestReadSinceMarked reads what a process has said, without what was said before it was started.
func TestReadSinceMarked(t *testing.T) {
	t.Parallel()
	root, l := begin(t, logLimit, "canary")
	build, err := l.Open("service:web")
	if err != nil {
		t.Fatal(err)
	}
	log, err := l.Open("service:web")
	if err != nil {
		t.Fatal(err)
	}
	build.Line("step 1 of the build")
	said := func(open func() (io.ReadCloser, error)) string {
		t.Helper()
		in, err := open()
		if err != nil {
			t.Fatal(err)
		}
		defer in.Close()
		data, err := io.ReadAll(in)
		if err != nil {
			t.Fatal(err)
		}
		return string(data)
	}
	if got := said(log.Read); got != "step 1 of the build\n" {
		t.Errorf("before the mark it reads %q", got)
	}
	log.Mark()
	log.Line("the password is canary")
	log.Line("2026-11-20 of its own")
	if got := said(log.Read); got != "the password is ***\n2026-11-20 of its own\n" {
		t.Errorf("since the mark it reads %q", got)
	}
	all := said(func() (io.ReadCloser, error) { return All(root, "web") })
	if all != "step 1 of the build\nthe password is ***\n2026-11-20 of its own\n" {
		t.Errorf("all of it is %q", all)
	}
	if _, err := All(root, "../../etc/passwd"); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("of a name that leads elsewhere: %v", err)
	}
	if got := l.Masked("a canary sings"); got != "a *** sings" {
		t.Errorf("masked it is %q", got)
	}
	beside, err := Beside(root, []string{"gull"})
	if err != nil {
		t.Fatal(err)
	}
	test, err := beside.Open("step:test:.")
	if err != nil {
		t.Fatal(err)
	}
	test.Line("a gull")
	if got := said(func() (io.ReadCloser, error) {
		return All(root, Source("step:test:."))
	}); got != "a ***\n" {
		t.Errorf("beside the launch it reads %q", got)
	}
}
